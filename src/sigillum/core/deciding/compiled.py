"""What is known of one tenant, compiled for deciding: places with their lines, carriers, rights by permission and place.

It is compiled as questions need it; a question then costs what the grants that could matter cost, not what all do.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import datetime, timedelta

from sigillum.core.deciding.refusals import RANK, Cause
from sigillum.core.deciding.values import (
    ALWAYS,
    NEVER,
    Asks,
    Carrier,
    Consent,
    Cut,
    Entries,
    Held,
    Hidden,
    KnownPlace,
    KnownPrincipal,
    Labels,
    Membership,
    Node,
    Right,
    Spots,
    Team,
)
from sigillum.core.kinds.access import BELOW, HERE, HERE_AND_BELOW
from sigillum.core.kinds.delegating import Delegation
from sigillum.core.kinds.profile import Operation
from sigillum.core.values.text import lines

FEW = 12  # places that are quicker looked through than the line to the root
MOST_MERGED = 64  # rights of one carrier and permission that are copied into its members' common table
# ranks as plain numbers: they are compared for each right that could matter
ALLOWED, NOTHING, ELSEWHERE, BEYOND, LABEL, ENDED = (
    RANK[c]
    for c in (
        Cause.ALLOWED,
        Cause.NOTHING_GRANTED,
        Cause.PLACE_ELSEWHERE,
        Cause.REACH_ELSEWHERE,
        Cause.LABEL_DIFFERS,
        Cause.WINDOW_ENDED,
    )
)


class Compiled:
    """What is known of one tenant for deciding. `felt` is how long a change takes until decisions follow it."""

    def __init__(
        self,
        principals: dict[str, KnownPrincipal] | None = None,
        teams: dict[str, Team] | None = None,
        memberships: list[Membership] | None = None,
        places: dict[str, KnownPlace] | None = None,
        roles: dict[str, frozenset[str]] | None = None,
        rights: list[Right] | None = None,
        credentials: dict[str, Held] | None = None,
        operations: Mapping[str, Operation] | None = None,
        felt: timedelta = timedelta(0),
        asks: dict[str, Asks] | None = None,
        consents: dict[str, list[Consent]] | None = None,
        hidden: Mapping[Hidden, str] | None = None,
        licensed: Mapping[str, frozenset[str]] | None = None,
        reach: str = HERE_AND_BELOW,
        delegations: dict[str, list[Delegation]] | None = None,
    ) -> None:
        self.principals, self.teams, self.memberships = principals or {}, teams or {}, memberships or []
        self.places, self.roles, self.rights = places or {}, roles or {}, rights or []
        self.credentials, self.operations, self.felt = credentials or {}, operations or {}, felt
        self.asks, self.consents = asks or {}, consents or {}
        self.licensed = licensed or {}  # the licences that each principal holds, by their names
        self.hidden = dict(hidden or {})  # what is not known, and why
        self.delegations = delegations or {}  # by the principal that may act for people
        self.reach = reach  # where a right counts that does not say it itself
        # compiled as questions need it
        self._varied: bool | None = None
        self._nodes: dict[str, Node | None] = {}
        self._carriers: dict[str, tuple[Carrier, ...]] = {}
        self._tables: dict[str, dict[str, Spots]] = {}
        self._views: dict[str, dict[str, Entries]] = {}
        self._live: dict[str, dict[str, Entries]] = {}
        self._shares: dict[str, dict[str, Entries]] = {}
        self._of: dict[str, list[Right]] | None = None
        self._teams_of: dict[str, list[Membership]] | None = None

    # --- compiled once, when first asked ------------------------------------------------------------------------
    def node(self, path: str) -> Node | None:
        """The place as deciding needs it, None where it is not known."""
        if path not in self._nodes:
            self._nodes[path] = self._compile(path)
        return self._nodes[path]

    def _compile(self, path: str) -> Node | None:
        if path.startswith("@"):
            known = path[1:] in self.principals
            return Node(path, (path,), frozenset([path]), {}, "", {}, {}, True, spots=(path,)) if known else None
        if path not in self.places:
            return None
        line = tuple(lines([path]))
        services, labels, kinds, location = dict[str, datetime](), dict[str, str](), dict[str, str](), ""
        begin = ALWAYS
        for here in line:
            place = self.places.get(here)
            if place is None:
                continue
            location = location or place.location
            begin = max(begin, self._felt_from(place.made))
            kinds.setdefault(place.kind, here)
            for name, value in place.labels:
                labels.setdefault(name, value)
            for service, since in place.services:
                services[service] = min(services.get(service, NEVER), self._felt_from(since))
        spots = self._spots(line)
        return Node(
            path,
            line,
            frozenset(spots),
            services,
            location,
            labels,
            kinds,
            since=begin,
            hidden=self.blind(*(Hidden("place", p) for p in line)) if self.hidden else (),
            spots=spots,
        )

    def _spots(self, line: tuple[str, ...]) -> tuple[str, ...]:
        """Of a place with its line to the root: the spots of the rights that count there."""
        if self._varied is None:
            self._varied = self.reach != HERE_AND_BELOW or any(r.reach for r in self.rights)
        return tuple(s for n, p in enumerate(line) for s in (p, f"{BELOW if n else HERE} {p}")) if self._varied else line

    def spot(self, right: Right) -> str:
        """Where a right is looked for: at its place, and where it does not count there and below, with how far it does."""
        reach = right.reach or self.reach
        return right.place if reach == HERE_AND_BELOW or right.place.startswith("@") else f"{reach} {right.place}"

    def blind(self, *keys: Hidden) -> tuple[str, ...]:
        """Which of these facts are not known, in words."""
        return tuple(dict.fromkeys(self.hidden[k] for k in keys if k in self.hidden))

    def carriers(self, principal: str) -> tuple[Carrier, ...]:
        """Whose rights count for a principal: itself, and its teams through teams in teams, each from when on."""
        if principal not in self._carriers:
            self._carriers[principal] = tuple(self._reached(principal))
        return self._carriers[principal]

    def _reached(self, principal: str) -> Iterator[Carrier]:
        begins, fresh = {principal: ALWAYS}, [principal]
        while fresh:
            member = fresh.pop()
            for team, since in self._direct(member):
                begin = max(begins[member], since)
                if begin < begins.get(team, NEVER):
                    begins[team] = begin
                    fresh.append(team)
        for carrier, begin in begins.items():
            yield Carrier(carrier, begin, self._reach(carrier))

    def _felt_from(self, since: datetime | None) -> datetime:
        """From when decisions follow what was changed at `since`; None: long ago."""
        return since + self.felt if since is not None else ALWAYS

    def _reach(self, carrier: str) -> frozenset[str] | None:
        """How far a carrier's rights count; None: everywhere."""
        return frozenset(self.teams[carrier].reach) or None if carrier in self.teams else None

    def _joined(self, member: str) -> list[Membership]:
        if self._teams_of is None:
            self._teams_of = {}
            for membership in self.memberships:
                self._teams_of.setdefault(membership.member, []).append(membership)
        return self._teams_of.get(member, [])

    def rights_of(self, carrier: str) -> list[Right]:
        """The rights that a principal or team holds itself."""
        if self._of is None:
            self._of = {}
            for right in self.rights:
                self._of.setdefault(right.carrier, []).append(right)
        return self._of.get(carrier, [])

    def view(self, principal: str) -> dict[str, Entries]:
        """For each permission, the carriers of a principal that hold it somewhere."""
        found = self._views.get(principal)
        if found is None:
            found = self._views[principal] = {}
            for carrier, begin, reach in self.carriers(principal):
                for permission, spots in self.table(carrier).items():
                    found.setdefault(permission, []).append((begin, reach, spots))
        return found

    def live(self, principal: str) -> dict[str, Entries]:
        """The same, and nothing for a principal that is not there, suspended or still being made."""
        who = self.principals.get(principal)
        found = self._live[principal] = dict[str, Entries]()
        if who is None or not who.active or not who.ready:
            return found
        reach = self._reach(principal)
        for permission, spots in self.table(principal).items():
            found[permission] = [(ALWAYS, reach, spots)]
        for team, begin in self._direct(principal):
            for permission, entries in self._shared(team).items():
                late = [(max(begin, b), r, spots) for b, r, spots in entries] if begin != ALWAYS else entries
                found.setdefault(permission, []).extend(late)
        return found

    def _direct(self, principal: str) -> Iterator[tuple[str, datetime]]:
        """The teams that somebody is in without a team between, each from when on."""
        for membership in self._joined(principal):
            yield membership.team, self._felt_from(membership.since)
        who = self.principals.get(principal)
        if who is not None and who.kind not in ("foreign", "team"):
            yield from ((t.id, ALWAYS) for t in self.teams.values() if t.everyone)

    def _shared(self, team: str) -> dict[str, Entries]:
        """What every member of a team has through it and the teams above it; small tables are put into one."""
        found = self._shares.get(team)
        if found is None:
            found = self._shares[team] = {}
            merged: dict[str, Spots] = {}
            for carrier, begin, reach in self.carriers(team):
                for permission, spots in self.table(carrier).items():
                    if reach is not None or begin != ALWAYS or sum(map(len, spots.values())) > MOST_MERGED:
                        found.setdefault(permission, []).append((begin, reach, spots))
                        continue
                    one = merged.setdefault(permission, {})
                    for place, cuts in spots.items():
                        one[place] = [*one.get(place, ()), *cuts]
            for permission, one in merged.items():
                found.setdefault(permission, []).append((ALWAYS, None, one))
        return found

    def table(self, carrier: str) -> dict[str, Spots]:
        """A carrier's rights by permission and place."""
        found = self._tables.get(carrier)
        if found is None:
            found = self._tables[carrier] = {}
            for right in self.rights_of(carrier):
                cut, spot = self.cut(right), self.spot(right)
                for permission in self.roles.get(right.role, ()):
                    found.setdefault(permission, {}).setdefault(spot, []).append(cut)
        return found

    def cut(self, right: Right) -> Cut:
        """From when until when a right is felt; one that is not ready never is."""
        begin = right.start or ALWAYS
        if right.made is not None:
            begin = max(begin, right.made + self.felt)
        return (begin if right.ready else NEVER, right.until or NEVER, right.labels, right)


def bears(node: Node, labels: Labels) -> bool:
    return all(node.labels.get(name) in values for name, values in labels)
