"""Explaining a decision: the whole chain link by link, what else would allow it, and the smallest change that would."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import NamedTuple

from sigillum.core.charter.charter import ALONE, CLIENT, ON_BEHALF, WAYS
from sigillum.core.deciding.mends import Mend, Spoiled, mends, unspoiled
from sigillum.core.deciding.refusals import ABOUT, CAUSES, Cause
from sigillum.core.deciding.values import NEVER, Decision, Hidden, Node, Question, Right
from sigillum.core.deciding.world import World
from sigillum.core.kinds.access import Role
from sigillum.core.kinds.kind import Record
from sigillum.core.values.times import format_edge, format_instant
from sigillum.core.values.worlds import Observed


class ChainLink(NamedTuple):
    """One link of the chain: `good` None where it makes no difference here."""

    name: str
    good: bool | None
    text: str


class Explanation(NamedTuple):
    """Everything that is said to one question. `changes_at`: when the verdict will be another one."""

    question: Question
    decision: Decision[Observed]
    links: tuple[ChainLink, ...]
    mends: tuple[Mend, ...]
    changes_at: datetime | None

    @property
    def deciding(self) -> ChainLink | None:
        """The link that decided: the first that is not good, or the right that allows it."""
        if self.decision.allowed is None:
            return self.links[-1]
        wrong = next((k for k in self.links if k.good is False), None)
        return wrong or next((k for k in self.links if k.name == "grant"), None)


def explain(
    world: World[Observed], question: Question, roles: Sequence[Record[Role]] = (), spoiled: Spoiled = unspoiled
) -> Explanation:
    """The decision with its chain; `roles` are those that could be granted; `spoiled`: what no advice may break."""
    decision = world.decide(question)
    found = () if decision.allowed else tuple(mends(world, question, roles, spoiled))
    return Explanation(question, decision, tuple(_chain(world, question, decision)), found, world.next_change(question))


def name_of(world: World[Observed], identity: str) -> str:
    """A principal's or team's name; its id where none is known."""
    known = world.principals.get(identity)
    return known.name if known is not None else identity


def place_name(world: World[Observed], place: str) -> str:
    return f"@{name_of(world, place[1:])}" if place.startswith("@") else place


def right_words(world: World[Observed], right: Right, principal: str) -> str:
    """A grant in words: role, place, through whom, for how long."""
    through = "" if right.carrier == principal else f" through the team {name_of(world, right.carrier)}"
    until = f", until {format_instant(right.until)}" if right.until else ", without end"
    if right.leaving and right.until is not None:
        until = f", ended, and felt until {format_edge(right.until)}"
    start = f" from {format_instant(right.start)}" if right.start else ""
    return f"{right.role} at {place_name(world, right.place)}{label_words(right)}{through}{start}{until}"


def label_words(right: Right) -> str:
    rules = " and ".join(f"{name} is {' or '.join(sorted(values))}" for name, values in right.labels)
    return f" where {rules}" if rules else ""


def _chain(world: World[Observed], question: Question, decision: Decision[Observed]) -> Iterator[ChainLink]:
    """Link by link; where it is not known, what was seen of it, and last what is missing."""
    links = _links(world, question, decision)
    if decision.allowed is not None:
        yield from links
        return
    yield from (k._replace(good=k.good or None) for k in links)
    yield ChainLink("not shown", None, "; ".join(decision.hidden))


def _links(world: World[Observed], question: Question, decision: Decision[Observed]) -> Iterator[ChainLink]:
    who, node = world.principals.get(question.principal), world.node(question.place)
    if who is None:
        yield ChainLink("principal", False, f"{question.principal} is not known here")
        return
    off = f"suspended here: {who.held}" if who.held else "switched off"
    state = off if not who.active else "active" if who.ready else "still being made, or its making failed"
    yield ChainLink("principal", who.active and who.ready, f"{who.name} ({who.kind.replace('-', ' ')}): {state}")
    if node is None:
        yield ChainLink("place", False, f"there is no place {question.place}")
        return
    if node.since > question.at:
        yield ChainLink("place", False, f"{node.path} was made a moment ago, and is felt from {format_edge(node.since)} on")
        return
    known = world.places.get(node.path)
    where = f"{place_name(world, node.path)}{f' ({known.kind})' if known is not None and known.kind else ''}"
    if decision.cause is Cause.MEANS_NOTHING:
        kinds = world.operations[question.permission].at
        yield ChainLink("place", False, f"{where}, and {question.permission} means something at {' or '.join(kinds)} alone")
        return
    yield ChainLink("place", True, where)
    yield from _credential(world, question)
    rule = world.operations.get(question.permission)
    if rule is not None and rule.api and who.kind == CLIENT:
        yield from _consents(world, question, decision, rule.api)
        return
    if question.person:
        yield ChainLink("person", False, "only a client that uses an API acts for people")
        return
    yield from _ground(world, question, node)
    yield from _limits(world, question)
    yield _membership(world, question, node)
    yield from _grant(world, question, decision, node)
    if decision.need is not None and decision.needed is not None:
        permission, place = decision.need
        why = decision.needed.cause if decision.needed.cause is not Cause.PLACE_UNKNOWN else "there is none above"
        yield ChainLink("second right", False, f"{permission} is needed too, at {place}: {why}")
    elif decision.allowed and (rule := world.operations.get(question.permission)) is not None and rule.needs:
        yield ChainLink("second right", True, f"{', '.join(rule.needs)}: granted")


def _consents(world: World[Observed], question: Question, decision: Decision[Observed], api: str) -> Iterator[ChainLink]:
    """Wanted, requested, consented; and for a person, what that person may."""
    acts = ON_BEHALF if question.person else ALONE
    asks = world.asks.get(question.principal)
    requested = asks is not None and (api, question.permission, acts) in asks.requests
    yield ChainLink(
        "requested",
        requested,
        f"{question.permission} of {api}, {WAYS[acts]}: "
        f"{'the registration asks for it' if requested else 'the registration does not ask for it'}",
    )
    own = [c for c in world.consents.get(question.principal, ()) if c.scope == question.permission]
    told = (
        "; ".join(
            f"{WAYS.get(c.acts, c.acts)}{', only ' + ', '.join(c.only) if c.only else ''}{', by ' + c.by if c.by else ''}"
            for c in own
        )
        or "nobody has consented"
    )
    bad = decision.cause in (Cause.NOT_CONSENTED, Cause.WAY_DIFFERS, Cause.CONSENT_NARROWER, Cause.NOT_FELT)
    late = " (a moment ago, and not felt yet)" if decision.cause is Cause.NOT_FELT else ""
    yield ChainLink("consented", not bad if requested else None, told + late)
    if not question.person:
        return
    name = name_of(world, question.person)
    if decision.cause is Cause.PERSON_UNKNOWN:
        yield ChainLink("person", False, f"{question.person} is not known here")
    elif decision.cause is Cause.PERSON_LACKS and decision.needed is not None:
        yield ChainLink("person", False, f"{name} may not do it: {decision.needed.cause}")
    else:
        through = f": {right_words(world, decision.by, question.person)}" if decision.by is not None else ""
        yield ChainLink("person", True if decision.allowed else None, f"for {name}{through}")


def _ground(world: World[Observed], question: Question, node: Node) -> Iterator[ChainLink]:
    """Service and location."""
    rule = world.operations.get(question.permission)
    if node.principal or rule is None or not rule.service:
        yield ChainLink("service", None, "none is needed")
    elif rule.service not in node.services:
        yield ChainLink("service", False, f"{rule.service} is switched on neither here nor above")
    else:
        felt = node.services[rule.service]
        yield ChainLink(
            "service",
            felt <= question.at,
            f"{rule.service} is switched on"
            if felt <= question.at
            else f"{rule.service} was switched on a moment ago, and is felt from {format_edge(felt)} on",
        )
    here = world.principals[question.principal].location
    if rule is not None and rule.licence:
        held = rule.licence in world.licensed.get(question.principal, ())
        yield ChainLink("licence", held, f"{rule.licence} is {'held' if held else 'needed, and not held'}")
    if node.principal or rule is None or not rule.located or not here or not node.location:
        yield ChainLink("location", None, "makes no difference")
    else:
        same = here == node.location
        yield ChainLink(
            "location", same, f"both in {here}" if same else f"the program runs in {here}, the place lies in {node.location}"
        )


def _credential(world: World[Observed], question: Question) -> Iterator[ChainLink]:
    if not question.credential:
        return
    wrong = world.usable(question.credential, question.principal, question.at)
    held = world.credentials.get(question.credential)
    if wrong is not None or held is None:
        yield ChainLink(
            "credential", False, f"{held.name if held else question.credential}: {str(wrong).removeprefix('credential-')}"
        )
        return
    until = f"until {format_instant(held.until)}" if held.until else "without end"
    yield ChainLink("credential", True, f"{held.name}: active, {until}")


def _limits(world: World[Observed], question: Question) -> Iterator[ChainLink]:
    held = world.credentials.get(question.credential)
    if held is None:
        return
    rule = world.operations.get(question.permission)
    if rule is not None and rule.takes:
        taken = f"{held.kind or 'not known'}; taken are {', '.join(rule.takes)}"
        yield ChainLink("kind of sign-in", not held.misfit(rule.takes), taken)
    if held.place:
        yield ChainLink("key place", held.place == question.place, f"it is for {held.place} alone")
    if not held.limits:
        yield ChainLink("key limits", None, "none: all that is granted")
    else:
        yield ChainLink("key limits", question.permission in held.limits, f"narrowed to {', '.join(sorted(held.limits))}")


def _out_of_reach(right: Right, node: Node) -> str:
    if right.place not in node.line:
        return "not at or above this place"
    return "it counts below that place, and not there" if right.place == node.path else "it counts there, and not below"


def _membership(world: World[Observed], question: Question, node: Node) -> ChainLink:
    told = []
    for carrier in world.carriers(question.principal):
        if carrier.id == question.principal:
            continue
        beyond = carrier.reach is not None and carrier.reach.isdisjoint(node.inside)
        late = f" (felt from {format_edge(carrier.begin)} on)" if carrier.begin > question.at else ""
        told.append(name_of(world, carrier.id) + (" (does not reach here)" if beyond else late))
    unseen = world.blind(Hidden("teams", question.principal))
    more = "; whether it is in others is not shown" if told else "in which teams it is, is not shown"
    teams = f"in {', '.join(told)}" if told else "" if unseen else "in no team"
    return ChainLink("membership", None, teams + more * bool(unseen))


def _grant(world: World[Observed], question: Question, decision: Decision[Observed], node: Node) -> Iterator[ChainLink]:
    """The right that decided or came nearest: role, place, label rule, window; and what shadows a window."""
    right, cause = decision.by, decision.cause
    if cause in ABOUT and ABOUT[cause].before:
        # something before decided: what the grants alone would say stands here
        found = world.candidates(question.principal, question.permission, node, question.at)
        if not found:
            yield ChainLink("role", None, f"nothing that is granted holds {question.permission}")
            return
        right, rank = min(found, key=lambda f: f[1])
        cause = CAUSES[rank]
    if cause is Cause.PERMISSION_UNKNOWN:
        yield ChainLink("role", False, f"the tenant announces no permission {question.permission}")
        return
    if right is None or cause is Cause.ROLE_LACKS:
        beside = (
            f"; here stands {right_words(world, right, question.principal)}"
            if right is not None
            else ", and nothing is granted here"
        )
        yield ChainLink("role", False, f"no role that is granted holds {question.permission}{beside}")
        return
    yield ChainLink("role", True, f"{right.role} holds {question.permission}")
    within = world.spot(right) in node.inside
    words = right_words(world, right, question.principal)
    yield ChainLink("grant", within, words if within else f"{words}: {_out_of_reach(right, node)}")
    if not within:
        return
    if cause is Cause.REACH_ELSEWHERE:
        yield ChainLink(
            "reach",
            False,
            f"the team {name_of(world, right.carrier)} reaches {', '.join(world.teams[right.carrier].reach)} only",
        )
        return
    if right.labels:
        borne = ", ".join(f"{n} is {node.labels.get(n, 'not said')}" for n, _ in right.labels)
        yield ChainLink("label rule", cause is not Cause.LABEL_DIFFERS, f"here {borne}")
    yield _window(world, question, right, cause)
    yield from _shadow(world, question, decision)


def _window(world: World[Observed], question: Question, right: Right, cause: Cause) -> ChainLink:
    if right.leaving and right.until is not None:
        return ChainLink("window", question.at < right.until, f"it was ended, and is felt until {format_edge(right.until)}")
    if cause is Cause.GRANT_UNFINISHED:
        return ChainLink("window", False, "the tenant has accepted the grant, and is still making it")
    if cause is Cause.WINDOW_ENDED and right.until is not None:
        return ChainLink("window", False, f"ended at {format_instant(right.until)}")
    if cause is Cause.WINDOW_WAITING and right.start is not None:
        return ChainLink("window", False, f"begins at {format_instant(right.start)}")
    if cause is Cause.NOT_FELT:
        begin = max(world.cut(right)[0], *(c.begin for c in world.carriers(question.principal) if c.id == right.carrier))
        return ChainLink("window", False, f"made a moment ago, and felt from {format_edge(begin)} on")
    return ChainLink(
        "window", True, f"in force until {format_instant(right.until)}" if right.until else "in force, without end"
    )


def _shadow(world: World[Observed], question: Question, decision: Decision[Observed]) -> Iterator[ChainLink]:
    """Where it is allowed without end, a window beside it has no effect; said where there is one."""
    if not decision.allowed or decision.by is None or decision.by.until is not None:
        return
    beside = [r for r in decision.also if r.until is not None and r.until < NEVER]
    if beside:
        words = "; ".join(right_words(world, r, question.principal) for r in beside)
        yield ChainLink("shadowing", None, f"the window beside it has no effect: {words}")
