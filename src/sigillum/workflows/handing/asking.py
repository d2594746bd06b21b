"""Writing a request for what nobody here has the power to do; and files that other people read."""

from __future__ import annotations

import json
import threading
from collections.abc import Mapping
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from sigillum.core.kinds.changes import Doing
from sigillum.core.records import history
from sigillum.core.records.history import NUMBER, UNDERTAKING
from sigillum.core.records.requests import question_of, request_of
from sigillum.core.records.steps import Ask, CertificateRequest, Step
from sigillum.core.undertakings.requests import REQUESTS
from sigillum.core.values.errors import MachineError, SomebodyError
from sigillum.core.values.times import format_instant
from sigillum.keeping.private import write_private
from sigillum.keys import signed
from sigillum.ledger.port import Fresh
from sigillum.workflows.desk.office import Office
from sigillum.workflows.desk.tenants import time_of

FOLDER = "requests"


_NUMBERING = threading.Lock()  # several charters are enacted at a time


def ask(office: Office, uid: str, charter: str, step: Step, doing: Doing | None) -> None:
    """Write the request for a step, and into the ledger where it is a new one. Raises SomebodyError: it waits then."""
    assert isinstance(step.action, Ask)
    tenant, ledger = office.tenants.reach(step.tenant), office.books.writable_ledger()
    if step.action.request is not None:
        raise _for_the_ca(office, uid, charter, step.action.request, step.action.advice)
    if doing is not None:
        request = request_of(step, doing, tenant.address.address, charter)
    elif step.action.tells is not None:
        request = question_of(step.action.tells, tenant.address.address, charter)
    else:
        return
    request = replace(request, workspace=office.workspace.file.workspace)
    with _NUMBERING:
        same = next((k for k in office.books.begun(REQUESTS) if k.uid == uid and k.digest == request.digest), None)
        newest = list(ledger.entries(kind=history.REQUESTED, newest=1))
        number = same.number if same is not None else int(newest[0].body[NUMBER]) + 1 if newest else 1
        shown = same.file if same is not None else f"{FOLDER}/{number:04d}-{charter}.json"
        path = office.workspace.folder / shown
        if same is None or not path.exists():
            put(path, signed.sign(request.body(), office.books.signing_key()))
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
