"""How a command was asked to behave, and what it is told while a workflow is at work."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from sigillum.tenants.by_hand.lines import Answer, Line


class Header(NamedTuple):
    """What is said before a command touches a tenant."""

    tenant: str
    address: str
    stage: str
    administrator: str
    now: datetime
    skew_seconds: float


class Progress(NamedTuple):
    """Something to show while a workflow is at work."""

    charter: str
    text: str
    number: int = 0
    of: int = 0


@dataclass(eq=False)
class Settings:
    """How a command was asked to behave, resolved once."""

    workspace: Path | None = None
    timeout_seconds: float = 15.0
    patience_seconds: float = 60.0
    wait_seconds: float = 0.0  # how long a change that is on its way may be waited for
    log: Callable[[str], None] | None = None
    say: Callable[[str], None] = lambda text: None
    confirm: Callable[[Line], Answer | None] = lambda line: None  # of a tenant by hand: ask a person
    announce: Callable[[Header], None] = lambda header: None
    progress: Callable[[Progress], None] = lambda progress: None
    boundary: Callable[[str], None] = lambda name: None  # told at each journal boundary
    sleep: Callable[[float], None] = time.sleep
