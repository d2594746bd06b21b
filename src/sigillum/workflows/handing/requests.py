"""Requests of this workspace: listed, withdrawn, asked once more, and confirmed by a receipt or by hand. `answer` is the other
side.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from sigillum.core.records import history
from sigillum.core.records.requests import ADD, ID, MAKE, RECEIPT, TELL, WITHDRAWAL
from sigillum.core.records.steps import Outline, StepKind
from sigillum.core.undertakings.requests import HELD, REQUESTS, RequestState, SentRequest
from sigillum.core.values.asked import fits
from sigillum.core.values.errors import FileError, SomebodyError, UsageError
from sigillum.core.values.outside import json_of
from sigillum.core.values.text import plain, unseen
from sigillum.core.values.times import format_instant
from sigillum.keys import signed
from sigillum.ledger.port import Fresh
from sigillum.workflows.desk.books import writer_name
from sigillum.workflows.desk.closing import close
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office
from sigillum.workflows.enacting.undertakings import advance

from .asking import FOLDER, put
from .sent import ours

BY_HAND = "confirmed by hand"


class Confirmed(NamedTuple):
    """What became of a request by a receipt, or by a person's word. `late`: it had ended before, by what is said there."""

    sent: SentRequest
    state: RequestState
    how: str
    late: str = ""


def listed(office: Office, *, ended: bool = True) -> list[SentRequest]:
    """The requests of this workspace, in order; those that have ended, too."""
    return office.books.begun(REQUESTS, ended=ended)


def settle(office: Office, uid: str, outline: Outline) -> None:
    """Take the open requests of a charter as far as they go: what is asked for no more was done, or is not wanted any more."""
    asked = frozenset(s.id for s in outline.steps if s.kind is StepKind.ASK)
    for sent in [k for k in office.books.begun(REQUESTS) if k.uid == uid]:
        advance(office, REQUESTS, sent, wanted=asked)
        if office.books.again(REQUESTS, sent).state is RequestState.WITHDRAWN:
            _write_withdrawal(office, sent, "the charter no longer asks for it")


def numbered(office: Office, number: int) -> SentRequest:
    """A request by its number. Raises UsageError."""
    found = next((k for k in listed(office) if k.number == number), None)
    if found is None:
        raise UsageError(f"there is no request {number}", where="requests", mend="`sigillum requests --all` lists them")
    return found


# --- confirming -------------------------------------------------------------------------------------------------------
def done(
    office: Office, number: int | None, receipt: Path | None = None, known_keys: Sequence[str] = (), value: str = ""
) -> tuple[list[Confirmed], str]:
    """Confirm requests: those that a signed receipt answers, or one by hand. And what is said of the signature.

    Raises UsageError, FileError, SomebodyError.
    """
    with office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
        if receipt is None:
            if number is None:
                raise UsageError("which request is confirmed is not said", where="requests done", mend="name its number")
            return [_by_hand(office, numbered(office, number), value)], ""
        if value:
            raise UsageError("the receipt says what was told", where="--value", mend="leave it out, or --receipt")
        body = read_json(receipt)
        signer = signed.check(body, str(receipt))
        answers = _answers(office, body, number, str(receipt))
        said = signer_words(office, signer.key_id, known_keys)
        if signer.key_id not in office.trusted(known_keys):
            raise SomebodyError(
                f"the receipt is {said}; it closes nothing",
                where=str(receipt),
                mend="compare the thumbprint with its sender on another way, and say `--from THUMBPRINT` or "
                "add it to `signers` in sigillum.yaml; or confirm by hand, without the receipt",
            )
        by = str(plain(body.get("by")))
        return [_by_receipt(office, sent, answer, by, signer.key_id) for sent, answer in answers], said


def _answers(
    office: Office, body: Mapping[str, Any], number: int | None, where: str
) -> list[tuple[SentRequest, Mapping[str, Any]]]:
    """What a receipt says to requests of ours. Raises FileError where it says nothing to them, or not to that one."""
    given = body.get("answers")
    if body.get("kind") != RECEIPT or not isinstance(given, list) or not all(isinstance(a, Mapping) for a in given):
        raise FileError("this is not a receipt of a request", where=where, mend="take the one that came back")
    by_digest = {k.digest: k for k in listed(office)}
    found = [(by_digest[str(a.get("request"))], a) for a in given if str(a.get("request")) in by_digest]
    found = [(k, a) for k, a in found if number is None or k.number == number]
    if not found:
        raise FileError("the receipt is for another request", where=where, mend="take the one that belongs to it")
    return found


