"""The draft that facets add to: one for all tenants, so that nothing is renamed afterwards."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from typing import Any, TypeVar

from sigillum.core.records.steps import Collision, Need, Note, Step
from sigillum.core.values.errors import Mistake, Position
from sigillum.core.values.marks import StepId

P = TypeVar("P")


@dataclass(slots=True)
class Draft:
    """An outline in the making."""

    steps: list[Step] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)
    mistakes: list[Mistake] = field(default_factory=list)
    open: list[Mistake] = field(default_factory=list)
    collisions: list[Collision] = field(default_factory=list)
    _provided: list[tuple[Any, tuple[StepId, ...]]] = field(default_factory=list)
    _late: dict[StepId, list[Need]] = field(default_factory=dict)

    # --- what facets hand each other ------------------------------------------------------------------------------
    def provide(self, what: Any, *by: StepId) -> None:
        """Something that others may need, and the steps after which it is so; none: it is so already."""
        self._provided.append((what, by))

    def find(self, type_: type[P], tenant: str, where: Callable[[P], bool] = lambda p: True) -> list[P]:
        return [p for p, _ in self._provided if isinstance(p, type_) and getattr(p, "tenant", tenant) == tenant and where(p)]

    def one(self, type_: type[P], tenant: str, where: Callable[[P], bool] = lambda p: True) -> P | None:
        """The last that was provided: what is said later counts."""
        found = self.find(type_, tenant, where)
        return found[-1] if found else None

    def by(self, tenant: str, *types: type[Any], where: Callable[[Any], bool] = lambda p: True) -> tuple[StepId, ...]:
        """The steps after which what was provided so far of these types is so."""
        return tuple(
            dict.fromkeys(
                s
                for type_ in types
                for p, steps in self._provided
                for s in steps
                if isinstance(p, type_) and p.tenant == tenant and where(p)
            )
        )

    # --- what comes out ---------------------------------------------------------------------------------------------
    def add(self, step: Step, late: Iterable[Need] = ()) -> StepId:
        """A step. `late`: what it needs that is provided only when all facets have compared."""
        self.steps.append(step)
        if needs := list(late):
            self._late.setdefault(step.id, []).extend(needs)
        return step.id

    def note(self, code: str, text: str, *, warning: bool = True, names: tuple[str, ...] = ()) -> None:
        self.notes.append(Note(code, text, warning, names))

    def wrong(self, code: str, what: str, mend: str, position: Position | None) -> None:
        self.mistakes.append(Mistake(code, what, mend, position))

    def undecided(self, code: str, what: str, mend: str, position: Position | None) -> None:
        """Nothing is wrong in the charter, and a person has to say how it is meant."""
        self.open.append(Mistake(code, what, mend, position))

    def collide(self, collision: Collision) -> None:
        self.collisions.append(collision)

    def close(self) -> list[Step]:
        """The steps, each with all that it needs. What a step needs and itself provides is no need."""

        def whole(step: Step) -> Step:
            late = [
                s
                for need in self._late.get(step.id, ())
                for s in self.by(need.tenant or step.tenant, need.type, where=need.where)
            ]
            needs = tuple(dict.fromkeys(n for n in (*step.needs, *late) if n != step.id))
            return replace(step, needs=needs) if needs != step.needs else step

        return [whole(s) for s in self.steps]
