"""How a command was asked to behave, and what it is told while a workflow is at work."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from sigillum.core.values.errors import StoppedError

if TYPE_CHECKING:
    from sigillum.tenants.by_hand.lines import Answer, Line


class Header(NamedTuple):
    """What is said before a command touches a tenant; `known_seconds`: how old is what is known of its interface."""

    tenant: str
    address: str
    stage: str
    administrator: str
    now: datetime
    skew_seconds: float
    known_seconds: float = 0.0


class Progress(NamedTuple):
    """Something to show while a workflow is at work; without a text: nothing more is under way there."""

    about: str
    text: str = ""
    number: int = 0
    of: int = 0


@dataclass(eq=False)
class Settings:
    """How a command was asked to behave, resolved once."""

    workspace: Path | None = None
    timeout_seconds: float = 15.0
    wait_seconds: float = 0.0  # how long a change that is on its way may be waited for
    gone: bool = False  # a person made sure: what is to end, and was never shown since it was made, is not there
    log: Callable[[str], None] | None = None
    say: Callable[[str], None] = lambda text: None
    confirm: Callable[[Line], Answer | None] = lambda line: None  # of a tenant by hand: ask a person
    announce: Callable[[Header], None] = lambda header: None
    progress: Callable[[Progress], None] = lambda progress: None
    boundary: Callable[[str], None] = lambda name: None  # told at each journal boundary
    stopping: Callable[[], None] = lambda: None  # told when a person asked to stop
    stop: threading.Event = field(default_factory=threading.Event)
    asking: threading.Event = field(default_factory=threading.Event)  # set while a person is asked something

    def go_on(self) -> None:
        """Looked at between steps and while waiting. Raises StoppedError once a person asked to stop."""
        if self.stop.is_set():
            raise StoppedError("stopped", mend="run the same command again, and it goes on")

    def pause(self, seconds: float) -> None:
        """Wait. Raises StoppedError as soon as a person asks to stop."""
        self.stop.wait(seconds)
        self.go_on()
