"""Acting for people by a delegation: whom one covers, and why it does not cover somebody."""

from __future__ import annotations

from collections.abc import Iterable, Set
from typing import NamedTuple

from sigillum.core.kinds.delegating import ALL, TEAM_PREFIX, Delegation

NO_DELEGATION, SCOPE, OUTSIDE = "no-delegation", "scope-not-delegated", "person-outside"


class Person(NamedTuple):
    """A person by the name there, and the names of the teams it is in, through teams in teams."""

    name: str
    teams: Set[str] = frozenset()


def covers(delegation: Delegation, person: Person) -> bool:
    """Is a person among those whom it is for? Names are compared as they stand."""
    domain = person.name.rpartition("@")[2]
    inside = (
        ALL in delegation.people
        or person.name in delegation.people
        or any(f"{TEAM_PREFIX}{team}" in delegation.people for team in person.teams)
    )
    return inside and domain == delegation.domain


def missing(delegations: Iterable[Delegation], person: Person, scope: str) -> str:
    """Why none of them lets its holder act for this person with this scope: of two reasons the scope; empty where one does."""
    all_ = list(delegations)
    if not all_:
        return NO_DELEGATION
    if any(scope in d.scopes and covers(d, person) for d in all_):
        return ""
    return OUTSIDE if any(scope in d.scopes for d in all_) else SCOPE
