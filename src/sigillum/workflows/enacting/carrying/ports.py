"""What carrying needs from outside: tenants, a journal, a keeping place, patience, and who is asked or proves."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Protocol

from sigillum.core.kinds.changes import Doing
from sigillum.core.records.steps import Step
from sigillum.core.values.errors import SigillumError, SomebodyError
from sigillum.core.values.marks import StepId
from sigillum.core.values.secret import Secret
from sigillum.core.values.times import Waits
from sigillum.keeping.port import Keeping
from sigillum.tenants.port import Reply, Tenant

FIRST_PAUSE_SECONDS = 0.05
LONGEST_PAUSE_SECONDS = 5.0
GROWTH = 1.7
TOLD_SECONDS = 0.5  # shorter pauses are not told


class AgainError(SigillumError):
    """What was known is no longer so: compare again and go on."""


class RequestedError(SomebodyError):
    """A request for it is open. What waits for it and is asked of the same person goes with it."""


class BehindError(SomebodyError):
    """It is asked for once what it waits for was done: that is asked of somebody else, or was sent before."""


Asking = Callable[[Step, Doing | None, Sequence[StepId]], None]  # the last: the steps that it waits for


class Settle(Protocol):
    """Writes down what became of an attempt."""

    def __call__(self, result: str, **about: Any) -> None: ...


class Journal(Protocol):
    """A charter's stream of the ledger. An intent is on the disk before its request is sent."""

    def now(self, tenant: str) -> datetime:
        """The time there."""
        ...

    def external_id(self, step: Step) -> str:
        """What is written into `externalId` of what a step makes."""
        ...

    def attempt(self, step: Step, verb: str, payload: Any, send: Callable[[], Reply], **more: Any) -> tuple[Reply, Settle]:
        """Commit the intent, send, and give back the answer with the function that settles it."""
        ...

    def write(self, kind: str, step: Step, **about: Any) -> None:
        """An entry about something that needed no request."""
        ...

    def seen(self, step: Step) -> None:
        """What a step made was read back; it is written with what is written next."""
        ...

    def flush(self) -> None:
        """Nothing waits to be written any more."""
        ...

    def boundary(self, name: str) -> None:
        """Told at each point where a kill could fall."""
        ...


@dataclass(slots=True)
class Patience:
    """How long may be waited. `busy_seconds`: at each step for a busy tenant; `most_seconds`: for one that finishes later."""

    busy_seconds: float
    most_seconds: float
    sleep: Callable[[float], None]
    tell: Callable[[str], None]
    go_on: Callable[[], None] = lambda: None  # raises StoppedError where a person asked to stop
    waits: Waits = field(init=False)

    def __post_init__(self) -> None:
        self.waits = Waits(self.busy_seconds)

    def begin(self, text: str) -> None:
        """Another step, with patience of its own. Raises StoppedError."""
        self.go_on()
        self.waits = Waits(self.busy_seconds)
        self.tell(text)

    def pause(self, said: float | None, usual: float, what: SigillumError) -> None:
        """Wait as long as a tenant `said`, else the usual time. Raises `what` where that was done long enough."""
        seconds = self.waits.next(said, usual)
        if seconds is None:
            raise what
        if seconds >= TOLD_SECONDS:
            self.tell(f"waiting {seconds:.0f} s: {what.what}")
        self.sleep(seconds)

    def until(self, found: Callable[[], Any], most: float, told: Callable[[float], str]) -> tuple[Any, float]:
        """Look with growing pauses until `found` gives something, for so many seconds at most; None where it does not."""
        pause, waited = FIRST_PAUSE_SECONDS, 0.0
        while (result := found()) is None and waited < most:
            self.tell(told(waited))
            self.sleep(min(pause, most - waited))
            waited += pause
            pause = min(pause * GROWTH, LONGEST_PAUSE_SECONDS)
        return result, waited


@dataclass(frozen=True, slots=True)
class Ports:
    """All of them. `prove`: tries proofs, raises where they do not hold; `ask`: writes a request, and raises SomebodyError;
    `turn`: reaches a stage of a rotation.
    """

    tenant: Callable[[str, str], Tenant]
    journal: Journal
    keeping: Keeping
    patience: Patience
    prove: Callable[[Step], None]
    ask: Asking
    chosen: Callable[[str], Secret]  # the secret that a reference refers to
    turn: Callable[[Step], None]
    asked: Callable[[Step], AbstractContextManager[None]] = lambda step: nullcontext()  # while a step may ask a person
    gone: bool = False  # a person made sure: what is to end, and was never shown since it was made, is not there
