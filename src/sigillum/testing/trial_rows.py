"""What came of trying a tenant: a line for each thing that was tried."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

WORKS, DIFFERS, NOT_DESCRIBED, NOT_TRIED = "works", "differs", "not described", "not tried"
MARKED, NAMED, NONE = "mark kept", "name only", "none"


class Row(NamedTuple):
    """One line of the table: what was tried, what came of it, and why."""

    what: str
    came: str
    why: str = ""


@dataclass(slots=True)
class Tried:
    """What came of trying a tenant."""

    tenant: str
    name: str
    rows: list[Row] = field(default_factory=list)
    left: list[str] = field(default_factory=list)
    safety: str = ""  # not known, where no account was made

    @property
    def good(self) -> bool:
        return not self.left and all(r.came != DIFFERS for r in self.rows)
