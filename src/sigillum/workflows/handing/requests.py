"""Requests: written where a power is missing, listed, and confirmed by a receipt or by hand. `answer` does the rest."""

from __future__ import annotations

import json
import threading
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

from sigillum.core.kinds.changes import Doing
from sigillum.core.records import history
from sigillum.core.records.history import NUMBER, UNDERTAKING
from sigillum.core.records.requests import ADD, MAKE, RECEIPT, TELL, question_of, request_of
from sigillum.core.records.steps import Ask, CertificateRequest, Outline, Step, StepKind
from sigillum.core.undertakings.requests import REQUESTS, SentRequest
from sigillum.core.values.asked import fits
from sigillum.core.values.errors import FileError, MachineError, SomebodyError, UsageError
from sigillum.core.values.outside import json_of
from sigillum.core.values.text import plain, unseen
from sigillum.core.values.times import format_instant
from sigillum.keeping.private import write_private
from sigillum.keys import signed
from sigillum.ledger.port import Fresh
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office
from sigillum.workflows.desk.tenants import time_of
from sigillum.workflows.enacting.undertakings import advance, close

FOLDER = "requests"
_NUMBERING = threading.Lock()  # several charters are enacted at a time


def listed(office: Office, *, ended: bool = True) -> list[SentRequest]:
    """The requests of this workspace, in order; those that have ended, too."""
    return office.books.begun(REQUESTS, ended=ended)


def ask(office: Office, uid: str, charter: str, step: Step, doing: Doing | None) -> None:
    """Write the request for a step, and into the ledger where it is a new one. Raises SomebodyError: it waits then."""
    assert isinstance(step.action, Ask)
    tenant, ledger = office.tenants.reach(step.tenant), office.books.ledger(write=True)
    if step.action.request is not None:
        raise _for_the_ca(office, uid, charter, step.action.request, step.action.advice)
    if doing is not None:
        request = request_of(step, doing, tenant.address.address, charter)
    elif step.action.tells is not None:
        request = question_of(step.action.tells, tenant.address.address, charter)
    else:
        return
    with _NUMBERING:
        same = next((k for k in office.books.begun(REQUESTS) if k.uid == uid and k.digest == request.digest), None)
        newest = list(ledger.entries(kind=history.REQUESTED, newest=1))
        number = same.number if same is not None else int(newest[0].body[NUMBER]) + 1 if newest else 1
        shown = same.file if same is not None else f"{FOLDER}/{number:04d}-{charter}.json"
        path = office.workspace.folder / shown
        if same is None or not path.exists():
            body = {**request.body(), "charter": charter, "workspace": office.workspace.file.workspace}
            put(path, signed.sign(body, office.books.signing_key()))
        if same is None:
            ledger.append(
                [
                    Fresh(
                        history.REQUESTED,
                        uid,
                        {
                            UNDERTAKING: REQUESTS.name,
                            NUMBER: str(number),
                            **step.mark.body(),
                            "generation": step.generation,
                            "request": asdict(request),
                            "digest": request.digest,
                            "file": shown,
                            "asked_at": format_instant(time_of(tenant)),
                        },
                    )
                ]
            )
    raise SomebodyError(
        "the request is written",
        where=shown,
        mend=f"send the request to {step.action.to or f'somebody who holds `{step.power}`'}; when it is done, "
        f"run `sigillum enact {charter}` again",
    )


def _for_the_ca(office: Office, uid: str, charter: str, wanted: CertificateRequest, advice: str) -> SomebodyError:
    """The request for a certificate (PKCS#10), written for the house's CA; and that it is waited for."""
    from sigillum.keys.certificates import request

    key, _ = office.keepings.of(uid).key(wanted.credential, wanted.generation)
    shown = f"{FOLDER}/{charter}-{wanted.credential}-{wanted.generation}.csr.pem"
    put(office.workspace.folder / shown, request(key, wanted.subject))
    return SomebodyError(
        "the request for a certificate is written", where=shown, mend=f"{advice}; then run the same command again"
    )


def put(path: Path, document: Mapping[str, Any] | bytes) -> None:
    """Write a file for others to read: whole or not at all."""
    text = document if isinstance(document, bytes) else json.dumps(document, indent=1, ensure_ascii=False) + "\n"
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


def settle(office: Office, uid: str, outline: Outline) -> None:
    """Take the open requests of a charter as far as they go: what is asked for no more was done, or is not wanted any more."""
    asked = frozenset((s.mark, s.generation) for s in outline.steps if s.kind is StepKind.ASK)
    for one in [k for k in office.books.begun(REQUESTS) if k.uid == uid]:
        advance(office, REQUESTS, one, wanted=asked)


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
    with office.books.ledger(write=True).claim(CLAIM, BRIEFLY_SECONDS):
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
