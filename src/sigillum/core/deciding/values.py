"""What deciding works with, as values: principals, teams, places, rights, credentials, questions and decisions."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Generic, NamedTuple

from sigillum.core.deciding.refusals import Cause
from sigillum.core.values.worlds import W

ALWAYS = datetime.min.replace(tzinfo=UTC)
NEVER = datetime.max.replace(tzinfo=UTC)
Labels = tuple[tuple[str, frozenset[str]], ...]


class KnownPrincipal(NamedTuple):
    """A person, an account or a team; `foreign` lives elsewhere, `ready` False: it is still being made. `held`: why we
    suspended it, and until when.
    """

    id: str
    name: str
    kind: str = "service-account"
    active: bool = True
    ready: bool = True
    location: str = ""
    held: str = ""


class Team(NamedTuple):
    """How far a team's grants count (empty: everywhere), and whether every native principal is in it."""

    id: str
    name: str
    reach: tuple[str, ...] = ()
    everyone: bool = False


class Membership(NamedTuple):
    """A principal or team in a team; `since` where it is known."""

    member: str
    team: str
    since: datetime | None = None


class KnownPlace(NamedTuple):
    """A node of the tree. Services, location and labels hold below it, too."""

    path: str
    kind: str = ""
    services: tuple[tuple[str, datetime | None], ...] = ()
    location: str = ""
    labels: tuple[tuple[str, str], ...] = ()
    made: datetime | None = None


class Right(NamedTuple):
    """One grant as deciding needs it; at `place` `@ID` a principal is the place."""

    id: str
    carrier: str
    role: str
    place: str
    start: datetime | None = None
    until: datetime | None = None
    labels: Labels = ()
    made: datetime | None = None
    ready: bool = True
    leaving: bool = False  # it was ended, and is felt until `until`
    reach: str = ""  # where it counts; empty: as all rights of its tenant


class Held(NamedTuple):
    """A credential: its life, and what it is narrowed to."""

    id: str
    principal: str
    name: str = ""
    active: bool = True
    start: datetime | None = None
    until: datetime | None = None
    limits: frozenset[str] = frozenset()
    kind: str = ""
    place: str = ""  # where it is for one alone

    def misfit(self, takes: tuple[str, ...]) -> bool:
        """Is it of another kind than a service takes? None named: it takes whichever."""
        return bool(takes and self.kind) and self.kind not in takes


class Consent(NamedTuple):
    """An administrator's approval, as deciding needs it; `only`: the places it is narrowed to (none: all)."""

    id: str
    principal: str
    scope: str
    acts: str
    only: tuple[str, ...] = ()
    made: datetime | None = None
    by: str = ""


class Asks(NamedTuple):
    """What a client's registration asks for: (api, scope, way of acting)."""

    principal: str
    requests: frozenset[tuple[str, str, str]]


class Question(NamedTuple):
    """May `principal` use `permission` at `place` at this time, with this credential (none: any), for this person?"""

    principal: str
    permission: str
    place: str
    at: datetime
    credential: str = ""
    person: str = ""  # the id of the one on whose behalf a client acts; none: it acts alone


class Hidden(NamedTuple):
    """A fact that is not known, by what it is about: `place` and a path, `role` and its name, and of a principal or team (its
    id) the `principal` itself, its `rights`, its `teams`, its `credentials`, its `consents`, or what it `asks` for.
    """

    what: str
    of: str = ""


class Decision(NamedTuple, Generic[W]):
    """The verdict, its cause, the right that decided or came nearest, and all others that would allow it.

    `allowed` None: it rests on facts that are not known, and `hidden` says which, in words.
    """

    allowed: bool | None
    cause: Cause
    by: Right | None = None
    also: tuple[Right, ...] = ()
    needed: Decision[W] | None = None  # of the second permission, where that one is missing
    need: tuple[str, str] | None = None  # the second permission and its place
    hidden: tuple[str, ...] = ()


class Node(NamedTuple):
    """A place compiled: the line to the root (nearest first), the spots at which a right counts here, and what holds there."""

    path: str
    line: tuple[str, ...]
    inside: frozenset[str]
    services: Mapping[str, datetime]
    location: str
    labels: Mapping[str, str]
    kinds: Mapping[str, str]  # kind -> nearest enclosing place of it
    principal: bool = False
    since: datetime = ALWAYS  # from when decisions know it, and every place above
    spots: tuple[str, ...] = ()
    hidden: tuple[str, ...] = ()  # places above that are not known: what they would add is not

    def foreign(self, kinds: tuple[str, ...]) -> bool:
        """Is it of none of these kinds? None named: whichever."""
        return bool(kinds) and all(self.kinds.get(k) != self.path for k in kinds)


class Carrier(NamedTuple):
    """A principal or team whose rights count for somebody, from `begin` on."""

    id: str
    begin: datetime
    reach: frozenset[str] | None


Cut = tuple[datetime, datetime, Labels, Right]  # from when, until when, where, and which right
Spots = dict[str, list[Cut]]  # by place
Entries = list[tuple[datetime, frozenset[str] | None, Spots]]  # carriers of one permission: from when, reach, where
