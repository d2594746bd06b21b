"""The smallest change that would allow what is refused, found by changing a copy of the world and deciding again."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any, NamedTuple

from sigillum.core.charter.charter import ProofWant
from sigillum.core.deciding.refusals import ABOUT, Cause, Mends
from sigillum.core.deciding.values import NEVER, Asks, Consent, Decision, Node, Question, Right
from sigillum.core.deciding.world import World, again
from sigillum.core.kinds.access import Role, allows
from sigillum.core.kinds.kind import Record
from sigillum.core.values.text import CLASSES
from sigillum.core.values.times import format_edge

MOST_STEPS = 8
Spoiled = Callable[[World[Any]], ProofWant | None]  # which expectation of a charter a changed world would break


def unspoiled(world: World[Any]) -> ProofWant | None:
    """Nothing is broken by anything."""
    return None


class Mend(NamedTuple):
    """One change: the cause that it mends, what to do, and the role and place where it is a grant.

    `alone`: what to do where no charter here describes the principal; `to`: whom the grant is for, where it is somebody else.
    """

    cause: Cause
    text: str
    role: str = ""
    place: str = ""
    alone: str = ""
    to: str = ""

    def words(self, *, ours: bool) -> str:
        """What to do, for a principal that a charter of this workspace describes, or for somebody else's."""
        return self.text if ours or not self.alone else self.alone


class Changed(NamedTuple):
    """A world and question with one change made; `possible` False: no change is known."""

    world: World[Any]
    question: Question
    mend: Mend
    possible: bool = True


def mends(world: World[Any], question: Question, roles: Sequence[Record[Role]], spoiled: Spoiled = unspoiled) -> Iterator[Mend]:
    """The changes, in order, that together would allow it; the last one is open where no change is known.

    None goes against what a charter says of itself: `spoiled` tells.
    """
    for _ in range(MOST_STEPS):
        decision, asked = world.decide(question), question
        if decision.allowed:
            return
        if decision.allowed is None:
            yield Mend(decision.cause, f"ask with an administrator who may look: {'; '.join(decision.hidden)}")
            return
        if decision.cause is Cause.RIGHT_MISSING and decision.needed is not None and decision.need is not None:
            asked = question._replace(permission=decision.need[0], place=decision.need[1])
            if decision.needed.cause is Cause.PLACE_UNKNOWN:
                yield Mend(decision.cause, f"{decision.need[0]} is needed at {decision.need[1]}, and no such place lies above")
                return
            decision = decision.needed
        changed = change(world, asked, decision, roles, spoiled)
        against = spoiled(changed.world) if changed.possible else None
        if against is not None:
            yield Mend(decision.cause, f"nothing: what would allow it breaks the charter's own `{against.words()}`")
            return
        yield changed.mend
        if not changed.possible:
            return
        world, question = changed.world, question._replace(at=changed.question.at)


def change(
    world: World[Any],
    question: Question,
    decision: Decision[Any],
    roles: Sequence[Record[Role]] = (),
    spoiled: Spoiled = unspoiled,
) -> Changed:
    """What mends the cause of one refusal."""
    cause = decision.cause
    about = ABOUT[cause]
    if about.mends is Mends.WAIT:
        return _wait(world, question, cause)
    if about.mends is Mends.GRANT:
        return _grant(world, question, cause, roles, spoiled)
    if cause is Cause.SERVICE_OFF:
        return _switch_on(world, question)
    own = _of_principal(world, question, cause) or _of_credential(world, question, cause)
    if own is not None:
        return own
    if about.mends is Mends.CONSENT:
        return _consent(world, question, cause)
    if cause is Cause.PERSON_LACKS and question.person:
        theirs = question._replace(principal=question.person, person="", credential="")
        changed = change(world, theirs, world.decide(theirs), roles)
        name = world.principals[question.person].name
        mend = changed.mend._replace(text=f"for {name}: {changed.mend.words(ours=False)}", alone="", to=name)
        return Changed(changed.world, question, mend, changed.possible)
    if cause is Cause.GRANT_UNFINISHED and decision.by is not None:
        rights = [r._replace(ready=True) if r.id == decision.by.id else r for r in world.rights]
        return Changed(
            again(world, rights=rights),
            question,
            Mend(cause, "wait until the tenant has made the grant; if its making failed, enact again"),
        )
    names = ", ".join(sorted(h.name for h in world.credentials.values() if h.principal == question.principal)) or "it has none"
    return Changed(world, question, Mend(cause, (about.asked or about.mend).format(q=question, own=names)), possible=False)


