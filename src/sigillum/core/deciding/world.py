"""Deciding from what is known: may this principal use that permission at this place, at any time asked?

A `World` is compiled from facts as questions need it; a question then costs what the grants that could matter cost,
not what all do.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import datetime, timedelta

from sigillum.core.charter.charter import CLIENT
from sigillum.core.deciding.refusals import CAUSES, RANK, Cause
from sigillum.core.deciding.values import (
    ALWAYS,
    NEVER,
    Asks,
    Carrier,
    Consent,
    Cut,
    Decision,
    Held,
    Labels,
    Membership,
    Node,
    Place,
    Principal,
    Question,
    Right,
    Spots,
    Team,
    View,
)
from sigillum.core.kinds.facts import Operation
from sigillum.core.values.text import lines

FEW = 12  # places that are quicker looked through than the line to the root
MOST_MERGED = 64  # rights of one carrier and permission that are copied into its members' common table
# ranks as plain numbers: they are compared for each right that could matter
ALLOWED, NOTHING, ELSEWHERE, BEYOND, LABEL, ENDED = (RANK[c] for c in (
    Cause.ALLOWED, Cause.NOTHING_GRANTED, Cause.PLACE_ELSEWHERE, Cause.REACH_ELSEWHERE, Cause.LABEL_DIFFERS,
    Cause.WINDOW_ENDED))


class World:
    """What is known of one tenant for deciding. `felt` is how long a change takes until decisions follow it."""

    def __init__(self, principals: dict[str, Principal] | None = None, teams: dict[str, Team] | None = None,
                 memberships: list[Membership] | None = None, places: dict[str, Place] | None = None,
                 roles: dict[str, frozenset[str]] | None = None, rights: list[Right] | None = None,
                 credentials: dict[str, Held] | None = None, rules: Mapping[str, Operation] | None = None,
                 felt: timedelta = timedelta(0), asks: dict[str, Asks] | None = None,
                 consents: dict[str, list[Consent]] | None = None) -> None:
        self.principals, self.teams, self.memberships = principals or {}, teams or {}, memberships or []
        self.places, self.roles, self.rights = places or {}, roles or {}, rights or []
        self.credentials, self.rules, self.felt = credentials or {}, rules or {}, felt
        self.asks, self.consents = asks or {}, consents or {}
        # compiled as questions need it
        self._nodes: dict[str, Node | None] = {}
        self._carriers: dict[str, tuple[Carrier, ...]] = {}
        self._tables: dict[str, dict[str, Spots]] = {}
        self._views: dict[str, dict[str, View]] = {}
        self._live: dict[str, dict[str, View]] = {}
        self._shares: dict[str, dict[str, View]] = {}
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
            return Node(path, (path,), frozenset([path]), {}, "", {}, {}, True) if known else None
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
        return Node(path, line, frozenset(line), services, location, labels, kinds, since=begin)

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

    def view(self, principal: str) -> dict[str, View]:
        """For each permission, the carriers of a principal that hold it somewhere."""
        found = self._views.get(principal)
        if found is None:
            found = self._views[principal] = {}
            for carrier, begin, reach in self.carriers(principal):
                for permission, spots in self.table(carrier).items():
                    found.setdefault(permission, []).append((begin, reach, spots))
        return found

    def live(self, principal: str) -> dict[str, View]:
        """The same, and nothing for a principal that is not there, suspended or still being made."""
        who = self.principals.get(principal)
        found = self._live[principal] = dict[str, View]()
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

    def _shared(self, team: str) -> dict[str, View]:
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
                cut = self.cut(right)
                for permission in self.roles.get(right.role, ()):
                    found.setdefault(permission, {}).setdefault(right.place, []).append(cut)
        return found

    def cut(self, right: Right) -> Cut:
        """From when until when a right is felt; one that is not ready never is."""
        begin = right.start or ALWAYS
        if right.made is not None:
            begin = max(begin, right.made + self.felt)
        return (begin if right.ready else NEVER, right.until or NEVER, right.labels, right)

    # --- verdicts -------------------------------------------------------------------------------------------------
    def allowed(self, principal: str, permission: str, place: str, at: datetime, credential: str = "",
                person: str = "") -> bool:
        """The bare verdict."""
        view = self._live.get(principal)
        if view is None:
            view = self.live(principal)
        node = self._nodes.get(place) or self.node(place)
        if node is None or (node.since is not ALWAYS and node.since > at):
            return False
        if credential and self.usable(credential, principal, at) is not None:
            return False
        rule = self.rules.get(permission)
        if person or (rule is not None and rule.api):
            return self.decide(Question(principal, permission, place, at, credential, person)).allowed
        if not self._one(principal, view, permission, rule, node, at, credential):
            return False
        if rule is None or not rule.needs:
            return True
        for need in rule.needs:
            other, _, kind = need.partition("@")
            near = node.kinds.get(kind)
            inner = self.node(near) if near is not None else None
            if inner is None or not self._one(principal, view, other, self.rules.get(other), inner, at, credential):
                return False
        return True

    def _one(self, principal: str, view: dict[str, View], permission: str, rule: Operation | None, node: Node,
             at: datetime, credential: str) -> bool:
        """One permission, without what it needs beside itself."""
        if rule is not None and not node.principal and (
                (rule.service and node.services.get(rule.service, NEVER) > at) or self._misplaced(principal, rule, node)):
            return False
        if credential:
            limits = self.credentials[credential].limits
            if limits and permission not in limits:
                return False
        inside = node.inside
        for begin, reach, spots in view.get(permission, ()):
            if begin > at or (reach is not None and reach.isdisjoint(inside)):
                continue
            if len(spots) < FEW and inside.isdisjoint(spots):
                continue
            for place in node.line:
                if place in spots:
                    for start, until, labels, _ in spots[place]:
                        if start <= at < until and (not labels or bears(node, labels)):
                            return True
        return False

    def _misplaced(self, principal: str, rule: Operation, node: Node) -> bool:
        if not rule.located or not node.location:
            return False
        who = self.principals.get(principal)
        return who is not None and bool(who.location) and who.location != node.location

    def usable(self, credential: str, principal: str, at: datetime) -> Cause | None:
        """Why a credential proves nothing at a time, or None."""
        held = self.credentials.get(credential)
        if held is None or held.principal != principal:
            return Cause.CREDENTIAL_UNKNOWN
        if not held.active:
            return Cause.CREDENTIAL_INACTIVE
        if held.start is not None and at < held.start:
            return Cause.CREDENTIAL_WAITING
        return Cause.CREDENTIAL_ENDED if held.until is not None and at >= held.until else None

    def decide(self, question: Question) -> Decision:
        """The verdict with its reason: the first cause of a refusal, or the right that decides and all others."""
        principal, permission, place, at, credential, person = question
        who = self.principals.get(principal)
        if who is None:
            return Decision(False, Cause.PRINCIPAL_UNKNOWN)
        if not who.active or not who.ready:
            return Decision(False, Cause.PRINCIPAL_UNFINISHED if who.active else Cause.PRINCIPAL_SUSPENDED)
        node = self._nodes.get(place) or self.node(place)
        if node is None or node.since > at:
            return Decision(False, Cause.PLACE_UNKNOWN if node is None else Cause.PLACE_NOT_FELT)
        if credential:
            wrong = self.usable(credential, principal, at)
            if wrong is not None:
                return Decision(False, wrong)
        rule = self.rules.get(permission)
        if rule is not None and rule.api and who.kind == CLIENT:
            from sigillum.core.deciding.consents import through_api
            return through_api(self, question, rule)
        if person:
            return Decision(False, Cause.NO_DELEGATE)
        found = self._reason(who, permission, node, at, credential)
        if not found.allowed or rule is None or not rule.needs:
            return found
        for need in rule.needs:
            other, _, kind = need.partition("@")
            near = node.kinds.get(kind)
            inner = self.node(near) if near is not None else None
            second = Decision(False, Cause.PLACE_UNKNOWN) if inner is None else \
                self._reason(who, other, inner, at, credential)
            if not second.allowed:
                return Decision(False, Cause.RIGHT_MISSING, found.by, found.also, second, (other, near or f"a {kind}"))
        return found

    def _reason(self, who: Principal, permission: str, node: Node, at: datetime, credential: str) -> Decision:
        rule = self.rules.get(permission)
        if rule is not None and not node.principal:
            if rule.service and node.services.get(rule.service, NEVER) > at:
                off = rule.service not in node.services
                return Decision(False, Cause.SERVICE_OFF if off else Cause.SERVICE_NOT_FELT)
            if self._misplaced(who.id, rule, node):
                return Decision(False, Cause.LOCATION_DIFFERS)
        if credential:
            limits = self.credentials[credential].limits
            if limits and permission not in limits:
                return Decision(False, Cause.LIMITS_NARROWER)
        allowing: list[Right] = []
        near, by = NOTHING, None
        for right, rank in self.candidates(who.id, permission, node, at):
            if rank == ALLOWED:
                allowing.append(right)
            elif rank < near:
                near, by = rank, right
        if allowing:
            best = allowing[0] if len(allowing) == 1 else max(allowing, key=lambda r: (
                r.until or NEVER, r.carrier == who.id, len(r.place)))
            return Decision(True, Cause.ALLOWED, best, tuple(r for r in allowing if r is not best))
        if by is None:
            return Decision(False, *self._without(who.id, permission, node))
        return Decision(False, CAUSES[near], by)

    def candidates(self, principal: str, permission: str, node: Node, at: datetime) -> list[tuple[Right, int]]:
        """Every right that holds the permission and counts for the principal, with the rank of what decides there."""
        found = []
        for begin, reach, spots in (self._views.get(principal) or self.view(principal)).get(permission, ()):
            if node.inside.isdisjoint(spots):
                found.append((next(iter(spots.values()))[0][3], ELSEWHERE))
                continue
            beyond = reach is not None and reach.isdisjoint(node.inside)
            for place in node.line:
                if place in spots:
                    for start, until, labels, right in spots[place]:
                        if beyond:
                            rank = BEYOND
                        elif labels and not bears(node, labels):
                            rank = LABEL
                        elif at >= until:
                            rank = ENDED
                        elif at >= start and at >= begin:
                            rank = ALLOWED
                        else:
                            rank = RANK[_early(right, at)]
                        found.append((right, rank))
        return found

    def _without(self, principal: str, permission: str, node: Node) -> tuple[Cause, Right | None]:
        """No right holds the permission: does any other right stand here?"""
        if self.rules and permission not in self.rules and not any(permission in r for r in self.roles.values()):
            return Cause.PERMISSION_UNKNOWN, None
        for carrier in self.carriers(principal):
            for right in self.rights_of(carrier.id):
                if right.place in node.inside:
                    return Cause.ROLE_LACKS, right
        return Cause.NOTHING_GRANTED, None

    # --- other questions ------------------------------------------------------------------------------------------
    def edges(self, question: Question) -> list[datetime]:
        """The instants at which an answer can change, in order."""
        node, moments = self.node(question.place), set[datetime]()
        for carrier in self.carriers(question.principal):
            moments.add(carrier.begin)
            for right in self.rights_of(carrier.id):
                moments.update(self.cut(right)[:2])
        moments.add(node.since if node is not None else ALWAYS)
        for place in node.line if node is not None else ():
            other = self.node(place)
            moments.update(other.services.values() if other is not None else ())
        held = self.credentials.get(question.credential)
        moments.update(e for e in ((held.start, held.until) if held is not None else ()) if e is not None)
        moments.update(self._felt_from(c.made) for c in self.consents.get(question.principal, ()))
        if question.person:
            moments.update(self.edges(question._replace(principal=question.person, person="", credential="")))
        return sorted(moments - {ALWAYS, NEVER})

    def next_change(self, question: Question, until: datetime = NEVER) -> datetime | None:
        """The first instant after the question's at which the verdict is another one."""
        now = self.allowed(*question)
        return next((e for e in self.edges(question) if question.at < e <= until
                     and self.allowed(*question._replace(at=e)) != now), None)


def bears(node: Node, labels: Labels) -> bool:
    return all(node.labels.get(name) in values for name, values in labels)


def _early(right: Right, at: datetime) -> Cause:
    """Why a right that has not ended does not hold yet."""
    if not right.ready:
        return Cause.GRANT_UNFINISHED
    return Cause.WINDOW_WAITING if right.start is not None and at < right.start else Cause.NOT_FELT