def _by_receipt(office: Office, sent: SentRequest, answer: Mapping[str, Any], by: str, key: str) -> Confirmed:
    refused, identity = answer.get("refused"), answer.get("id")
    if isinstance(refused, str) and refused:
        how = f"refused by {by}: {plain(refused)}"
        if sent.open:
            close(office, REQUESTS, sent, how, state=RequestState.REFUSED, key=key, **{HELD: "yes"})
        return Confirmed(sent, RequestState.REFUSED, how, sent.ended)
    how, entries = f"receipt of {by}", list[Fresh]()
    if sent.request.do == TELL and sent.open:
        entries = [_told(sent, str(answer.get("value", "")), how)]
    elif sent.request.do in (MAKE, ADD) and isinstance(identity, str) and identity and not unseen(identity):
        entries = ours(office, sent, {**_gives(answer), ID: identity})
    if sent.open:
        close(office, REQUESTS, sent, how, *entries, state=RequestState.ANSWERED, key=key, **{HELD: "yes"})
    elif entries:  # too late: what was made for it is ours all the same, and goes where nobody wants it
        office.books.writable_ledger().append(entries)
    return Confirmed(sent, RequestState.ANSWERED, how, sent.ended)


def _gives(answer: Mapping[str, Any]) -> dict[str, str]:
    """What the tenant chose for what was made, as the receipt says."""
    gives = answer.get("gives")
    texts = gives.items() if isinstance(gives, Mapping) else ()
    return {str(n): v for n, v in texts if isinstance(v, str) and not unseen(v)}


def _by_hand(office: Office, sent: SentRequest, value: str) -> Confirmed:
    if not sent.open:
        raise UsageError(f"request {sent.number} has ended: {sent.ended}", where=sent.file, mend="nothing is left to confirm")
    if value and sent.request.do != TELL:
        raise UsageError(f"request {sent.number} asks for no value", where="--value", mend="leave it out")
    entries = [_told(sent, value, BY_HAND)] if sent.request.do == TELL else []
    close(office, REQUESTS, sent, BY_HAND, *entries, state=RequestState.ANSWERED)
    return Confirmed(sent, RequestState.ANSWERED, BY_HAND)


def _told(sent: SentRequest, value: str, how: str) -> Fresh:
    """The value that was asked for. Raises UsageError where it is none, or of another form."""
    form = str(sent.request.values.get("form", ""))
    if not fits(value, form):
        raise UsageError(
            "it is not told" if not value else f"what was told does not look as it has to: {form}",
            where=sent.file,
            mend="give the receipt that came back, or the value itself: `--value VALUE`",
        )
    told = {"name": str(sent.request.values["name"]), "value": value, "of": sent.request.to, "how": how}
    return Fresh(history.TOLD, sent.uid, told)


# --- taking back ------------------------------------------------------------------------------------------------------
def withdraw(office: Office, number: int, because: str) -> tuple[SentRequest, Path]:
    """Say, signed, that a request is not wanted any more; whoever got it refuses it then. Raises UsageError."""
    with office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
        sent = numbered(office, number)
        if not sent.open and sent.state is not RequestState.WITHDRAWN:
            raise UsageError(f"request {number} has ended: {sent.ended}", where=sent.file, mend="nothing is left to withdraw")
        because = because or "it is not wanted any more"
        path = _write_withdrawal(office, sent, because)
        if sent.open:
            how = f"withdrawn by {writer_name()}: {because}"
            close(office, REQUESTS, sent, how, state=RequestState.WITHDRAWN, **{HELD: "yes"})
        return office.books.again(REQUESTS, sent), path.relative_to(office.workspace.folder)


def _write_withdrawal(office: Office, sent: SentRequest, because: str) -> Path:
    path = office.workspace.folder / FOLDER / f"{sent.number:04d}-{sent.request.charter}.withdrawn.json"
    body = {
        "kind": WITHDRAWAL,
        "requests": [sent.digest],
        "numbers": [sent.number],
        "tenant": sent.request.tenant,
        "charter": sent.request.charter,
        "workspace": sent.request.workspace,
        "because": because,
        "by": writer_name(),
        "at": format_instant(office.tenants.now(sent.tenant)),
    }
    put(path, signed.sign(body, office.books.signing_key()))
    return path


def ask_again(office: Office, number: int) -> SentRequest:
    """What was refused, withdrawn or answered without effect is asked once more by the next `enact`. Raises UsageError."""
    with office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
        sent = numbered(office, number)
        if sent.open or not sent.held:
            raise UsageError(
                f"request {number} {f'has ended: {sent.ended}' if sent.ended else 'is open'}",
                where=sent.file,
                mend="send its file" if sent.open else "`sigillum enact` asks for what is still wanted",
            )
        if not sent.again:
            body = {"request": str(number), "by": writer_name()}
            office.books.writable_ledger().append([Fresh(history.ASKED_AGAIN, sent.uid, body)])
        return sent


# --- files that somebody sent -----------------------------------------------------------------------------------------
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


def signer_words(office: Office, key_id: str, known: Sequence[str] = ()) -> str:
    """Who signed, as far as this workspace knows; `known`: the thumbprints that `--from` says."""
    if key_id in known:
        return f"signed by the key that `--from` says ({key_id})"
    names = {mark: name for name, mark in office.workspace.file.signers.items()}
    if key_id == office.books.signing_key().key_id:
        return "signed by this workspace itself"
    return (
        f"signed by {names[key_id]}"
        if key_id in names
        else f"signed by a key that is not among `signers` in sigillum.yaml ({key_id})"
    )
