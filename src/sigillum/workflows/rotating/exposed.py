"""What has to be looked at when a key is known to others: where it was, who used it, what stands that nobody here made."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import NamedTuple

from sigillum.core.charter.charter import Charter, CredentialWant
from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.history import Generation, History
from sigillum.core.undertakings.loans import LOANS, OVER
from sigillum.core.undertakings.rotation import tokens_over
from sigillum.core.values.times import format_instant
from sigillum.tenants.port import Tenant
from sigillum.workflows.desk.office import Office
from sigillum.workflows.handing.handover import handed
from sigillum.workflows.proving.ways_in import others


class Suspicion(NamedTuple):
    """Something that whoever had the key may have made or used, and what stops it (a command, or what to do)."""

    what: str
    stops: str


class Exposure(NamedTuple):
    """`places`: where the key was known to be. `told`: does the tenant tell when it was used? `tokens_until`: until when tokens
    that were got with it may live, if it is switched off now.
    """

    places: tuple[str, ...]
    told: bool
    used_at: datetime | None
    used_from: str
    suspicions: tuple[Suspicion, ...]
    tokens_until: datetime


def exposure(office: Office, charter: Charter, state: History, want: CredentialWant, old: Generation) -> Exposure:
    """Look; nothing is changed. Raises UnreachableError."""
    tenant = office.tenants.reach(charter.tenant)
    query = Query(CREDENTIAL, "id", old.id)
    record = tenant.facts([query])[query].first
    body, profile = record.body if record is not None else None, tenant.profile
    return Exposure(
        tuple(_places(office, charter, state, want, old)),
        profile.last_used in ("second", "day"),
        body.used_at if body is not None else None,
        body.used_from if body is not None else "",
        tuple(_suspicions(office, charter, state, tenant)),
        tokens_over(profile, office.tenants.now(charter.tenant)),
    )


def _places(office: Office, charter: Charter, state: History, want: CredentialWant, old: Generation) -> Iterator[str]:
    """Every place where it was known to be."""
    keys = office.keepings.of(state.charter)
    for path in (keys.path(want.name, old.number), keys.current(want.name)):
        if path.exists() and (path != keys.current(want.name) or keys.serving(want.name) == old.number):
            yield f"the file {path.relative_to(office.workspace.folder)}"
    if not want.held_here:
        yield "with its holder, who has the private half"
    for consumer in want.consumers:
        yield f"with the consumer {consumer}"
    for body in handed(office, charter.name):
        if body.get("credential") == want.name and body.get("generation") == old.number:
            yield f"in the sheet that {body['to']} got at {body['at']}"


def _suspicions(office: Office, charter: Charter, state: History, tenant: Tenant) -> Iterator[Suspicion]:
    """Keys and grants of the identity that nobody here made, and what is lent to it."""
    identity, name = state.principal_id(tenant.address.name), tenant.address.name
    if not identity:
        return
    keys, grants = Query(CREDENTIAL, "principal", identity), Query(GRANT, "principal", identity)
    facts = tenant.facts([keys, *([grants] if tenant.profile.carried(GRANT) is not None else [])])
    loans = [loan for loan in office.books.about(LOANS, identity) if loan.stage(office.tenants.now(name)) not in OVER]
    for key in facts[keys].records:
        if state.owns("credential", name, key.id, key.mark) is None:
            yield Suspicion(
                f"the credential {key.body.name or key.id}, which nobody here made",
                f"sigillum suspend --key {key.body.thumbprint} --because ..." if key.body.thumbprint else "end it there",
            )
    lent = {loan.generation.id for loan in loans if loan.generation is not None}
    for grant in facts[grants].records if grants in facts else ():
        if grant.id not in lent and state.owns("grant", name, grant.id, grant.mark) is None:
            yield Suspicion(
                f"{grant.body.role} at {grant.body.place or 'a place'}, which nobody here granted",
                f"sigillum enact {charter.name} --end-extra",
            )
    for other in others(tenant, charter, state, identity):
        kind, record = other.record.kind, other.record
        if not office.books.owner(name, kind, record.id) and record.id not in lent and not office.books.lent(record.mark):
            yield Suspicion(f"{other.words}, which nobody here made", "end it there")
    for loan in loans:
        yield Suspicion(f"{loan.about}, lent until {format_instant(loan.until)}", f"sigillum recall {loan.number}")
