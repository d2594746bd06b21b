"""The facet *service*: what must be switched on at a place before anything works there."""

from __future__ import annotations

from sigillum.core.charter.charter import ServiceWant
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.provides import ServiceOn
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import unknown
from sigillum.core.kinds.access import PLACE
from sigillum.core.kinds.changes import Entry
from sigillum.core.kinds.kind import Query, inside
from sigillum.core.records.history import State
from sigillum.core.records.steps import Step, StepKind
from sigillum.core.values.marks import Mark, StepId
from sigillum.core.values.text import did_you_mean, lines

NAME = "service"


def mark_of(seen: Seen, want: ServiceWant) -> Mark:
    return seen.mark(NAME, ("service", want.service), ("at", want.at))


def compare(seen: Seen, draft: Draft) -> None:
    """Switch on what is off. Nothing is ever switched off: others may use it."""
    known = sorted({o.service for o in seen.profile.operations.values() if o.service})
    for want in seen.charter.services:
        above = [seen.ask(Query(PLACE, "path", path)) for path in lines([want.at])]
        fact = seen.ask(Query(PLACE, "path", want.at))
        if not fact.known:
            unknown(seen, draft, fact, f"the place {want.at}")
        elif fact.first is None:
            draft.wrong("place-unknown", f"{seen.tenant} has no place {want.at!r}", "", want.position)
        elif known and want.service not in known:
            draft.wrong(
                "service-unknown",
                f"{seen.tenant} has no service {want.service!r}",
                did_you_mean(want.service, known),
                want.position,
            )
        elif not any(inside(r, "services", want.service) for f in above for r in f.records):
            mark = mark_of(seen, want)
            earlier = seen.history.latest(mark)
            step = draft.add(
                Step(
                    StepId(mark, earlier.number if earlier is not None else 1, "switch-on"),
                    StepKind.MAKE,
                    f"service {want.service} available at {want.at}",
                    Entry(PLACE, fact.first.id, "services", want.service),
                    power=PLACE.power,
                    why="nothing works there before it is switched on",
                )
            )
            draft.provide(ServiceOn(seen.tenant, want.service, want.at), step)
    wanted = {mark_of(seen, w) for w in seen.charter.services}
    for generation in seen.history.of(NAME, seen.tenant):
        if generation.mark not in wanted and generation.state is State.MADE:
            draft.note(
                "service-stays",
                f"{generation.mark.get('service')} stays switched on at {generation.mark.get('at')}: others may use it by now",
                warning=False,
            )


def words(mark: Mark) -> str:
    return f"the service {mark.get('service')} at {mark.get('at')}"


FACET = Facet(NAME, compare, frozenset((ServiceOn,)), words=words)
