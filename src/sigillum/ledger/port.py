"""What every ledger storage offers; one that PostgreSQL could serve as well as a file."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from typing import Any, Protocol

from sigillum.core.records.chain import Head, LedgerEntry


@dataclass(frozen=True, slots=True)
class Fresh:
    """An entry to be appended: what happened, to which charter (its uid)."""

    kind: str
    charter: str
    body: Mapping[str, Any] = field(default_factory=dict)


class Ledger(Protocol):
    """Append-only storage. Nothing is ordered by wall time."""

    stream: str
    writable: bool  # it was opened with its signing key

    def head(self) -> Head:
        """Where it stands."""
        ...

    def append(self, entries: Sequence[Fresh], expected_head: Head | None = None) -> Head:
        """Seal and store all entries or none. Raises MachineError where `expected_head` is no longer the head."""
        ...

    def entries(self, charter: str = "", newest: int = 0, kind: str = "", after: int = 0) -> Iterator[LedgerEntry]:
        """All entries in order; of one charter (or loan), of one kind, only the newest so many, or only those `after` one."""
        ...

    def strange(self) -> list[str]:
        """What stands in the storage beside what belongs there, in words."""
        ...

    def hash_at(self, sequence: int) -> str | None:
        """The hash of one entry."""
        ...

    def claim(self, key: str, lease_seconds: float) -> AbstractContextManager[None]:
        """Be the only one who works on `key`; given back at the latest when the holder ends.

        Raises MachineError where somebody else holds it and `lease_seconds` of patience do not change that.
        """
        ...

    def book(self, what: str, key: str) -> str | None:
        """Whose stream a row of the books names (`core.records.books`); None where there is no such row."""
        ...

    def rows(self, what: str, below: str = "") -> dict[str, str]:
        """All rows of one sort: key -> uid; those only whose uid comes before a text, where one is given."""
        ...

    def books(self) -> dict[tuple[str, str], str]:
        """All rows: (what, key) -> uid."""
        ...

    def rebuild(self) -> None:
        """Make the books anew from the chain."""
        ...

    def name_of(self, uid: str) -> str | None:
        """The name of today of a charter by its uid."""
        ...

    def uid_of(self, charter_name: str) -> str | None:
        """The uid of a charter by its name of today."""
        ...

    def close(self) -> None:
        """Give back what is open."""
        ...
