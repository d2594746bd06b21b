"""Answering a request that arrived: compare it anew, carry it out where the power is, and write a signed receipt."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.registry import KINDS
from sigillum.core.records import history, requests
from sigillum.core.records.requests import RECEIPT, Request
from sigillum.core.records.steps import Outline, Step
from sigillum.core.values.asked import fits
from sigillum.core.values.errors import SomebodyError, UsageError
from sigillum.core.values.times import format_instant, whole_second
from sigillum.keys import signed
from sigillum.ledger.port import Fresh
from sigillum.tenants.port import Tenant
from sigillum.workflows.desk.books import writer_name
from sigillum.workflows.desk.office import CLAIM, Office, nothing
from sigillum.workflows.desk.tenants import time_of
from sigillum.workflows.enacting.carrying.run import Became, Carrying, StepResult

from .asking import put
from .requests import read_json, signer_words


@dataclass(frozen=True, slots=True)
class Answering:
    """A request that arrived, compared anew: `stands` where it is so already, else `step`, done by `hand`."""

    request: Request
    tenant: str
    hand: str
    signer: str
    key_id: str
    known: bool  # is its signer known here?
    stands: Record[Any] | bool
    step: Step
    means: tuple[tuple[str, str, str], ...] = ()  # every id that would be sent: as what, itself, and what it is there


def compare(office: Office, path: Path, known: Sequence[str] = ()) -> Answering:
    """Check a request's signature and compare it with its tenant. `known`: thumbprints beside those in sigillum.yaml.

    Raises FileError, SomebodyError.
    """
    body = read_json(path)
    signer = signed.check(body, str(path))
    request = requests.read(body, str(path))
    tenants, address = office.workspace.file.tenants, request.tenant.rstrip("/")
    name = next((n for n, t in tenants.items() if t.address.rstrip("/") == address), None)
    if name is None:
        raise SomebodyError(
            f"this workspace does not know the tenant {request.tenant}",
            where=str(path),
            mend="add it with `sigillum tenant add`",
        )
    hands = [h for h in office.tenants.hands(name) if h.here]
    power = KINDS[request.thing].power  # what it takes, and not what the request says of that
    able = next((h for h in hands if h.can(power)), None)
    if able is None:
        raise SomebodyError(
            f"nobody here has the power `{power}` at {name} either",
            where=str(path),
            mend="hand the file on to somebody who does",
        )
    tenant = office.tenants.reach(name)
    facts = tenant.facts(requests.queries(request)).values()
    records = tuple(r for f in facts for r in f.records)
    unknown = next((f.unknown for f in facts if not f.known), "")
    if unknown:
        raise SomebodyError(f"it cannot be compared anew: {unknown}", where=name, mend="ask with an administrator who may look")
    version = next((r.version for r in records if r.id == request.id), "")
    step = replace(requests.step_of(request, name, version), by="" if able is hands[0] else able.name)
    stands = requests.fulfilled(request, records, tenant.profile.carried(KINDS[request.thing]))
    means = _means(tenant, request)
    return Answering(
        request,
        name,
        able.name,
        signer_words(office, signer.key_id),
        signer.key_id,
        signer.key_id in office.trusted(known, ours=True),
        stands,
        step,
        means,
    )


def _means(tenant: Tenant, request: Request) -> tuple[tuple[str, str, str], ...]:
    """What every id that would be sent stands for here, looked up by us. Raises FileError, SomebodyError."""
    out = []
    for reference in requests.references(request):
        queries = [Query(k, "id", reference.id) for k in reference.kinds if tenant.profile.carried(k) is not None]
        facts = tenant.facts(queries)
        records = [r for q in queries for r in facts[q].records]
        hidden = next((facts[q].unknown for q in queries if not facts[q].known), "")
        if hidden and not records:
            raise SomebodyError(
                f"the {reference.label} it names by {reference.id} cannot be looked up: {hidden}",
                where=request.tenant,
                mend="ask with an administrator who may look",
            )
        if not records and reference.label == "about" and request.do in (requests.END, requests.TAKE):
            continue  # it has ended already
        out.append((reference.label, reference.id, requests.standing_for(reference, records)))
    return tuple(out)


def uid_of(request: Request) -> str:
    """The stream in the ledger of what is done for a request."""
    return f"request-{request.digest[:12]}"


def answer(office: Office, found: Answering, path: Path) -> tuple[Path | None, list[StepResult]]:
    """Carry it out and write the receipt beside the request. Raises MachineError."""
    ledger, uid, results = office.books.writable_ledger(), uid_of(found.request), list[StepResult]()
    with ledger.claim(CLAIM, 0.0):
        identity = found.stands.id if isinstance(found.stands, Record) else found.request.id
        if not found.stands:
            ledger.append(
                [
                    Fresh(
                        history.RECEIVED,
                        uid,
                        {
                            "about": found.request.about,
                            "charter": found.request.charter,
                            "tenant": found.tenant,
                            "digest": found.request.digest,
                        },
                    )
                ]
            )
            state = office.books.state(uid)
            ports = office.ports(uid, found.request.charter, nothing, nothing, nothing)
            Carrying(ports, state).run(Outline(uid, (found.step,)), results.append)
            if results[0].state is not Became.DONE:
                return None, results
            identity = str(results[0].yields.get("id") or identity)
        receipt = path.with_name(path.stem + ".receipt.json")
        tenant = office.tenants.reach(found.tenant)
        put(
            receipt,
            signed.sign(
                {
                    "kind": RECEIPT,
                    "request": found.request.digest,
                    "do": found.request.do,
                    "about": found.request.about,
                    "made": not found.stands,
                    "id": identity,
                    "tenant": found.request.tenant,
                    "by": found.hand,
                    "at": format_instant(time_of(tenant)),
                },
                office.books.signing_key(),
            ),
        )
        return receipt, results


def tell(office: Office, path: Path, value: str, known: Sequence[str] = ()) -> tuple[Request, Path]:
    """Answer a request for a value: check it against its form, and write the receipt.

    Raises FileError, UsageError, SomebodyError.
    """
    body = read_json(path)
    signer, request = signed.check(body, str(path)), requests.read(body, str(path))
    if request.do != requests.TELL:
        raise UsageError("it asks for something to be done, not told", where=str(path), mend="leave --value out")
    if signer.key_id not in office.trusted(known, ours=True):
        raise SomebodyError(
            f"the request is {signer_words(office, signer.key_id)}",
            where=str(path),
            mend="compare the thumbprint with its sender on another way, and say `--from THUMBPRINT`",
        )
    form = str(request.values.get("form", ""))
    if not fits(value, form):
        raise UsageError(
            f"{value!r} does not look as it has to{f': {form}' if form else ''}",
            where="--value",
            mend="it is one line of text, and fits the form whole",
        )
    receipt = path.with_name(path.stem + ".receipt.json")
    put(
        receipt,
        signed.sign(
            {
                "kind": RECEIPT,
                "request": request.digest,
                "do": request.do,
                "about": request.about,
                "made": False,
                "id": "",
                "tenant": request.tenant,
                "by": writer_name(),
                "value": value,
                "at": format_instant(whole_second(datetime.now(UTC))),
            },
            office.books.signing_key(),
        ),
    )
    return request, receipt


def is_question(path: Path) -> bool:
    """Does a request ask for a value? Raises FileError."""
    return read_json(path).get("do") == requests.TELL
