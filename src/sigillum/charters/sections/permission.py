"""`permissions:`, the section of the facet *permission*."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

from pydantic import Field

from sigillum.charters.models import PlacePath
from sigillum.core.charter.charter import PermissionWant
from sigillum.core.values.errors import Position
from sigillum.reading.models import Section

FACET = "permission"


class PermissionSection(Section):
    """OAuth scopes of one API that a client uses."""

    api: str = Field(description="The API's name in the tenant")
    scopes: list[str] = Field(min_length=1, description="OAuth scopes of it")
    acts: Literal["on-behalf", "alone"] = Field(description="on-behalf: of people who are signed in; alone: without anybody")
    only: list[PlacePath] = Field(default_factory=list, description="The mailboxes, calendars or sites that it is narrowed to")


class Part(Section):
    """The key of a charter; its model is made only where one has it."""

    permissions: list[PermissionSection] = Field(default_factory=list, description="Of a client: scopes of APIs")


def to_core(section: PermissionSection, position: Position) -> Iterator[PermissionWant]:
    for scope in dict.fromkeys(section.scopes):
        yield PermissionWant(section.api, scope, section.acts, tuple(sorted(set(section.only))), position)