def _of_principal(world: World[Any], question: Question, cause: Cause) -> Changed | None:
    """What mends a cause that lies with the principal itself; None for another cause."""
    who = world.principals.get(question.principal)
    if who is None:
        return None
    if cause in (Cause.SUSPENDED, Cause.PRINCIPAL_OFF, Cause.PRINCIPAL_UNFINISHED, Cause.LOCATION_DIFFERS):
        node = world.node(question.place)
        location = node.location if node is not None else ""
        text, better = {
            Cause.SUSPENDED: (f"reinstate {who.name}", who._replace(active=True, held="")),
            Cause.PRINCIPAL_OFF: (f"switch {who.name} on again", who._replace(active=True)),
            Cause.PRINCIPAL_UNFINISHED: (
                f"wait until {who.name} is ready; if its making failed, enact its charter again",
                who._replace(ready=True),
            ),
            Cause.LOCATION_DIFFERS: (
                f"run the program in {location}, and say so: `identity: location: {location}`",
                who._replace(location=location),
            ),
        }[cause]
        alone = {
            Cause.PRINCIPAL_UNFINISHED: f"wait until {who.name} is ready",
            Cause.LOCATION_DIFFERS: f"run the program in {location}",
        }.get(cause, "")
        fresh = again(world, principals={**world.principals, who.id: better})
        return Changed(fresh, question, Mend(cause, text, alone=alone))
    if cause is Cause.LICENCE_MISSING:
        licence = world.operations[question.permission].licence
        more = world.licensed.get(who.id, frozenset()) | {licence}
        return Changed(
            again(world, licensed={**world.licensed, who.id: more}),
            question,
            Mend(
                cause,
                f"give {who.name} the licence: `licence: {licence}` in its charter",
                alone=f"give {who.name} the licence {licence}",
            ),
        )
    return None


def _of_credential(world: World[Any], question: Question, cause: Cause) -> Changed | None:
    """What mends a cause that lies with the credential; None for another cause."""
    held = world.credentials.get(question.credential)
    if (
        held is not None
        and held.principal == question.principal
        and cause in (Cause.CREDENTIAL_INACTIVE, Cause.CREDENTIAL_ENDED, Cause.LIMITS_NARROWER)
    ):
        text, other = {
            Cause.CREDENTIAL_INACTIVE: (f"enact the charter: it switches {held.name} on", held._replace(active=True)),
            Cause.CREDENTIAL_ENDED: (
                f"enact the charter: it begins a new generation of {held.name}",
                held._replace(until=None),
            ),
            Cause.LIMITS_NARROWER: (
                f"use another credential: {held.name} is for {held.place} alone"
                if held.place not in ("", question.place)
                else f"add {question.permission} to the limits of {held.name}, or use another credential",
                held._replace(limits=held.limits and held.limits | {question.permission}, place=""),
            ),
        }[cause]
        alone = (
            ""
            if cause is Cause.LIMITS_NARROWER
            else f"whoever looks after {held.name} has to "
            + ("switch it on" if cause is Cause.CREDENTIAL_INACTIVE else "renew it")
        )
        fresh = again(world, credentials={**world.credentials, held.id: other})
        return Changed(fresh, question, Mend(cause, text, alone=alone))
    return None


def _consent(world: World[Any], question: Question, cause: Cause) -> Changed:
    """Ask for the scope, and have it consented, for this place."""
    from sigillum.core.charter.charter import ALONE, ON_BEHALF

    acts, principal = ON_BEHALF if question.person else ALONE, question.principal
    api = world.operations[question.permission].api
    fresh = Consent("mend", principal, question.permission, acts)
    asked = world.asks[principal].requests if principal in world.asks else frozenset()
    changed = again(
        world,
        asks={**world.asks, principal: Asks(principal, asked | {(api, question.permission, acts)})},
        consents={**world.consents, principal: [*world.consents.get(principal, []), fresh]},
    )
    wanted = f"{{api: {api}, scopes: [{question.permission}], acts: {acts}}}"
    text = {
        Cause.NOT_REQUESTED: f"add {wanted} to the charter's `permissions:`, enact, and have it consented",
        Cause.WAY_DIFFERS: f"add {wanted} beside the other way of acting, and have it consented",
        Cause.NOT_CONSENTED: "have it consented by somebody with the power `consents`",
        Cause.CONSENT_NARROWER: f"add {question.place} to `only:` of the permission",
    }[cause]
    alone = (
        ""
        if cause is Cause.NOT_CONSENTED
        else f"whoever looks after the client has to ask for {question.permission} "
        f"({acts}) and have it consented for {question.place}"
    )
    return Changed(changed, question, Mend(cause, text, alone=alone))


