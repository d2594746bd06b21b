"""Writing a request for what nobody here has the power to do; and files that other people read."""

from __future__ import annotations

import json
import threading
from collections.abc import Mapping, Sequence
from dataclasses import asdict, replace
from datetime import timedelta
from pathlib import Path
from typing import Any

from sigillum.core.kinds.changes import Doing, Make, plain, resolved
from sigillum.core.records import history
from sigillum.core.records.history import NUMBER, UNDERTAKING
from sigillum.core.records.letters import document
from sigillum.core.records.requests import TELL, Request, numbered, question_of, request_of
from sigillum.core.records.results import Result
from sigillum.core.records.steps import Ask, CertificateRequest, Step
from sigillum.core.undertakings.requests import REQUESTS, RequestState, SentRequest
from sigillum.core.values.errors import MachineError, SomebodyError
from sigillum.core.values.marks import Ref, StepId
from sigillum.core.values.times import format_instant, whole_second
from sigillum.keeping.private import write_private
from sigillum.keys import signed
from sigillum.ledger.port import Fresh
from sigillum.workflows.desk.closing import closing
from sigillum.workflows.desk.office import Office
from sigillum.workflows.enacting.carrying.ports import BehindError, RequestedError

from .sent import requests_of

FOLDER = "requests"


_NUMBERING = threading.Lock()  # several charters are enacted at a time


def ask(office: Office, uid: str, charter: str, step: Step, doing: Doing | None, waits: Sequence[StepId] = ()) -> None:
    """Write the request for a step, and into the ledger where it is a new one. `waits`: the steps that were asked for before
    it, and that it needs.

    Raises RequestedError: it waits then; BehindError where it cannot be asked with those.
    """
    assert isinstance(step.action, Ask)
    address = office.tenants.reach(step.tenant).address.address
    if step.action.request is not None:
        raise _for_the_ca(office, uid, charter, step.action.request, step.action.advice)
    if doing is not None:
        numbers = {w: _number_of(office, uid, w) for w in waits}

        def result(value: Any) -> Any:
            if not isinstance(value, Ref):
                return value
            numbers[value.step] = _number_of(office, uid, value.step)
            return Result(numbers[value.step], value.field).written()

        request = request_of(step, resolved(doing, result), address, charter)
        request = replace(request, after=tuple(sorted(set(numbers.values()))))
    elif step.action.tells is not None:
        request = question_of(step.action.tells, address, charter)
    else:
        return
    with _NUMBERING:
        terms = plain(doing.terms) if isinstance(doing, Make) else {}
        shown = _asked(office, uid, step, replace(request, workspace=office.workspace.file.workspace), terms)
    raise RequestedError(
        "the request is written",
        where=shown,
        mend=f"send the request to {step.action.to or f'somebody who holds `{step.power}`'}; when it is done, "
        "run the same command again",
    )


def _holds(sent: SentRequest, wish: Request, all_: Sequence[SentRequest]) -> bool:
    """Does an open request still say what is wished now, after the same others or after what was answered since?"""
    answered = {k.number for k in all_ if k.state is RequestState.ANSWERED}
    after = sent.request.after
    return sent.known.wish == wish.wish and (after == wish.after or (not wish.after and answered.issuperset(after)))


def _number_of(office: Office, uid: str, step: StepId) -> int:
    """The number of the open request for a step."""
    return next(k.number for k in reversed(requests_of(office, uid)) if k.open and k.step == step)


