"""The part of `identity:` that only a client has: the section of the facet *client*."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from sigillum.charters.models import Section

FACET = "client"
AUDIENCES = {"this-tenant": "tenant", "any-tenant": "any"}


class ClientSection(Section):
    """What an OAuth client registration says beside its name."""

    redirects: list[str] = Field(default_factory=list, description="Of a client: redirect addresses, where people sign in")
    usable_in: Literal["this-tenant", "any-tenant"] = Field("this-tenant", description="Of a client: where it may be used")
    confidential: bool = Field(True, description="Of a client: false where the program can keep no secret")
