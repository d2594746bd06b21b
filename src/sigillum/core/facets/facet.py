"""What a facet is: one thing that a charter can ask for."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import HouseRules
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.seen import Seen
from sigillum.core.values.errors import Mistake
from sigillum.core.values.marks import Mark


def _no_mistakes(charter: Charter, rules: HouseRules, tenants: list[str]) -> Iterator[Mistake]:
    yield from ()


def _nobody(charter: Charter) -> Iterable[str]:
    return ()


def _nothing(seen: Seen, draft: Draft) -> None:
    """Nothing is left to do."""


def _words(mark: Mark) -> str:
    return str(mark)


@dataclass(frozen=True, slots=True)
class Facet:
    """One thing that a charter can ask for.

    `gives` and `takes`: types of what it provides and looks for, from which the order follows. `compare`: what stands against
    what is wanted; it asks for facts and adds steps. `last`: once all have compared, in all tenants. `check`: what can be said
    without a tenant. `waits_for`: other charters that go first. `words`: one of its marks, for reading.
    """

    name: str
    compare: Callable[[Seen, Draft], None]
    gives: frozenset[type[Any]] = frozenset()
    takes: frozenset[type[Any]] = frozenset()
    last: Callable[[Seen, Draft], None] = _nothing
    check: Callable[[Charter, HouseRules, list[str]], Iterable[Mistake]] = _no_mistakes
    waits_for: Callable[[Charter], Iterable[str]] = _nobody
    words: Callable[[Mark], str] = _words
