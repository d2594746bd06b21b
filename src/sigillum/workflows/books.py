"""What the ledger's books say of things beside one charter's own history: looked up row by row, never read whole."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sigillum.core.records.books import LOAN, THING
from sigillum.core.records.history import LENT

if TYPE_CHECKING:
    from .office import Office


class Books:
    """Answers from the index beside the chain."""

    def __init__(self, office: Office) -> None:
        self._office = office

    def owner(self, identity: str) -> str:
        """Which charter or loan made a thing, in words; empty where none did."""
        uid = self._book(THING, identity)
        if not uid:
            return ""
        ledger = self._office.ledger()
        name = ledger.name_of(uid)
        if name is not None:
            return f"the charter {name}"
        return f"the {uid.replace('-', ' ')}" if any(True for _ in ledger.entries(uid, kind=LENT)) else ""

    def lent(self, mark: str) -> bool:
        """Is this the externalId of a loan's grant?"""
        return bool(mark) and bool(self._book(LOAN, mark))

    def has_charter(self, name: str) -> bool:
        """Does the workspace have a charter of this name?"""
        return self._office.has_charter(name)

    def _book(self, what: str, key: str) -> str:
        return (self._office.ledger().book(what, key) if self._office.has_ledger() else None) or ""
