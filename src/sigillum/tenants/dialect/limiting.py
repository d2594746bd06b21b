"""Credentials that a tenant narrows to roles: which of its principal's roles stay within the permissions that are wanted."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from sigillum.core.kinds.access import GRANT, PLACE, ROLE, counts_at
from sigillum.core.kinds.identities import TEAM
from sigillum.core.kinds.kind import Fact, Query, Record

from .fields import HiddenError
from .things import Things
from .values import Values, filled


def limited(things: Things, entry: Any, values: Values) -> list[Any]:
    """An entry for each role that its principal has at the place and that allows nothing else. Raises HiddenError, also where
    they do not allow all of it together.
    """
    wanted, principal, place = set(values["limits"]), str(values["principal"]), str(values.get("place", ""))
    found, there = dict[str, Record[Any]](), _known(things, Query(PLACE, "path", place)).first
    for name in sorted(_roles(things, principal, place)):
        role = _known(things, Query(ROLE, "name", name)).first
        if role is not None and things.records.permits(role, there) <= wanted:
            found[name] = role
    allowed = {p for role in found.values() for p in things.records.permits(role, there)}
    if allowed != wanted:
        raise HiddenError(
            f"the roles that it has at {place} and that allow no more than {', '.join(sorted(wanted))} "
            f"allow {', '.join(sorted(allowed)) or 'nothing'}"
        )
    words, now = things.dialect.words, things.speaker.now
    return [filled(entry, {**values, "role": n, "role_id": r.id}, words, now) for n, r in found.items()]


def _roles(things: Things, principal: str, place: str) -> Iterator[str]:
    """The names of the roles that it has at a place, itself or through its teams."""
    teams = _known(things, Query(TEAM, "member", principal)).records if things.section(TEAM) is not None else ()
    for carrier in (principal, *(t.id for t in teams)):
        for grant in _known(things, Query(GRANT, "principal", carrier)).records:
            if counts_at(place, grant.body.place, grant.body.reach or things.dialect.says.grants_reach):
                yield grant.body.role


def _known(things: Things, query: Query[Any]) -> Fact[Any]:
    fact = things.fact(query)
    if not fact.known:
        raise HiddenError(f"which roles it has is not shown: {fact.unknown}")
    return fact
