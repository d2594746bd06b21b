"""Requests: written where a power is missing, listed, and confirmed by a receipt or by hand. `answer` does the rest."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any, NamedTuple

from sigillum.core.kinds.changes import Doing
from sigillum.core.records import history
from sigillum.core.records.requests import RECEIPT, request_of
from sigillum.core.records.steps import Ask, Outline, Step, StepKind
from sigillum.core.values.errors import FileError, MachineError, SomebodyError, UsageError
from sigillum.core.values.marks import Mark, mark_of
from sigillum.core.values.times import format_instant
from sigillum.keys import signed
from sigillum.ledger.port import Fresh

from .office import Office

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
    thing: str
    mark: Mark
    generation: int
    ended: str = ""


def listed(office: Office) -> list[Known]:
    """Every request of this workspace, in order."""
    if not office.has_ledger():
        return []
    ledger = office.ledger()
    asked = list(ledger.entries(kind=history.REQUESTED))
    if not asked:
        return []
    ended = {int(e.body["number"]): str(e.body["how"]) for e in ledger.entries(kind=history.ANSWERED)}
    return [Known(int(b["number"]), e.charter, str(b["charter"]), str(b["about"]), str(b["tenant"]), str(b["power"]),
                  str(b["to"]), str(b["file"]), str(b["digest"]), str(b["asked_at"]), str(b["thing"]),
                  mark_of(b), int(b["generation"]), ended.get(int(b["number"]), ""))
            for e in asked for b in [e.body]]


def ask(office: Office, uid: str, charter: str, step: Step, doing: Doing) -> None:
    """Write the request for a step, and into the ledger where it is a new one. Raises SomebodyError: it waits then."""
    assert isinstance(step.action, Ask)
    tenant, ledger = office.tenant(step.tenant), office.ledger(write=True)
    request = request_of(step, doing, tenant.address.address, charter)
    known = listed(office)
    same = next((k for k in known if k.uid == uid and k.digest == request.digest and not k.ended), None)
    number = same.number if same is not None else len(known) + 1
    shown = same.file if same is not None else f"{FOLDER}/{number:04d}-{charter}.json"
    path = office.workspace.folder / shown
    if same is None or not path.exists():
        body = {**request.body(), "charter": charter, "workspace": office.workspace.file.workspace}
        put(path, signed.sign(body, office.signing_key()))
    if same is None:
        ledger.append([Fresh(history.REQUESTED, uid, {
            **step.mark.body(), "generation": step.generation, "thing": request.thing,
            "number": number, "digest": request.digest, "about": request.about, "charter": charter,
            "power": request.power, "to": request.to, "file": shown, "asked_at": format_instant(office.now(tenant))})])
    raise SomebodyError("the request is written", where=shown, mend=step.action.request)


def put(path: Path, document: Mapping[str, Any]) -> None:
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
    asked = {(s.mark, s.generation) for s in outline.steps if s.kind is StepKind.ASK}
    for known in [k for k in listed(office) if k.uid == uid and not k.ended and (k.mark, k.generation) not in asked]:
        office.ledger(write=True).append([
            Fresh(history.ANSWERED, uid, {"number": known.number, "how": "seen to be done"})])


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
        trusted = signer.key_id in office.workspace.file.signers.values()
        if not trusted:
            said += "; what it made is not taken over as ours"
        if trusted and body.get("do") == "make" and body.get("made") is True and isinstance(body.get("id"), str):
            entries.append(Fresh(history.ADOPTED, known.uid, {
                **known.mark.body(), "generation": known.generation, "id": body["id"], "thing": known.thing}))
    ledger.append([*entries, Fresh(history.ANSWERED, known.uid, answer)])
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
