"""Carrying an outline out: the order, what is skipped, and results that are given as they are reached."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from sigillum.core.kinds.changes import Change, End, Entry, Make
from sigillum.core.records.steps import (
    Adopt,
    Ask,
    Await,
    Catch,
    Certify,
    Complete,
    KeepKey,
    KeepSecret,
    Outline,
    Prove,
    Step,
    Turning,
)
from sigillum.core.values.errors import MachineError, SigillumError, StoppedError, WaitingError
from sigillum.core.values.marks import StepId

from . import change, end, entry, local, make
from .ports import AgainError, BehindError, RequestedError
from .work import Work, Yields


class Became(StrEnum):
    """What became of a step."""

    DONE = "done"
    FAILED = "failed"
    SKIPPED = "skipped"
    ASKED = "asked"


@dataclass(frozen=True, slots=True)
class StepResult:
    """A step, and what became of it."""

    step: Step
    state: Became
    error: SigillumError | None = None
    yields: Mapping[str, Any] = field(default_factory=dict)


class Carrying(Work):
    """Carries one charter's steps out. A failed step stops those that need it, and no other."""

    def run(
        self, outline: Outline, reached: Callable[[StepResult], None], *, leave_out: frozenset[StepId] = frozenset()
    ) -> None:
        """Carry out all steps in order; each result is given when it is reached. Raises MachineError (nothing further is
        sent), StoppedError (looked for between steps) and AgainError.
        """
        try:
            self._steps(outline, reached, leave_out)
        except MachineError:
            raise
        except SigillumError:
            self.journal.flush()
            raise
        self.journal.flush()

    def _steps(self, outline: Outline, reached: Callable[[StepResult], None], leave_out: frozenset[StepId]) -> None:
        failed: set[StepId] = set(leave_out)
        for number, step in enumerate(outline.steps, 1):
            all_ = isinstance(step.action, Prove) and step.action.proofs is None
            waits = failed.intersection(step.needs)
            with_them = waits <= self.asked and isinstance(step.action, Ask) and step.action.action is not None
            if step.id in failed or (waits and not with_them) or (all_ and failed - leave_out):
                failed.add(step.id)
                reached(StepResult(step, Became.SKIPPED))
                continue
            self.patience.begin(f"{number}/{len(outline.steps)} {step.kind} {step.about}")
            try:
                self.tenant = self.ports.tenant(step.tenant, step.by)
                self.yields[step.id] = HANDLERS[type(step.action)](self, step, step.action)
                reached(StepResult(step, Became.DONE, yields=self.yields[step.id]))
            except BehindError:
                failed.add(step.id)
                reached(StepResult(step, Became.SKIPPED))
            except (MachineError, StoppedError, AgainError) as problem:
                reached(StepResult(step, Became.FAILED, problem))
                raise
            except SigillumError as problem:
                failed.add(step.id)
                if isinstance(problem, RequestedError):
                    self.asked.add(step.id)
                asked = isinstance(step.action, Ask) or isinstance(problem, WaitingError)
                reached(StepResult(step, Became.ASKED if asked else Became.FAILED, problem))


Handler = Callable[[Work, Step, Any], Yields]
HANDLERS: dict[type, Handler] = {
    Make: make.carry,
    Change: change.carry,
    Entry: entry.carry,
    End: end.carry,
    Catch: local.catch,
    Await: local.await_,
    Complete: local.completed,
    KeepKey: local.keep_key,
    Certify: local.certify,
    KeepSecret: local.keep_secret,
    Adopt: local.adopt,
    Ask: local.ask,
    Prove: local.carry_proofs,
    Turning: local.turning,
}
