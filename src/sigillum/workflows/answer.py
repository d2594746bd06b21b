"""Answering a request that arrived: compare it anew, carry it out where the power is, and write a signed receipt."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from sigillum.core.kinds.facts import Thing
from sigillum.core.records import history, requests
from sigillum.core.records.history import fold
from sigillum.core.records.requests import RECEIPT, Request
from sigillum.core.records.steps import Outline, Step
from sigillum.core.values.canonical import external_id
from sigillum.core.values.errors import SomebodyError
from sigillum.core.values.times import format_instant
from sigillum.keys import signed
from sigillum.ledger.port import Fresh

from .execute import Executor, StepResult
from .journal import Journal
from .office import CLAIM, Office
from .requests import put, read_json, signer_words


@dataclass(frozen=True, slots=True)
class Answering:
    """A request that arrived, compared anew: `stands` where it is so already, else `step`, done by `hand`."""

    request: Request
    tenant: str
    hand: str
    signer: str
    key_id: str
    known: bool  # is its signer known here?
    stands: Thing | bool
    step: Step


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
        raise SomebodyError(f"this workspace does not know the tenant {request.tenant}", where=str(path),
                            mend="add it with `sigillum tenant add`")
    hands = [h for h in office.hands(name) if h.here]
    able = next((h for h in hands if h.can(request.power)), None)
    if able is None:
        raise SomebodyError(f"nobody here has the power `{request.power}` at {name} either", where=str(path),
                            mend="hand the file on to somebody who does")
    tenant = office.tenant(name)
    facts = tenant.facts(requests.queries(request)).values()
    things = tuple(t for f in facts for t in f.things)
    unknown = next((f.unknown for f in facts if not f.known), "")
    if unknown:
        raise SomebodyError(f"it cannot be compared anew: {unknown}", where=name, mend="ask with an administrator who may look")
    mark = external_id(office.workspace.file.workspace, uid_of(request), request.thing, "request", 1)
    version = next((t.version for t in things if t.id == request.id), "")
    step = replace(requests.step_of(request, mark, version), tenant=name, by="" if able is hands[0] else able.name)
    return Answering(request, name, able.name, signer_words(office, signer.key_id), signer.key_id,
                     signer.key_id in {*known, *office.workspace.file.signers.values(), office.signing_key().key_id},
                     requests.fulfilled(request, things), step)


def uid_of(request: Request) -> str:
    """The stream in the ledger of what is done for a request."""
    return f"request-{request.digest[:12]}"


def answer(office: Office, found: Answering, path: Path) -> tuple[Path | None, list[StepResult]]:
    """Carry it out and write the receipt beside the request. Raises MachineError."""
    ledger, uid, results = office.ledger(write=True), uid_of(found.request), list[StepResult]()
    with ledger.claim(CLAIM, 0.0):
        identity = found.stands.id if isinstance(found.stands, Thing) else found.request.id
        if not found.stands:
            ledger.append([Fresh(history.RECEIVED, uid, {
                "about": found.request.about, "charter": found.request.charter, "tenant": found.tenant,
                "digest": found.request.digest})])
            state = fold(ledger.entries(uid), uid)
            executor = Executor(office, Journal(office, ledger, uid), state, office.keys(uid), lambda step: None)
            results = executor.run(uid, Outline(uid, (found.step,)))
            if results[0].state != "done":
                return None, results
            identity = str(results[0].yields.get("id") or identity)
        receipt = path.with_name(path.stem + ".receipt.json")
        tenant = office.tenant(found.tenant)
        put(receipt, signed.sign({
            "kind": RECEIPT, "request": found.request.digest, "do": found.request.do, "about": found.request.about,
            "made": not found.stands, "id": identity, "tenant": found.request.tenant, "by": found.hand,
            "at": format_instant(office.now(tenant))}, office.signing_key()))
        return receipt, results
