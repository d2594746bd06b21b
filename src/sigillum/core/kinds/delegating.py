"""Delegations: a client's or an account's right to act for people, for listed OAuth scopes (RFC 6749 §3.3).

What RFC 8693 calls delegation is another thing: a token that names its actor.
"""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

from .kind import Kind

ALL, TEAM_PREFIX = "all", "team:"  # whom it may act for: everybody, or a team by its name; else a person's


class Delegation(NamedTuple):
    """One delegation. `people`: `all`, `team:NAME`, or names of people, all of one `domain`."""

    principal: str = ""
    domain: str = ""
    people: tuple[str, ...] = ()
    scopes: tuple[str, ...] = ()
    used_at: datetime | None = None
    principal_name: str = ""


DELEGATION = Kind(
    "delegation",
    Delegation,
    key=("principal", "domain"),
    power="delegations",
    finders=("principal", "all"),
    write_only=("carrier",),
)
