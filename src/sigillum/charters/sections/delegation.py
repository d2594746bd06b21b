"""`delegation:`, the section of the facet *delegation*."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from sigillum.charters.models import AccountName
from sigillum.core.charter.wants import DelegationWant
from sigillum.core.kinds.delegating import ALL, TEAM_PREFIX
from sigillum.core.values.errors import Position
from sigillum.reading.models import Section

FACET = "delegation"


class ScopeSection(Section):
    """One OAuth scope, and what it is for."""

    scope: str = Field(min_length=1, pattern=r"^[\x21\x23-\x5B\x5D-\x7E]+$", description="As requests have it (RFC 6749 §3.3)")
    because: str = Field(description="What it is for")


class TeamSection(Section):
    """The members of a team."""

    team: AccountName


class DelegationSection(Section):
    """The right to act for people."""

    domain: str = Field(min_length=1, description="Whose people")
    people: Literal["all"] | TeamSection | list[AccountName] = Field(description="All of the domain, a team, or a list")
    scopes: list[ScopeSection] = Field(min_length=1)


class Part(Section):
    """The key of a charter; its model is made only where one has it."""

    delegation: DelegationSection | None = Field(None, description="A right to act for people, for listed scopes")


def to_core(section: DelegationSection, position: Position) -> DelegationWant:
    people = (
        (ALL,)
        if section.people == ALL
        else (f"{TEAM_PREFIX}{section.people.team}",)
        if isinstance(section.people, TeamSection)
        else tuple(section.people)
    )
    return DelegationWant(section.domain, people, tuple((s.scope, s.because) for s in section.scopes), position)