def _asked(office: Office, uid: str, step: Step, wish: Request, terms: Mapping[str, Any]) -> str:
    """The file in which it is asked: written before, or now. Raises BehindError; SomebodyError where it was refused or
    withdrawn.
    """
    all_, now, ledger = requests_of(office, uid), office.tenants.now(step.tenant), office.books.writable_ledger()
    same = next((k for k in reversed(all_) if k.open and _holds(k, wish, all_)), None)
    if same is not None and not same.request.over(now):
        write_file(office, uid, same.file)
        return same.file
    last = next((k for k in reversed(all_) if (k.mark, k.verb) == (step.mark, step.id.verb)), None)
    if last is not None and last.known.wish == wish.wish and last.stays(step.generation):
        raise SomebodyError(
            f"the same was asked as request {last.number}, which has ended: {last.ended}",
            where=step.tenant,
            mend=f"change the charter; or `sigillum requests again {last.number}`: it is asked once more by the next `enact`",
        )
    newest = list(ledger.entries(kind=history.REQUESTED, newest=1))
    number = int(newest[0].body[NUMBER]) + 1 if newest else 1
    whom = f"tell {wish.to}" if wish.do == TELL else wish.to or wish.power  # who tells something does nothing
    began = (uid, whom, wish.tenant)  # what one person is asked in one run stands in one file
    shown, expires = office.books.letters.get(began) or (
        f"{FOLDER}/{number:04d}-{wish.charter}.json",
        format_instant(whole_second(now) + timedelta(seconds=office.workspace.file.defaults.requests_last)),
    )
    if any(k.file != shown for k in all_ if k.number in wish.after):
        raise BehindError("what it needs is asked in another file", where=step.tenant, mend="have that done first")
    office.books.letters[began] = (shown, expires)
    gone = [k for k in all_ if k.open and k.step == step.id and k is not same]
    request = numbered(wish, number, expires, [k.digest for k in gone])
    late = f"nobody answered it by {same.request.expires}" if same is not None else ""
    ledger.append(
        [
            *([closing(REQUESTS, same, late, state=RequestState.EXPIRED)] if same is not None else []),
            *(closing(REQUESTS, k, f"replaced by request {number}", state=RequestState.REPLACED) for k in gone),
            Fresh(
                history.REQUESTED,
                uid,
                {
                    UNDERTAKING: REQUESTS.name,
                    NUMBER: str(number),
                    **step.mark.body(),
                    "generation": step.generation,
                    "verb": step.id.verb,
                    "request": asdict(request),
                    "digest": request.digest,
                    "file": shown,
                    "asked_at": format_instant(now),
                    **({"terms": terms} if terms else {}),
                },
            ),
        ]
    )
    office.settings.boundary(f"request {number} written down")
    write_file(office, uid, shown)
    return shown


def write_file(office: Office, uid: str, shown: str) -> None:
    """The signed file of requests that were asked together, where it is not there as it has to be."""
    asked = document([k.request for k in requests_of(office, uid) if k.file == shown])
    path, text = office.workspace.folder / shown, as_text(signed.sign(asked, office.books.signing_key()))
    if not path.exists() or path.read_text(encoding="utf-8") != text:
        put(path, text.encode())


def _for_the_ca(office: Office, uid: str, charter: str, wanted: CertificateRequest, advice: str) -> SomebodyError:
    """The request for a certificate (PKCS#10), written for the house's CA; and that it is waited for."""
    from sigillum.keys.certificates import request

    key, _ = office.keepings.of(uid).key(wanted.credential, wanted.generation)
    shown = f"{FOLDER}/{charter}-{wanted.credential}-{wanted.generation}.csr.pem"
    put(office.workspace.folder / shown, request(key, wanted.subject))
    return SomebodyError(
        "the request for a certificate is written", where=shown, mend=f"{advice}; then run the same command again"
    )


def as_text(content: Mapping[str, Any]) -> str:
    """A document as people are given it."""
    return json.dumps(content, indent=1, ensure_ascii=False) + "\n"


def put(path: Path, content: Mapping[str, Any] | bytes) -> None:
    """Write a file for others to read: whole or not at all."""
    text = content if isinstance(content, bytes) else as_text(content)
    try:
        path.parent.mkdir(exist_ok=True)
        write_private(path, text)
        path.chmod(0o644)
    except OSError as problem:
        raise MachineError(
            f"the file cannot be written: {problem.strerror}",
            where=str(path),
            mend="mend that, then run the same command again",
        ) from problem
