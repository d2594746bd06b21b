"""`roles:`, the section of the facet *role*."""

from __future__ import annotations

from pydantic import Field

from sigillum.charters.models import CharterName, Permission
from sigillum.core.charter.charter import RoleWant
from sigillum.core.values.errors import Position
from sigillum.reading.models import Section

FACET = "role"


class RoleSection(Section):
    """A custom role: a name for exactly these permissions."""

    name: CharterName = Field(description="Its name in the tenant")
    display: str | None = Field(None, description="Its name for reading; the name itself where none is given")
    permissions: list[Permission] = Field(min_length=1, description="What it allows, and nothing else")


def to_core(section: RoleSection, position: Position) -> RoleWant:
    return RoleWant(section.name, section.display or section.name, tuple(dict.fromkeys(section.permissions)), position)
