"""Why a sign-in was refused, as far as the tenant shows it: a token endpoint says only that it was (RFC 6749 §5.2)."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Any

from sigillum.core.kinds.identities import ACCOUNT, PRINCIPAL
from sigillum.core.kinds.kind import Kind, Query, Record
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.errors import RefusedError, SigillumError
from sigillum.core.values.times import format_instant
from sigillum.tenants.port import Proof, Tenant, now_at


@contextmanager
def explained(tenant: Tenant, proof: Proof, charter: str) -> Iterator[None]:
    """What is refused in here says its cause and what to do about that, where the tenant shows it."""
    try:
        yield
    except RefusedError as problem:
        if cause := _cause(tenant, proof, charter):
            problem.what, problem.mend = f"{problem.what}; {cause[0]}", cause[1]
        raise


def _cause(tenant: Tenant, proof: Proof, charter: str) -> tuple[str, str] | None:
    """What the tenant shows of the account and of the credential now; None where it shows neither."""
    try:
        who = next((r for k in (ACCOUNT, PRINCIPAL) if (r := _read(tenant, k, proof.principal)) is not None), None)
        credential = _read(tenant, CREDENTIAL, proof.credential) if proof.credential else None
    except (SigillumError, KeyError):
        return None
    now = now_at(tenant, datetime.now(UTC))
    if who is not None and who.denies(active=True):
        return f"the tenant shows {who.value('name')} as off", f"`sigillum rehearse {charter}` shows whose hand that was"
    if who is None:
        return "the tenant shows no such account any more", f"`sigillum rehearse {charter}` shows what is missing"
    if not proof.credential:
        return None
    if credential is None:
        return "the tenant shows no such credential any more", f"`sigillum enact {charter}` creates the next one"
    until, start = credential.value("until"), credential.value("start")
    if isinstance(until, datetime) and until <= now:
        return f"it expired at {format_instant(until)}", f"`sigillum enact {charter}` creates the next one"
    if isinstance(start, datetime) and start > now:
        return f"it is valid only from {format_instant(start)}", "try again then"
    if credential.denies(active=True):
        return "the tenant shows it as off", f"`sigillum rehearse {charter}` shows whose hand that was"
    return "the tenant shows the account and the credential as valid", (
        "`sigillum rehearse` compares the key kept here with the registered one; `sigillum tenant inspect` shows its clock"
    )


def _read(tenant: Tenant, kind: Kind[Any], identity: str) -> Record[Any] | None:
    """Raises KeyError where the tenant shows nothing of the kind."""
    query = Query(kind, "id", identity)
    fact = tenant.facts([query])[query]
    if not fact.known:
        raise KeyError(kind.name)
    return fact.first
