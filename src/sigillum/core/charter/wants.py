"""What few charters ask for: how an account signs in, and what is handed over. Loaded where one does."""

from __future__ import annotations

from datetime import date
from typing import NamedTuple

from sigillum.core.values.errors import Position


class ExemptWant(NamedTuple):
    """An exemption from a sign-in rule: who accepted the risk, why, and the day of review."""

    rule: str
    accepted_by: str
    why: str
    review: date


class RelaxWant(NamedTuple):
    """A tenant-wide sign-in rule that is switched off; `replaced_by` keeps everybody else protected."""

    rule: str
    accepted_by: str
    why: str
    review: date
    replaced_by: str


class SignInWant(NamedTuple):
    """How a program signs in: from these networks only, exempt from one rule; interactively, with a second factor or not."""

    networks: tuple[str, ...] = ()
    exempt: ExemptWant | None = None
    relax: RelaxWant | None = None
    position: Position | None = None
    interactive: bool = False
    second_factor: bool = False
    device: bool = False  # one that the tenant manages


class HandoverWant(NamedTuple):
    """What is handed over, in which form, to which kind of consumer, and the object to try it on."""

    gives: tuple[str, ...] = ()
    form: str = ""
    to: str = ""
    test: str = ""
