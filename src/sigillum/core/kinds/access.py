"""What may be done where: places, roles, grants, APIs and consents to their scopes."""

from __future__ import annotations

from datetime import datetime
from typing import Any, NamedTuple

from sigillum.core.values.text import CLASSES

from .kind import Kind, Record

Where = tuple[tuple[str, tuple[str, ...]], ...]


class Place(NamedTuple):
    """A node of the tree. `services`: those switched on here, each since when it is known; `test`: marked as a test object."""

    path: str = ""
    type: str = ""
    display: str = ""
    test: bool = False
    location: str = ""
    labels: tuple[tuple[str, str], ...] = ()
    made: datetime | None = None
    services: tuple[tuple[str, datetime | None], ...] = ()
    billing: str = ""  # the account that pays for it and what is below


class Role(NamedTuple):
    """A named set of permissions, each with its class. `grantable_at`: kinds of place; none: all."""

    name: str = ""
    display: str = ""
    breadth: str = ""
    permissions: tuple[tuple[str, str], ...] = ()
    grantable_at: tuple[str, ...] = ()
    custom: bool = False


HERE, BELOW, HERE_AND_BELOW = REACHES = ("here", "below", "here-and-below")  # seen from the place of a grant


def counts_at(at: str, place: str, reach: str) -> bool:
    """Does a grant at a place, of such a reach, count at another place?"""
    return reach != BELOW if at == place else reach != HERE and at.startswith(f"{place}/")


NOWHERE = "nowhere"  # the kind of place at which a role is granted that somebody has without any grant


class Grant(NamedTuple):
    """A role at a place, in a window. `place` is a path, or `@ID` where a principal is the place."""

    principal: str = ""
    role: str = ""
    place: str = ""
    start: datetime | None = None
    until: datetime | None = None
    where: Where = ()
    reason: str = ""
    made: datetime | None = None
    role_id: str = ""
    place_id: str = ""
    place_name: str = ""
    principal_name: str = ""
    carrier: str = ""  # the kind of its principal
    reach: str = ""  # where it counts: one of REACHES; empty: as all grants of its tenant
    over: str = ""  # where a principal has one role at a place: the one that it takes the place of


class Scope(NamedTuple):
    """One scope of an API: its class, the ways of acting in which it is used, what it can be narrowed to."""

    value: str
    display: str = ""
    class_: str = ""
    acts: tuple[str, ...] = ()
    narrowed_to: str = ""
    always: bool = False


class Api(NamedTuple):
    """An API with its scopes."""

    name: str = ""
    display: str = ""
    scopes: tuple[Scope, ...] = ()


class Consent(NamedTuple):
    """An administrator's approval of one scope, used in one way; `only`: the places that it is narrowed to."""

    principal: str = ""
    api: str = ""
    scope: str = ""
    acts: str = ""
    only: tuple[str, ...] = ()
    by: str = ""
    made: datetime | None = None
    principal_name: str = ""


def _names(permissions: Any) -> Any:
    """A role's permissions without their classes, which the tenant gives them."""
    return tuple(p[0] for p in permissions or ())


def _service(value: str, about: Any) -> tuple[str, datetime | None]:
    return value, None


PLACE = Kind("place", Place, key=("path",), power="places", finders=("path", "under", "all"), entries={"services": _service})
ROLE = Kind("role", Role, power="roles", finders=("name", "all"), normal={"permissions": _names})
GRANT = Kind(
    "grant",
    Grant,
    key=("principal", "role", "place", "where", "reach", "start", "until"),
    power="grants",
    finders=("principal", "role", "itself"),
    write_only=("carrier", "over"),
)
API = Kind("api", Api, finders=("name", "all"))
CONSENT = Kind("consent", Consent, key=("principal", "api", "scope", "acts", "only"), power="consents", finders=("principal",))


def widest(role: Record[Role]) -> str:
    """The strongest class among a role's permissions."""
    classes = [c for _, c in role.body.permissions if c in CLASSES]
    return max(classes, key=CLASSES.index, default="looks")


def allows(role: Record[Role]) -> str:
    """A role's permissions, each with its class: shown wherever a role is chosen."""
    return permission_words(role.body.permissions) or "nothing"


def permission_words(permissions: tuple[tuple[str, str], ...]) -> str:
    """Permissions with their classes, for reading."""
    return ", ".join(f"{p} ({c.replace('-', ' ')})" for p, c in permissions)
