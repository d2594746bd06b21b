"""`identity:`, the section of the facet *account*."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from sigillum.charters.models import AccountName, PlacePath
from sigillum.core.charter import Identity
from sigillum.core.errors import Position

from .client import AUDIENCES, ClientSection

FACET = "account"


class IdentitySection(ClientSection):
    """Who the program is in its home tenant."""

    kind: Literal["service-account", "client", "team"] = Field(description="What kind of principal it is")
    name: AccountName = Field(description="Its name in the tenant")
    display: str | None = Field(None, description="Its name for reading; the name itself where none is given")
    location: str | None = Field(None, description="Where its program runs, in the tenant's word for it")
    reach: list[PlacePath] = Field(default_factory=list, description="Of a team: the places in which its grants count; "
                                   "the one area where they lie where none is given")


def to_core(section: IdentitySection, position: Position) -> Identity:
    return Identity(section.kind, section.name, section.display or section.name, section.location or "",
                    tuple(section.reach), position, tuple(sorted(section.redirects)), AUDIENCES[section.usable_in],
                    section.confidential)
