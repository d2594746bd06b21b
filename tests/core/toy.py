"""A facet from outside: a note that an identity leaves in a team of its own, and takes away again."""

from __future__ import annotations

from collections.abc import Iterator

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import HouseRules
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.provides import ItsPrincipal
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import principal, stand
from sigillum.core.kinds.changes import End, Make
from sigillum.core.kinds.identities import TEAM
from sigillum.core.kinds.kind import Query
from sigillum.core.records.steps import Step, StepKind
from sigillum.core.values.errors import Mistake
from sigillum.core.values.marks import StepId


def check(charter: Charter, rules: HouseRules, tenants: list[str]) -> Iterator[Mistake]:
    if charter.more.get("toy") == "":
        yield Mistake("toy-empty", "the toy has no name", "name it", charter.position)


def compare(seen: Seen, draft: Draft) -> None:
    name, who = str(seen.charter.more.get("toy", "")), principal(seen, draft)
    mark = seen.mark("toy", ("toy", name))
    if name and who is not None:
        fact = seen.ask(Query(TEAM, "name", name))
        if fact.known and stand(seen, draft, mark, fact.records, f"toy {name}").record is None:
            draft.add(
                Step(
                    StepId(mark, 1, "make"),
                    StepKind.MAKE,
                    f"toy {name}",
                    Make(TEAM, {"name": name}),
                    draft.by(seen.tenant, ItsPrincipal),
                    "toys",
                )
            )
    for generation in seen.history.of("toy", seen.tenant):
        if generation.mark != mark and generation.live:
            draft.add(Step(StepId(generation.mark, 1, "end"), StepKind.END, "toy", End(TEAM, generation.id), power="toys"))


FACET = Facet("toy", compare, takes=frozenset((ItsPrincipal,)), check=check, words=lambda mark: f"the toy {mark.get('toy')}")