def _wait(world: World[Any], question: Question, cause: Cause) -> Changed:
    """Time mends it: the first instant at which this cause is gone."""
    when = next(
        (e for e in world.edges(question) if e > question.at and world.decide(question._replace(at=e)).cause is not cause), None
    )
    if when is None:
        return Changed(world, question, Mend(cause, "wait until the change is felt"), possible=False)
    return Changed(world, question._replace(at=when), Mend(cause, f"wait until {format_edge(when)}"))


def _switch_on(world: World[Any], question: Question) -> Changed:
    """The service, at the nearest project above, or at the place itself."""
    node, service = world.node(question.place), world.operations[question.permission].service
    at = node.kinds.get("project", node.path) if node is not None else question.place
    place, below = world.places[at], switched_on_below(world, question.place, service)
    if below:
        return Changed(
            world,
            question,
            Mend(Cause.SERVICE_OFF, f"{service} is switched on at {below}, below that: use it there"),
            possible=False,
        )
    fresh = again(world, places={**world.places, at: place._replace(services=(*place.services, (service, None)))})
    return Changed(
        fresh,
        question,
        Mend(
            Cause.SERVICE_OFF,
            f"switch the service on, in a charter's services: {{service: {service}, at: {at}}}",
            place=at,
            alone=f"switch the service {service} on at {at}",
        ),
    )


def switched_on_below(world: World[Any], path: str, service: str) -> str:
    """A place below where the service is switched on; empty where none is known."""
    return min(
        (
            p.path
            for p in world.places.values()
            if p.path.startswith(f"{path}/") and any(name == service for name, _ in p.services)
        ),
        default="",
    )


def narrowest(world: World[Any], question: Question, roles: Sequence[Record[Role]]) -> list[tuple[str, str]]:
    """The roles that hold the permission, the one with the least beside it first, each with the nearest place for it."""
    node = world.node(question.place)
    found = []
    for role in roles:
        permissions = dict(role.body.permissions)
        spot = _grantable(world, node, role.body.grantable_at) if node is not None else None
        if question.permission in permissions and spot is not None:
            widest = max(CLASSES.index(c) if c in CLASSES else 0 for c in permissions.values())
            found.append((role.says(breadth="broad"), widest, len(permissions), spot[0], role.body.name, spot[1]))
    return [one[4:6] for one in sorted(found)]


def _grantable(world: World[Any], node: Node, kinds: tuple[str, ...]) -> tuple[int, str] | None:
    """How far above, and where, a role that is granted at these kinds of place can be."""
    for distance, path in enumerate(node.line):
        if world.spot(Right("mend", "", "", path)) not in node.inside:
            continue
        place = world.places.get(path)
        kind = "principal" if node.principal else place.kind if place is not None else ""
        if not kinds or kind in kinds:
            return distance, path
    return None


def _grant(world: World[Any], question: Question, cause: Cause, roles: Sequence[Record[Role]], spoiled: Spoiled) -> Changed:
    team, node = world.teams.get(question.principal), world.node(question.place)
    if team is not None and team.reach and node is not None and node.inside.isdisjoint(team.reach):
        wider = again(world, teams={**world.teams, team.id: team._replace(reach=(*team.reach, question.place))})
        return Changed(
            wider,
            question,
            Mend(
                cause,
                f"widen the reach of {team.name}: `reach:` in its charter",
                place=question.place,
                alone=f"widen the reach of {team.name}",
            ),
        )
    best = narrowest(world, question, roles)
    if not best:
        text = f"no role that can be granted there holds {question.permission}: make one, in a charter's `roles:`"
        return Changed(world, question, Mend(cause, text), possible=False)
    known = {r.body.name: frozenset(p for p, _ in r.body.permissions) for r in roles}

    def granted(role: str, place: str) -> Changed:
        right = Right("mend", question.principal, role, place, None, NEVER)
        fresh = again(world, rights=[*world.rights, right], roles={**world.roles, role: known[role]})
        told = next(allows(r) for r in roles if r.says(name=role))
        return Changed(fresh, question, Mend(cause, f"grant {role} at {place}, or lend it: it allows {told}", role, place))

    all_ = [granted(*one) for one in best]
    return next((changed for changed in all_ if spoiled(changed.world) is None), all_[0])
