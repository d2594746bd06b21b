"""The ledger's use cases: begin, show, verify, checkpoints and the witness."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sigillum.core.records.books import LOAN, NAME, THING, rows_of
from sigillum.core.records.chain import ChainFault, Head, LedgerEntry, check, compare_heads, read_head, signed_head
from sigillum.core.records.deeds import Deed, deeds
from sigillum.core.values.errors import FileError, MachineError
from sigillum.core.values.marks import Mark
from sigillum.core.values.outside import json_of
from sigillum.keeping.private import write_private
from sigillum.keys.ledgerkey import Verifier

from .office import Office


@dataclass(frozen=True, slots=True)
class Verification:
    """What a check of the whole ledger found."""

    head: Head
    findings: tuple[ChainFault, ...]
    against: str = ""


def entries(office: Office, charter: str = "", newest: int = 0) -> list[LedgerEntry]:
    """Entries of a charter (by its name) or of all. Raises FileError for a charter the ledger does not know."""
    ledger = office.books.ledger()
    uid = ledger.uid_of(charter) if charter else ""
    if uid is None:
        raise FileError(
            f"the ledger knows no charter {charter!r}",
            where="the ledger",
            mend="`sigillum ledger show` lists everything; a charter is known once it was enacted",
        )
    return list(ledger.entries(uid, newest))


def deeds_told(office: Office, charter: str = "", newest: int = 0) -> Iterator[tuple[str, Deed]]:
    """What was done, oldest first, each with the charter's or loan's name. Raises FileError for a charter the ledger does not
    know.
    """
    from sigillum.core.facets.registry import words

    names = office.books.names()
    for deed in _newest(office, charter, newest, words) if newest else deeds(entries(office, charter), words):
        yield names.get(deed.stream, deed.stream.replace("-", " ")), deed


def _newest(office: Office, charter: str, newest: int, words: Callable[[Mark], str]) -> list[Deed]:
    """The last so many; of the entries no more are read than that takes."""
    read = newest * 2
    while True:
        all_ = entries(office, charter, read)
        found = list(deeds(all_, words))
        if len(found) >= newest or len(all_) < read:
            return found[-newest:]
        read *= 2


def verify(office: Office, against: Path | None = None, *, rebuild: bool = False) -> Verification:
    """Check every entry; with `against`, also that the ledger continues that checkpoint. Raises FileError.

    `rebuild`: make the books anew, if the chain itself is as it should be.
    """
    ledger = office.books.ledger()
    verify_signature = Verifier(office.workspace.file.ledger_key)
    try:
        all_ = list(ledger.entries())
    except MachineError as problem:
        return Verification(ledger.head(), (ChainFault(0, problem.what),))
    head, findings = check(all_, ledger.stream, verify_signature.all)
    findings += [ChainFault(0, "the ledger is empty, and a ledger begins with an entry")] if not all_ else []
    findings += [ChainFault(0, f"the file holds something that is not ours: {what}") for what in ledger.strange()]
    if rebuild and not findings:
        ledger.rebuild()
    findings += _books(office, all_)
    witness = office.workspace.file.witness
    source = against or (office.workspace.folder / witness if witness else None)
    if source is not None and (against is not None or source.exists()):
        kept, signature = read_checkpoint(source)
        if not verify_signature(kept.message(), signature):
            findings.append(ChainFault(kept.sequence, f"the checkpoint {source} is not signed by this ledger's key"))
        else:
            findings += compare_heads(head, kept, ledger.hash_at)
    return Verification(head, tuple(findings), str(source) if source is not None else "")


def _books(office: Office, all_: list[LedgerEntry]) -> list[ChainFault]:
    """The books beside the chain must be what its entries say."""
    said, kept = rows_of(all_), office.books.ledger().books()
    words = {NAME: "the charter", THING: "the thing", LOAN: "the loan"}
    return [
        ChainFault(0, f"the books say something else of {words.get(what, what)} {key}")
        for what, key in sorted({k for k in (*said, *kept) if said.get(k) != kept.get(k)})
    ]


def checkpoint(office: Office) -> dict[str, Any]:
    """Where the ledger stands, signed: to be kept elsewhere."""
    return signed_head(office.books.ledger().head(), office.books.signing_key())


def read_checkpoint(path: Path) -> tuple[Head, str]:
    """Raises FileError where the file is no checkpoint."""
    try:
        return read_head(json_of(path.read_text(encoding="utf-8")))
    except OSError as problem:
        raise FileError(
            f"the checkpoint cannot be read: {problem.strerror}",
            where=str(path),
            mend="name a file that `sigillum ledger head` wrote",
        ) from problem
    except ValueError as problem:
        raise FileError(
            "this is not a checkpoint", where=str(path), mend="name a file that `sigillum ledger head` wrote"
        ) from problem


def keep_witness(office: Office) -> None:
    """Store the head where `witness:` says, after each run that wrote. Raises MachineError."""
    witness = office.workspace.file.witness
    if not witness:
        return
    path = office.workspace.folder / witness
    try:
        if not path.parent.is_dir():
            raise MachineError(
                "the folder of the witness is not there",
                where=str(path.parent),
                mend="make it, or change `witness:` in sigillum.yaml",
            )
        write_private(path, json.dumps(checkpoint(office), indent=1) + "\n")
    except PermissionError as problem:
        raise MachineError("the witness cannot be written", where=str(path), mend="mend the folder's rights") from problem
