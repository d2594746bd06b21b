"""Requests: written where a power is missing, listed, and confirmed by a receipt or by hand. `answer` does the rest."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from sigillum.core.records import history
from sigillum.core.records.requests import ADD, MAKE, RECEIPT, TELL
from sigillum.core.records.steps import Outline, StepKind
from sigillum.core.undertakings.requests import REQUESTS, SentRequest
from sigillum.core.values.asked import fits
from sigillum.core.values.errors import FileError, SomebodyError, UsageError
from sigillum.core.values.outside import json_of
from sigillum.core.values.text import plain, unseen
from sigillum.keys import signed
from sigillum.ledger.port import Fresh
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office
from sigillum.workflows.enacting.undertakings import advance, close


def listed(office: Office, *, ended: bool = True) -> list[SentRequest]:
    """The requests of this workspace, in order; those that have ended, too."""
    return office.books.begun(REQUESTS, ended=ended)


def settle(office: Office, uid: str, outline: Outline) -> None:
    """Take the open requests of a charter as far as they go: what is asked for no more was done, or is not wanted any more."""
    asked = frozenset((s.mark, s.generation) for s in outline.steps if s.kind is StepKind.ASK)
    for sent in [k for k in office.books.begun(REQUESTS) if k.uid == uid]:
        advance(office, REQUESTS, sent, wanted=asked)


def numbered(office: Office, number: int) -> SentRequest:
    """A request by its number. Raises UsageError."""
    found = next((k for k in listed(office) if k.number == number), None)
    if found is None:
        raise UsageError(f"there is no request {number}", where="requests", mend="`sigillum requests` lists them")
    return found


def done(
    office: Office, number: int, receipt: Path | None = None, known_keys: Sequence[str] = (), value: str = ""
) -> tuple[SentRequest, str]:
    """Confirm a request: by a signed receipt, or by hand. And what is said of the signature. Raises UsageError, FileError."""
    with office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
        return _done(office, number, receipt, known_keys, value)


def _done(office: Office, number: int, receipt: Path | None, known_keys: Sequence[str], value: str) -> tuple[SentRequest, str]:
    known, entries, how, said, about = numbered(office, number), list[Fresh](), "confirmed by hand", "", dict[str, str]()
    if known.ended:
        raise UsageError(f"request {number} has ended: {known.ended}", where=known.file, mend="nothing is left to confirm")
    if receipt is not None:
        body = read_json(receipt)
        signer = signed.check(body, str(receipt))
        if body.get("kind") != RECEIPT or body.get("request") != known.digest:
            raise FileError("the receipt is for another request", where=str(receipt), mend="take the one that belongs to it")
        about["key"] = signer.key_id
        said, how = signer_words(office, signer.key_id), f"receipt of {plain(body.get('by'))}"
        if signer.key_id not in office.trusted(known_keys):
            raise SomebodyError(
                f"the receipt is {said}; it closes nothing",
                where=str(receipt),
                mend="compare the thumbprint with its sender on another way, and say `--from THUMBPRINT` or "
                "add it to `signers` in sigillum.yaml; or confirm by hand, without the receipt",
            )
        entries += _taken_over(known, body)
        value = value or str(body.get("value", ""))
    if known.request.do == TELL:
        form = str(known.request.values.get("form", ""))
        if not fits(value, form):
            raise UsageError(
                "it is not told" if not value else f"what was told does not look as it has to: {form}",
                where=known.file,
                mend="give the receipt that came back, or the value itself: `--value VALUE`",
            )
        entries.append(
            Fresh(
                history.TOLD,
                known.uid,
                {"name": str(known.request.values["name"]), "value": value, "of": known.request.to, "how": how},
            )
        )
    close(office, REQUESTS, known, how, *entries, **about)
    return known, said


def _taken_over(known: SentRequest, body: Mapping[str, Any]) -> list[Fresh]:
    """What a trusted receipt says stands there now, made for us or before us, is ours from then on."""
    request, identity = known.request, body.get("id")
    if request.do not in (MAKE, ADD) or not isinstance(identity, str) or not identity or unseen(identity):
        return []
    value = {"value": str(request.values.get("value"))} if request.do == ADD else {}
    return [
        Fresh(
            history.ADOPTED,
            known.uid,
            {**known.mark.body(), "generation": known.generation, "id": identity, "thing": request.thing, **value},
        )
    ]


def read_json(path: Path) -> dict[str, Any]:
    """A JSON object that somebody sent. Raises FileError."""
    try:
        if path.stat().st_size > 1_000_000:
            raise FileError("the file is larger than such a file can be", where=str(path), mend="check its name")
        found = json_of(path.read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError) as problem:
        raise FileError(
            f"the file cannot be read: {getattr(problem, 'strerror', None) or 'it is not JSON'}",
            where=str(path),
            mend="check its name, or ask its sender for it anew",
        ) from problem
    strange = unseen(found)
    if strange:
        raise FileError(
            f"it holds characters that cannot be seen: {strange!a}",
            where=str(path),
            mend="do not use it; ask its sender on another way",
        )
    if not isinstance(found, dict):
        raise FileError("the file holds no JSON object", where=str(path), mend="check its name")
    return found


def signer_words(office: Office, key_id: str) -> str:
    """Who signed, as far as this workspace knows."""
    names = {mark: name for name, mark in office.workspace.file.signers.items()}
    if key_id == office.books.signing_key().key_id:
        return "signed by this workspace itself"
    return (
        f"signed by {names[key_id]}"
        if key_id in names
        else f"signed by a key that is not among `signers` in sigillum.yaml ({key_id})"
    )
