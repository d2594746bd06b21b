"""Books: what the ledger says of things beside one charter's own history, looked up where it is asked for."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING

from sigillum.core.records.history import KNOWN, LENT, RENAMED

if TYPE_CHECKING:
    from .office import Office


class Books:
    """Answers from the ledger; each kind of look-up reads it once."""

    def __init__(self, office: Office) -> None:
        self._office = office

    def owner(self, identity: str) -> str:
        """Which charter or loan made a thing, in words; empty where none did."""
        return self._owners.get(identity, "")

    def lent(self, mark: str) -> bool:
        """Is this the externalId of a loan's grant?"""
        return bool(mark) and mark in self._lent

    def has_charter(self, name: str) -> bool:
        """Does the workspace have a charter of this name?"""
        return self._office.has_charter(name)

    @cached_property
    def _lent(self) -> frozenset[str]:
        if not self._office.has_ledger():
            return frozenset()
        return frozenset(str(e.body["external_id"]) for e in self._office.ledger().entries(kind=LENT))

    @cached_property
    def _owners(self) -> dict[str, str]:
        names, made = dict[str, str](), dict[str, str]()
        for entry in self._office.ledger().entries() if self._office.has_ledger() else ():
            if entry.kind in (KNOWN, RENAMED):
                names[entry.charter] = f"the charter {entry.body['name']}"
            elif entry.kind == LENT:
                names[entry.charter] = f"the {entry.charter.replace('-', ' ')}"
            elif "id" in entry.body:
                made[str(entry.body["id"])] = entry.charter
        return {identity: names[uid] for identity, uid in made.items() if uid in names}
