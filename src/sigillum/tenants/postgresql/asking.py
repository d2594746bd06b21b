"""What every part of this driver asks with, and what ids are made of."""

from __future__ import annotations

from typing import Any, Protocol
from urllib.parse import quote

from sigillum.core.kinds.access import GRANT, PLACE, ROLE
from sigillum.core.kinds.identities import ACCOUNT, TEAM
from sigillum.core.kinds.signing import CREDENTIAL

CARRIES = {
    ACCOUNT.name: frozenset({"name", "display", "active"}),
    TEAM.name: frozenset({"name", "members"}),
    PLACE.name: frozenset({"path", "type", "test"}),
    ROLE.name: frozenset({"name", "permissions", "grantable_at"}),
    GRANT.name: frozenset({"principal", "role", "place"}),
    CREDENTIAL.name: frozenset({"principal", "type", "until"}),
}


class Asking(Protocol):
    """Runs a statement with its parameters, and gives its rows."""

    def __call__(self, statement: str, values: dict[str, Any]) -> list[tuple[Any, ...]]: ...


def id_of(*values: str) -> str:
    """An id made of values, which can be had again from it."""
    return "/".join(quote(v, safe="") for v in values)
