"""`identity:`, the section of the facet *account*."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from sigillum.charters.models import AccountName, PlacePath
from sigillum.core.charter.charter import Identity
from sigillum.core.values.errors import Position
from sigillum.reading.models import Section

from .client import AUDIENCES

FACET = "account"


class IdentitySection(Section):
    """Who the program is in its home tenant."""

    kind: Literal["service-account", "client", "team", "foreign"] = Field(description="What kind of principal it is")
    name: AccountName | None = Field(None, description="Its name in the tenant; by the workspace's pattern where none is given")
    display: str | None = Field(None, description="Its name for reading; the name itself where none is given")
    location: str | None = Field(None, description="Where its program runs, in the tenant's word for it")
    reach: list[PlacePath] | None = Field(
        None,
        description="Of a team: the places in which its grants count; left out: the one area where they lie; `[]`: everywhere",
    )
    area: PlacePath | None = Field(None, description="The place in which the account lives, where its tenant has such")
    installation_wide: str | None = Field(None, description="Instead of an area: why it has to be installation-wide")
    web_only: bool = Field(False, description="True: it signs in at the web interface with its password, and nowhere else")
    mailbox: bool = Field(False, description="True: it has a mailbox of its own; `licence` includes one")
    redirects: list[str] = Field(default_factory=list, description="Of a client: redirect addresses, where people sign in")
    usable_in: Literal["this-tenant", "any-tenant"] = Field("this-tenant", description="Of a client: where it may be used")
    confidential: bool = Field(True, description="Of a client: false where the program can keep no secret")
    organisation: str | None = Field(None, description="Of a foreign principal: where it lives")


def to_core(section: IdentitySection, position: Position, usual_name: str) -> Identity:
    name = section.name or usual_name
    return Identity(
        section.kind,
        name,
        section.display or name,
        section.location or "",
        tuple(section.reach) if section.reach is not None else None,
        position,
        tuple(sorted(section.redirects)),
        AUDIENCES[section.usable_in],
        section.confidential,
        section.area or "",
        section.installation_wide or "",
        section.web_only,
        section.organisation or "",
        section.mailbox,
    )
