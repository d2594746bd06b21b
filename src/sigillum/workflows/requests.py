"""Requests: written where a power is missing, answered where it is there, and confirmed by a receipt or by hand."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from sigillum.core import requests, undertakings
from sigillum.core.canonical import external_id
from sigillum.core.errors import FileError, MachineError, SomebodyError, UsageError
from sigillum.core.facts import Thing
from sigillum.core.requests import RECEIPT, Request
from sigillum.core.steps import Outline, Step, StepKind
from sigillum.core.times import format_instant
from sigillum.keys import signed
from sigillum.ledger.port import Fresh

from .office import CLAIM, Office

if TYPE_CHECKING:
    from .execute import StepResult

FOLDER = "requests"


class Known(NamedTuple):
    """One request as the ledger knows it. `ended`: nothing while it is open, else how it ended."""

    number: int
    uid: str
    charter: str
    about: str
    tenant: str
    power: str
    to: str
    file: str
    digest: str
    asked_at: str
    step: tuple[str, str, int]  # facet, name, generation
    ended: str = ""


def listed(office: Office) -> list[Known]:
    """Every request of this workspace, in order."""
    if not office.has_ledger():
        return []
    ledger = office.ledger()
    asked = list(ledger.entries(kind=undertakings.REQUESTED))
    if not asked:
        return []
    ended = {int(e.body["number"]): str(e.body["how"]) for e in ledger.entries(kind=undertakings.ANSWERED)}
    return [Known(int(b["number"]), e.charter, str(b["charter"]), str(b["about"]), str(b["tenant"]), str(b["power"]),
                  str(b["to"]), str(b["file"]), str(b["digest"]), str(b["asked_at"]),
                  (str(b["facet"]), str(b["name"]), int(b["generation"])), ended.get(int(b["number"]), ""))
            for e in asked for b in [e.body]]


def write(office: Office, uid: str, charter: str, step: Step, request: Request) -> tuple[Path, dict[str, Any] | None]:
    """The file of a request, and the ledger's entry where it is a new one. Raises MachineError."""
    known = listed(office)
    same = next((k for k in known if k.uid == uid and k.digest == request.digest and not k.ended), None)
    number = same.number if same is not None else len(known) + 1
    shown = f"{FOLDER}/{number:04d}-{charter}.json"
    path = office.workspace.folder / (same.file if same is not None else shown)
    entry = None
    if same is None:
        tenant = office.tenant(step.tenant)
        entry = {"number": number, "digest": request.digest, "about": request.about, "tenant": step.tenant, "charter": charter,
                 "power": request.power, "to": request.to, "file": shown, "asked_at": format_instant(office.now(tenant))}
    if same is None or not path.exists():
        body = {**request.body(), "charter": charter, "workspace": office.workspace.file.workspace}
        _put(path, signed.sign(body, office.signing_key()))
    return path, entry


