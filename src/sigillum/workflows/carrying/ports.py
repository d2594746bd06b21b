"""What carrying needs from outside: tenants, a journal, a keeping place, patience, and who is asked or proves."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

from sigillum.core.kinds.changes import Doing
from sigillum.core.records.steps import Step
from sigillum.core.values.errors import SigillumError
from sigillum.core.values.secret import Secret
from sigillum.keeping.port import Keeping
from sigillum.tenants.port import Reply, Tenant

FIRST_PAUSE_SECONDS = 0.05
LONGEST_PAUSE_SECONDS = 5.0
GROWTH = 1.7


class AgainError(SigillumError):
    """What was known is no longer so: compare again and go on."""


class Settle(Protocol):
    """Writes down what became of an attempt."""

    def __call__(self, result: str, **about: Any) -> None: ...


class Journal(Protocol):
    """A charter's stream of the ledger. An intent is on the disk before its request is sent."""

    def external_id(self, step: Step) -> str:
        """What is written into `externalId` of what a step makes."""
        ...

    def attempt(self, step: Step, verb: str, payload: Any, send: Callable[[], Reply], **more: Any) -> tuple[Reply, Settle]:
        """Commit the intent, send, and give back the answer with the function that settles it."""
        ...

    def write(self, kind: str, step: Step, **about: Any) -> None:
        """An entry about something that needed no request."""
        ...

    def boundary(self, name: str) -> None:
        """Told at each point where a kill could fall."""
        ...


@dataclass(slots=True)
class Patience:
    """How long may be waited. `left_seconds`: for a tenant that is busy; `most_seconds`: for one that finishes later."""

    left_seconds: float
    most_seconds: float
    sleep: Callable[[float], None]
    tell: Callable[[str], None]

    def pause(self, seconds: float, what: SigillumError) -> None:
        """Wait, within what is left. Raises `what` where nothing is."""
        if self.left_seconds <= 0:
            raise what
        seconds = min(seconds, self.left_seconds)
        self.left_seconds -= max(seconds, 0.01)
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
    """All of them. `prove`: tries proofs, raises where they do not hold; `ask`: writes a request, and raises SomebodyError."""

    tenant: Callable[[str, str], Tenant]
    journal: Journal
    keeping: Keeping
    patience: Patience
    prove: Callable[[Step], None]
    ask: Callable[[Step, Doing | None], None]
    chosen: Callable[[str], Secret]  # the secret that a reference refers to
