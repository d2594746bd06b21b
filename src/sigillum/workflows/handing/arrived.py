"""Files that arrived: read once, refused, told a value for, withdrawn; what is known of each from then on, and receipts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, NamedTuple

from sigillum.core.records import history
from sigillum.core.records.letters import read
from sigillum.core.records.requests import RECEIPT, WITHDRAWAL, Request
from sigillum.core.values.asked import fits
from sigillum.core.values.errors import FileError, SomebodyError, UsageError
from sigillum.core.values.text import plain
from sigillum.core.values.times import format_instant, whole_second
from sigillum.keys import signed
from sigillum.ledger.port import Fresh
from sigillum.workflows.desk.books import writer_name
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office

from .asking import put
from .requests import read_json, signer_words


class Letter(NamedTuple):
    """A file of requests as it was read, once; and whose key signed it."""

    path: Path
    signer: signed.Signer
    requests: tuple[Request, ...]


def opened(path: Path) -> tuple[Mapping[str, Any], signed.Signer]:
    """What somebody sent, and whose key signed it. Raises FileError."""
    body = read_json(path)
    return body, signed.check(body, str(path))


def letter_of(path: Path, body: Mapping[str, Any], signer: signed.Signer) -> Letter:
    """What was opened, as requests. Raises FileError."""
    return Letter(path, signer, read(body, str(path)))


def meant(letter: Letter, only: Sequence[int]) -> list[Request]:
    found = letter.requests
    strange = [n for n in only if n not in {r.number for r in found}]
    if strange:
        raise UsageError(
            f"request {strange[0]} is not in this file",
            where="--only",
            mend=f"it has {', '.join(str(r.number) for r in found)}",
        )
    return [r for r in found if not only or r.number in only]


def over(office: Office, request: Request, key: str, now: datetime) -> str:
    """Why a request is answered no more; empty where it is."""
    if request.over(now):
        return f"expired at {request.expires}"
    notes = office.books.ledger().entries(uid_of(request.digest), kind=history.NOTED) if office.books.there else ()
    noted = next((e.body for e in notes if e.body["key"] == key or e.body["state"] == "refused"), None)
    return f"is {noted['state']}: {noted['why']}" if noted is not None else ""


def uid_of(digest: str) -> str:
    """The stream in the ledger of what is done for a request."""
    return f"request-{digest[:12]}"


# --- what is known of it from now on ----------------------------------------------------------------------------------
def take_withdrawal(office: Office, body: Mapping[str, Any], signer: signed.Signer, where: str) -> list[tuple[str, str]]:
    """Write down that requests are withdrawn: each, and when it was carried out here, if it was. Raises FileError."""
    digests, numbers = body.get("requests"), body.get("numbers")
    if (
        body.get("kind") != WITHDRAWAL
        or not isinstance(digests, list)
        or not isinstance(numbers, list)
        or len(digests) != len(numbers)
        or not all(isinstance(d, str) for d in digests)
    ):
        raise FileError(
            "this is not a withdrawal that this version understands", where=where, mend="ask its sender for it anew"
        )
    out = list[tuple[str, str]]()
    for digest, number in zip(digests, numbers, strict=True):
        note(office, digest, signer.key_id, "withdrawn", str(plain(body.get("because"))) or "no reason is given")
        done = next((e.at for e in office.books.ledger().entries(uid_of(digest), kind=history.RECEIVED)), "")
        out.append((str(plain(number)), done))
    return out


def note(office: Office, digest: str, key: str, state: str, why: str) -> None:
    ledger, uid = office.books.writable_ledger(), uid_of(digest)
    with ledger.claim(CLAIM, BRIEFLY_SECONDS):
        if not any((e.body["key"], e.body["state"]) == (key, state) for e in ledger.entries(uid, kind=history.NOTED)):
            ledger.append([Fresh(history.NOTED, uid, {"digest": digest, "key": key, "state": state, "why": why})])


# --- answers, and the receipt of them -----------------------------------------------------------------------------------
def refuse(office: Office, letter: Letter, why: str, only: Sequence[int] = ()) -> tuple[list[Request], Path]:
    """Say, signed, that something is not done, and why; it is not answered here any more. Raises UsageError."""
    wanted = meant(letter, only)
    for request in wanted:
        note(office, request.digest, letter.signer.key_id, "refused", f"{why} ({writer_name()})")
    answers = [answer_to(r, made=False, refused=why) for r in wanted]
    return wanted, write_receipt(office, letter, answers, by=writer_name(), now=whole_second(datetime.now(UTC)))


def tell(
    office: Office, letter: Letter, values: Sequence[str], known: Sequence[str] = (), only: Sequence[int] = ()
) -> tuple[list[Request], Path]:
    """Answer requests for values: check each against its form, and write the receipt. Of several each value stands behind the
    number of its request, as NUMBER=VALUE.

    Raises UsageError, SomebodyError.
    """
    path, signer, asked = letter.path, letter.signer, meant(letter, only)
    if signer.key_id not in office.trusted(known, ours=True):
        raise SomebodyError(
            f"the request is {signer_words(office, signer.key_id)}",
            where=str(path),
            mend="compare the thumbprint with its sender on another way, and say `--from THUMBPRINT`",
        )
    now, answers = whole_second(datetime.now(UTC)), list[dict[str, Any]]()
    given = {str(asked[0].number): values[0]} if len(asked) == len(values) == 1 else dict(v.partition("=")[::2] for v in values)
    strange = [n for n in given if n not in {str(r.number) for r in asked}]
    if strange or len(given) < len(asked) or len(given) < len(values):
        raise UsageError(
            f"request {strange[0]} is not in this file" if strange else "not every value is told",
            where="--value",
            mend=" ".join(f"--value {r.number}=..." for r in asked) + "; or `--only NUMBER --value VALUE`",
        )
    for request in asked:
        if why := over(office, request, signer.key_id, now):
            raise SomebodyError(
                f"request {request.number} {why}", where=str(path), mend="ask its sender whether it is still wanted"
            )
        value, form = given[str(request.number)], str(request.values.get("form", ""))
        if not fits(value, form):
            raise UsageError(
                f"{value!r} does not look as it has to{f': {form}' if form else ''}",
                where="--value",
                mend="it is one line of text, and fits the form whole",
            )
        answers.append(answer_to(request, made=False, value=value))
    return asked, write_receipt(office, letter, answers, by=writer_name(), now=now)


def answer_to(request: Request, *, made: bool, **more: Any) -> dict[str, Any]:
    return {"request": request.digest, "number": request.number, "do": request.do, "about": request.about, "made": made, **more}


def write_receipt(office: Office, letter: Letter, answers: list[dict[str, Any]], *, by: str, now: datetime) -> Path:
    """Beside the request; one that answers a part of a file names the numbers."""
    path, of = letter.path, letter.requests
    part = "" if len(answers) == len(of) else "." + "-".join(str(a["number"]) for a in answers)
    receipt = path.with_name(f"{path.stem}{part}.receipt.json")
    body = {"kind": RECEIPT, "tenant": of[0].tenant, "charter": of[0].charter, "by": by, "at": format_instant(now)}
    put(receipt, signed.sign({**body, "answers": answers}, office.books.signing_key()))
    return receipt
