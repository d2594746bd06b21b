"""The facet *service*: what must be switched on at a place before anything works there."""

from __future__ import annotations

from collections.abc import Iterator

from sigillum.core.kinds.facts import Query, Snapshot
from sigillum.core.records.steps import AddTo, Step, StepKind
from sigillum.core.values.errors import Mistake
from sigillum.core.values.text import did_you_mean, lines

from .common import View, unknown

NAME, THING, POWER = "service", "place", "places"


def queries(view: View, snapshot: Snapshot) -> Iterator[Query]:
    """The places and all above them: a service that is on above is on here."""
    for want in view.charter.services:
        for path in lines([want.at]):
            yield Query(THING, "path", path)


def compare(view: View) -> None:
    """Switch on what is off. Nothing is ever switched off: others may use it."""
    for want in view.charter.services:
        fact = view.snapshot.fact(THING, "path", want.at)
        known = sorted({o.service for o in view.snapshot.profile.operations.values() if o.service})
        if not fact.known:
            unknown(view, fact, f"the place {want.at}")
        elif fact.first is None:
            view.draft.mistakes.append(Mistake(
                "place-unknown", f"{view.snapshot.tenant} has no place {want.at!r}", "look at `sigillum tenant inspect`",
                want.position))
        elif known and want.service not in known:
            view.draft.mistakes.append(Mistake(
                "service-unknown", f"{view.snapshot.tenant} has no service {want.service!r}",
                did_you_mean(want.service, known), want.position))
        elif not is_on(view, want.service, want.at):
            earlier = view.state.latest(NAME, want.key)
            step = view.add(Step(
                f"switch-on-{want.key}", StepKind.MAKE, view.snapshot.tenant, NAME, want.key,
                f"service {want.service} available at {want.at}", AddTo(THING, fact.first.id, "services", want.service),
                earlier.number if earlier is not None else 1, power=POWER, why="nothing works there before it is switched on"))
            view.services.append((want.service, want.at, step))
    wanted = {w.key for w in view.charter.services}
    for (facet, key), generations in view.state.generations.items():
        if facet == NAME and key not in wanted and generations[-1].state == "made":
            service, _, at = key.partition("@")
            view.draft.note("service-stays", f"{service} stays switched on at {at}: others may use it by now", warning=False)


def is_on(view: View, service: str, at: str) -> bool:
    """Is it switched on at the place or above?"""
    return any(name == service for path in lines([at]) for t in view.snapshot.fact(THING, "path", path).things
               for name, _ in t.get("services") or ())
