"""Undertakings: what is begun and not finished. One form for all of them: read from the ledger, and asked what follows.

Nothing of an undertaking is kept but its entries: the stage it is in is read from them each time, so it goes on after any
interruption where it stopped.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Generic, NamedTuple, Protocol, TypeVar

from sigillum.core.kinds.kind import Fact, Query
from sigillum.core.records.chain import LedgerEntry
from sigillum.core.records.steps import Step
from sigillum.core.values.marks import StepId


class Undertaken(Protocol):
    """One undertaking as its entries say. `uid`: the stream they stand in; `key`: its own name; `began`: its first entry."""

    @property
    def uid(self) -> str: ...
    @property
    def key(self) -> str: ...
    @property
    def began(self) -> int: ...
    @property
    def tenant(self) -> str: ...


S = TypeVar("S", bound=Undertaken)


class Look(NamedTuple):
    """What a stage machine may look at: facts of its tenant, which may show a change so many seconds late; and what its
    charter still asks somebody for.
    """

    ask: Callable[[Query[Any]], Fact[Any]]
    wanted: frozenset[StepId] = frozenset()
    arrival_seconds: int = 0
    around: Any = None  # what else a sort of undertaking looks at, of its own type


class Next(NamedTuple):
    """What follows: steps in its own stream; or how it has ended; or why it cannot go on now, `early` where time alone helps.
    Nothing of it: it rests.
    """

    steps: tuple[Step, ...] = ()
    closed: str = ""
    waits: str = ""
    early: bool = False
    code: str = ""  # of what is waited for, where something of its own helps


@dataclass(frozen=True, slots=True)
class Undertaking(Generic[S]):
    """One sort of undertaking. `begins`: the kind of the entry that begins one; `read`: those of one stream."""

    name: str
    begins: str
    read: Callable[[Iterable[LedgerEntry], str], Sequence[S]]
    next: Callable[[S, Look, datetime], Next]
