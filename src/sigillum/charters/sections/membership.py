"""`member_of:` and `members:`, the sections of the facet *membership*: lists of names."""

from __future__ import annotations

from sigillum.core.charter.charter import MemberWant
from sigillum.core.values.errors import Position

FACET = "membership"


def to_core(name: str, position: Position) -> MemberWant:
    return MemberWant(name, position)