def _put(path: Path, document: Mapping[str, Any]) -> None:
    """Write a file for others to read: whole or not at all."""
    try:
        path.parent.mkdir(exist_ok=True)
        fresh = path.with_name(f".{path.name}.new")
        fresh.write_text(json.dumps(document, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
        fresh.replace(path)
    except OSError as problem:
        raise MachineError(f"the file cannot be written: {problem.strerror}", where=str(path),
                           mend="mend that, then run the same command again") from problem


def settle(office: Office, uid: str, outline: Outline) -> None:
    """Close the requests of a charter whose wish is nowhere in its outline any more: it was seen to be so."""
    asked = {(s.facet, s.name, s.generation) for s in outline.steps if s.kind is StepKind.ASK}
    for known in [k for k in listed(office) if k.uid == uid and not k.ended and k.step not in asked]:
        office.ledger(write=True).append([
            Fresh(undertakings.ANSWERED, uid, {"number": known.number, "how": "seen to be done"})])


def done(office: Office, number: int, receipt: Path | None = None) -> tuple[Known, str]:
    """Confirm a request: by a signed receipt, or by hand. And what is said of the signature. Raises UsageError, FileError."""
    known = next((k for k in listed(office) if k.number == number), None)
    if known is None:
        raise UsageError(f"there is no request {number}", where="requests", mend="`sigillum requests` lists them")
    if known.ended:
        raise UsageError(f"request {number} has ended: {known.ended}", where=known.file, mend="nothing is left to confirm")
    ledger, entries, said = office.ledger(write=True), list[Fresh](), ""
    answer: dict[str, Any] = {"number": number, "how": "confirmed by hand"}
    if receipt is not None:
        body = read_json(receipt)
        signer = signed.check(body, str(receipt))
        if body.get("kind") != RECEIPT or body.get("request") != known.digest:
            raise FileError("the receipt is for another request", where=str(receipt), mend="take the one that belongs to it")
        answer = {"number": number, "how": f"receipt of {body.get('by')}", "key": signer.key_id}
        said = signer_words(office, signer.key_id)
        facet, name, generation = known.step
        trusted = signer.key_id in office.workspace.file.signers.values()
        if not trusted:
            said += "; what it made is not taken over as ours"
        if trusted and body.get("do") == "make" and body.get("made") is True and isinstance(body.get("id"), str):
            entries.append(Fresh(undertakings.ADOPTED, known.uid, {
                "facet": facet, "name": name, "generation": generation, "id": body["id"], "tenant": known.tenant}))
    ledger.append([*entries, Fresh(undertakings.ANSWERED, known.uid, answer)])
    return known, said


def read_json(path: Path) -> dict[str, Any]:
    """A JSON object that somebody sent. Raises FileError."""
    try:
        if path.stat().st_size > 1_000_000:
            raise FileError("the file is larger than such a file can be", where=str(path), mend="check its name")
        found = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError) as problem:
        raise FileError(f"the file cannot be read: {getattr(problem, 'strerror', None) or 'it is not JSON'}", where=str(path),
                        mend="check its name, or ask its sender for it anew") from problem
    if not isinstance(found, dict):
        raise FileError("the file holds no JSON object", where=str(path), mend="check its name")
    return found


def signer_words(office: Office, key_id: str) -> str:
    """Who signed, as far as this workspace knows."""
    names = {mark: name for name, mark in office.workspace.file.signers.items()}
    if key_id == office.signing_key().key_id:
        return "signed by this workspace itself"
    return f"signed by {names[key_id]}" if key_id in names else \
        f"signed by a key that is not among `signers` in sigillum.yaml ({key_id})"


# --- where the power is -------------------------------------------------------------------------------------------
@dataclass(frozen=True, slots=True)
class Answering:
    """A request that arrived, compared anew: `stands` where it is so already, else `step`, done by `hand`."""

    request: Request
    tenant: str
    hand: str
    signer: str
    stands: Thing | bool
    step: Step


def compare(office: Office, path: Path) -> Answering:
    """Check a request's signature and compare it with its tenant. Raises FileError, SomebodyError."""
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
    things = tuple(t for f in tenant.facts(requests.queries(request)).values() for t in f.things)
    unknown = next((f.unknown for f in tenant.facts(requests.queries(request)).values() if not f.known), "")
    if unknown:
        raise SomebodyError(f"it cannot be compared anew: {unknown}", where=name, mend="ask with an administrator who may look")
    mark = external_id(office.workspace.file.workspace, uid_of(request), request.thing, "request", 1)
    version = next((t.version for t in things if t.id == request.id), "")
    step = replace(requests.step_of(request, mark, version), tenant=name, by="" if able is hands[0] else able.name)
    return Answering(request, name, able.name, signer_words(office, signer.key_id), requests.fulfilled(request, things), step)


def uid_of(request: Request) -> str:
    """The stream in the ledger of what is done for a request."""
    return f"request-{request.digest[:12]}"


def answer(office: Office, found: Answering, path: Path) -> tuple[Path | None, list[StepResult]]:
    """Carry it out and write the receipt beside the request. Raises MachineError."""
    from sigillum.core.undertakings import fold

    from .execute import Executor
    from .journal import Journal
    ledger, uid, results = office.ledger(write=True), uid_of(found.request), list["StepResult"]()
    with ledger.claim(CLAIM, 0.0):
        identity = found.stands.id if isinstance(found.stands, Thing) else found.request.id
        if not found.stands:
            ledger.append([Fresh(undertakings.RECEIVED, uid, {
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
        _put(receipt, signed.sign({
            "kind": RECEIPT, "request": found.request.digest, "do": found.request.do, "about": found.request.about,
            "made": not found.stands, "id": identity, "tenant": found.request.tenant, "by": found.hand,
            "at": format_instant(office.now(tenant))}, office.signing_key()))
        return receipt, results
