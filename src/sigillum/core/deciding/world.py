"""Deciding from what is known: may this principal use that permission at this place, at any time asked?"""

from __future__ import annotations

from datetime import datetime
from typing import Any, Generic

from sigillum.core.charter.charter import CLIENT
from sigillum.core.deciding.compiled import ALLOWED, BEYOND, ELSEWHERE, ENDED, FEW, LABEL, NOTHING, Compiled, bears
from sigillum.core.deciding.people import Person, missing
from sigillum.core.deciding.refusals import CAUSES, RANK, Cause
from sigillum.core.deciding.values import (
    ALWAYS,
    NEVER,
    Decision,
    Entries,
    Hidden,
    KnownPrincipal,
    Node,
    Question,
    Right,
)
from sigillum.core.kinds.profile import Operation
from sigillum.core.values.worlds import Predicted, W


class World(Compiled, Generic[W]):
    """Verdicts on what was compiled. What rests on a fact that is not known is itself not known, never refused."""

    # --- verdicts -------------------------------------------------------------------------------------------------
    def allowed(
        self, principal: str, permission: str, place: str, at: datetime, credential: str = "", person: str = ""
    ) -> bool | None:
        """The bare verdict; None: not known."""
        if self.hidden:
            return self.decide(Question(principal, permission, place, at, credential, person)).allowed
        view = self._live.get(principal)
        if view is None:
            view = self.live(principal)
        node = self._nodes.get(place) or self.node(place)
        if node is None or (node.since is not ALWAYS and node.since > at):
            return False
        if credential and self.usable(credential, principal, at) is not None:
            return False
        operation = self.operations.get(permission)
        if person or (operation is not None and operation.api):
            return self.decide(Question(principal, permission, place, at, credential, person)).allowed
        if not self._one(principal, view, permission, operation, node, at, credential):
            return False
        if operation is None or not operation.needs:
            return True
        for need in operation.needs:
            other, _, kind = need.partition("@")
            near = node.kinds.get(kind)
            inner = self.node(near) if near is not None else None
            if inner is None or not self._one(principal, view, other, self.operations.get(other), inner, at, credential):
                return False
        return True

    def _one(
        self,
        principal: str,
        view: dict[str, Entries],
        permission: str,
        operation: Operation | None,
        node: Node,
        at: datetime,
        credential: str,
    ) -> bool:
        """One permission, without what it needs beside itself."""
        if (
            operation is not None
            and not node.principal
            and (
                node.foreign(operation.at)
                or (operation.service and node.services.get(operation.service, NEVER) > at)
                or self._misplaced(principal, operation, node)
            )
        ):
            return False
        if operation is not None and operation.licence and operation.licence not in self.licensed.get(principal, ()):
            return False
        if credential:
            held = self.credentials[credential]
            if (
                (held.limits and permission not in held.limits)
                or held.place not in ("", node.path)
                or (operation is not None and held.misfit(operation.takes))
            ):
                return False
        inside = node.inside
        for begin, reach, spots in view.get(permission, ()):
            if begin > at or (reach is not None and reach.isdisjoint(inside)):
                continue
            if len(spots) < FEW and inside.isdisjoint(spots):
                continue
            for place in node.spots:
                if place in spots:
                    for start, until, labels, _ in spots[place]:
                        if start <= at < until and (not labels or bears(node, labels)):
                            return True
        return False

    def _misplaced(self, principal: str, operation: Operation, node: Node) -> bool:
        if not operation.located or not node.location:
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

    def decide(self, question: Question) -> Decision[W]:
        """The verdict with its reason: the first cause of a refusal, or the right that decides and all others."""
        principal, permission, place, at, credential, person = question
        who = self.principals.get(principal)
        if who is None:
            return self._no(Cause.PRINCIPAL_UNKNOWN, Hidden("principal", principal))
        if not who.active or not who.ready:
            off = Cause.SUSPENDED if who.held else Cause.PRINCIPAL_OFF
            return Decision(False, Cause.PRINCIPAL_UNFINISHED if who.active else off)
        unseen = self.blind(Hidden("active", principal), Hidden("active", credential)) if self.hidden else ()
        if unseen:
            return unknown(unseen)
        node = self._nodes.get(place) or self.node(place)
        if node is None or node.since > at:
            where = Hidden("principal", place[1:]) if place.startswith("@") else Hidden("place", place)
            return self._no(Cause.PLACE_UNKNOWN, where) if node is None else Decision(False, Cause.PLACE_NOT_FELT)
        if credential:
            wrong = self.usable(credential, principal, at)
            if wrong is Cause.CREDENTIAL_UNKNOWN:
                return self._no(wrong, Hidden("credentials", principal))
            if wrong is not None:
                return Decision(False, wrong)
        if node.hidden:  # a place above decides over services, locations, labels, and what encloses it
            return unknown(node.hidden)
        operation = self.operations.get(permission)
        by_delegation = self._for_person(question) if person else None
        if by_delegation is not None and by_delegation.allowed is not False:
            return by_delegation
        if operation is not None and operation.api and who.kind == CLIENT:
            from sigillum.core.deciding.consents import through_api

            found = through_api(self, question, operation)
            return by_delegation if by_delegation is not None and found.cause is Cause.NOT_REQUESTED else found
        if person:
            return by_delegation or Decision(False, Cause.NO_DELEGATE)
        found = self._reason(who, permission, node, at, credential)
        if not found.allowed or operation is None or not operation.needs:
            return found
        for need in operation.needs:
            other, _, kind = need.partition("@")
            near = node.kinds.get(kind)
            inner = self.node(near) if near is not None else None
            second: Decision[W] = (
                Decision(False, Cause.PLACE_UNKNOWN) if inner is None else self._reason(who, other, inner, at, credential)
            )
            if second.allowed is None:
                return second
            if not second.allowed:
                return Decision(False, Cause.RIGHT_MISSING, found.by, found.also, second, (other, near or f"a {kind}"))
        return found

    def _for_person(self, question: Question) -> Decision[W] | None:
        """What a delegation allows for a person, who may it themselves; None where it has none, and none is hidden."""
        hidden = self.blind(Hidden("delegations", question.principal))
        if hidden:
            return unknown(hidden)
        held = self.delegations.get(question.principal)
        if not held:
            return None
        person = self.principals.get(question.person)
        if person is None:
            return self._no(Cause.PERSON_UNKNOWN, Hidden("principal", question.person))
        teams = frozenset(self.principals[c.id].name for c in self.carriers(person.id) if c.id != person.id)
        why = missing(held, Person(person.name, teams), question.permission)
        if why:
            unseen = self.blind(Hidden("teams", person.id), Hidden("everyone"))
            return unknown(unseen) if unseen else Decision(False, Cause(why))
        their = self.decide(question._replace(principal=person.id, person="", credential=""))
        if their.allowed is None:
            return their
        return Decision(True, Cause.ALLOWED, their.by) if their.allowed else Decision(False, Cause.PERSON_LACKS, needed=their)

    def _no(self, cause: Cause, *facts: Hidden) -> Decision[W]:
        """Refused, unless one of the facts that it rests on is not known."""
        hidden = self.blind(*facts)
        return unknown(hidden) if hidden else Decision(False, cause)

    def _unseen(self, who: KnownPrincipal, node: Node) -> tuple[str, ...]:
        """What could grant it beside all that was seen."""
        if not self.hidden:
            return ()
        carriers = [c.id for c in self.carriers(who.id)]
        roles = [Hidden("role", r.role) for c in carriers for r in self.rights_of(c) if self.spot(r) in node.inside]
        return self.blind(*roles, *(Hidden(w, c) for c in carriers for w in ("rights", "teams")), Hidden("everyone"))

    def _reason(self, who: KnownPrincipal, permission: str, node: Node, at: datetime, credential: str) -> Decision[W]:
        operation = self.operations.get(permission)
        if operation is not None and not node.principal:
            if node.foreign(operation.at):
                return Decision(False, Cause.MEANS_NOTHING)
            if operation.service and node.services.get(operation.service, NEVER) > at:
                off = operation.service not in node.services
                return Decision(False, Cause.SERVICE_OFF if off else Cause.SERVICE_NOT_FELT)
            if self._misplaced(who.id, operation, node):
                return Decision(False, Cause.LOCATION_DIFFERS)
        if operation is not None and operation.licence and operation.licence not in self.licensed.get(who.id, ()):
            return self._no(Cause.LICENCE_MISSING, Hidden("licences"))
        if credential:
            held = self.credentials[credential]
            if operation is not None and held.misfit(operation.takes):
                return Decision(False, Cause.SIGN_IN_KIND)
            if (held.limits and permission not in held.limits) or held.place not in ("", node.path):
                return Decision(False, Cause.LIMITS_NARROWER)
        allowing: list[Right] = []
        near, by = NOTHING, None
        for right, rank in self.candidates(who.id, permission, node, at):
            if rank == ALLOWED:
                allowing.append(right)
            elif rank < near:
                near, by = rank, right
        if allowing:
            best = (
                allowing[0]
                if len(allowing) == 1
                else max(allowing, key=lambda r: (r.until or NEVER, r.carrier == who.id, len(r.place)))
            )
            return Decision(True, Cause.ALLOWED, best, tuple(r for r in allowing if r is not best))
        unseen = self._unseen(who, node)
        if unseen:
            return Decision(None, Cause.FACTS_UNKNOWN, by, hidden=unseen)
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
            for place in node.spots:
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
        if self.operations and permission not in self.operations and not any(permission in r for r in self.roles.values()):
            return Cause.PERMISSION_UNKNOWN, None
        for carrier in self.carriers(principal):
            for right in self.rights_of(carrier.id):
                if self.spot(right) in node.inside:
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
        return next(
            (e for e in self.edges(question) if question.at < e <= until and self.allowed(*question._replace(at=e)) != now),
            None,
        )


def again(world: World[Any], **changed: object) -> World[Predicted]:
    """A world with other contents, not compiled yet: what would be decided if it were so."""
    fields = (
        "principals",
        "teams",
        "memberships",
        "places",
        "roles",
        "rights",
        "credentials",
        "operations",
        "felt",
        "asks",
        "consents",
        "hidden",
        "licensed",
        "reach",
        "delegations",
    )
    return World[Predicted](**({f: getattr(world, f) for f in fields} | changed))


def unknown(hidden: tuple[str, ...]) -> Decision[W]:
    """No verdict: these facts decide, and are not known."""
    return Decision(None, Cause.FACTS_UNKNOWN, hidden=hidden)


def _early(right: Right, at: datetime) -> Cause:
    """Why a right that has not ended does not hold yet."""
    if not right.ready:
        return Cause.GRANT_UNFINISHED
    return Cause.WINDOW_WAITING if right.start is not None and at < right.start else Cause.NOT_FELT
