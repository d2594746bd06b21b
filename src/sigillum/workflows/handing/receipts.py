"""Receipts of sealed sheets: the receiver shows that one was opened, by a signature or by the code inside; whoever sealed it
takes that down.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sigillum.core.charter.sheet import Sheet
from sigillum.core.records import history
from sigillum.core.values.errors import FileError, SomebodyError
from sigillum.core.values.text import plain
from sigillum.core.values.times import format_instant, whole_second
from sigillum.keys import signed
from sigillum.ledger.port import Fresh
from sigillum.workflows.desk.books import writer_name
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office

from .asking import put
from .requests import read_json, signer_words
from .sealing import code_mark

KIND = "sigillum-sheet-receipt"
ABOUT = ("to", "credential", "generation", "sealed")


def write(office: Office | None, sheet: Sheet, path: Path) -> None:
    """That a sheet was opened here: its number, and nothing of its values. Signed with the workspace's key; where there is
    none, with the code that stood in the sheet, which nobody has who did not open it.
    """
    at = format_instant(whole_second(datetime.now(UTC)))
    body = {"kind": KIND, "sheet": sheet.sealed, "charter": sheet.charter, "by": writer_name(), "at": at}
    put(path, signed.sign(body, office.books.signing_key()) if office is not None else {**body, "code": sheet.code})


def take(office: Office, path: Path, known: Sequence[str] = ()) -> tuple[Mapping[str, Any], str]:
    """Take a receipt down, once; what was handed over, and what is said of the signature.

    Raises FileError for no receipt, or one of a sheet that was not sealed here; SomebodyError for a signer whom nobody knows.
    """
    body = read_json(path)
    code = body.get("code")
    signer = signed.check(body, str(path)).key_id if code is None else ""
    if body.get("kind") != KIND:
        raise FileError("this is no receipt of a sheet", where=str(path), mend="take the one that the receiver wrote")
    ledger, said = office.books.writable_ledger(), signer_words(office, signer) if signer else "shown by the code in the sheet"
    if signer and signer not in office.trusted(known):
        raise SomebodyError(
            f"the receipt is {said}; it says nothing",
            where=str(path),
            mend="compare the thumbprint with its sender on another way, and say `--from THUMBPRINT` or add it "
            "to `signers` in sigillum.yaml",
        )
    with ledger.claim(CLAIM, BRIEFLY_SECONDS):
        given = [e for e in ledger.entries(kind=history.HANDED) if e.body.get("sealed", "") == body.get("sheet")]
        if not given:
            raise FileError(
                "the receipt is of a sheet that was not sealed here",
                where=str(path),
                mend="take it to the workspace that sealed it",
            )
        if not signer and not (isinstance(code, str) and given[0].body.get("code") == code_mark(code)):
            raise FileError(
                "its code is not the one that stood in that sheet",
                where=str(path),
                mend="take the receipt that the receiver wrote when it was opened",
            )
        told = {"by": plain(body.get("by")), "key": signer, "at": plain(body.get("at"))}
        known_by = {e.charter for e in ledger.entries(kind=history.OPENED) if e.body["sealed"] == body["sheet"]}
        ledger.append(
            [Fresh(history.OPENED, e.charter, {n: e.body[n] for n in ABOUT} | told) for e in given if e.charter not in known_by]
        )
    return {**given[0].body, "charter": office.books.names().get(given[0].charter, given[0].charter)}, said
