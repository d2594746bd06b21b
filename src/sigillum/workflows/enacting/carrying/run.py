"""Carrying an outline out: the order, what is skipped, and results that are given as they are reached."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from sigillum.core.kinds.changes import Change, Doing, End, Entry, Make, resolved
from sigillum.core.records.history import History
from sigillum.core.records.steps import (
    Adopt,
    Ask,
    Await,
    Catch,
    Certify,
    Complete,
    KeepKey,
    KeepSecret,
    Kept,
    Outline,
    Prove,
    Step,
    Turning,
)
from sigillum.core.values.errors import MachineError, SigillumError, StoppedError, WaitingError
from sigillum.core.values.marks import Ref, StepId
from sigillum.tenants.port import Tenant

from . import change, end, entry, local, make
from .ports import AgainError, Ports


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


Yields = dict[str, Any]


class Carrying:
    """Carries one charter's steps out. A failed step stops those that need it, and no other."""

    def __init__(self, ports: Ports, history: History, *, send_again: bool = False) -> None:
        self.ports, self.history = ports, history
        self.journal, self.keeping, self.patience = ports.journal, ports.keeping, ports.patience
        self.send_again = send_again  # a person made sure that an unanswered creation did not arrive
        self.tenant: Tenant  # that of the step at hand, as the administrator who does it
        self.yields: dict[StepId, Yields] = {}

    def run(
        self, outline: Outline, reached: Callable[[StepResult], None], *, leave_out: frozenset[StepId] = frozenset()
    ) -> None:
        """Carry out all steps in order; each result is given when it is reached. Raises MachineError (nothing further is
        sent), StoppedError (looked for between steps) and AgainError.
        """
        failed: set[StepId] = set(leave_out)
        for number, step in enumerate(outline.steps, 1):
            all_ = isinstance(step.action, Prove) and step.action.proofs is None
            if step.id in failed or failed.intersection(step.needs) or (all_ and failed - leave_out):
                failed.add(step.id)
                reached(StepResult(step, Became.SKIPPED))
                continue
            self.patience.begin(f"{number}/{len(outline.steps)} {step.kind} {step.about}")
            try:
                self.tenant = self.ports.tenant(step.tenant, step.by)
                self.yields[step.id] = HANDLERS[type(step.action)](self, step, step.action)
                reached(StepResult(step, Became.DONE, yields=self.yields[step.id]))
            except (MachineError, StoppedError, AgainError) as problem:
                reached(StepResult(step, Became.FAILED, problem))
                raise
            except SigillumError as problem:
                failed.add(step.id)
                asked = isinstance(step.action, Ask) or isinstance(problem, WaitingError)
                reached(StepResult(step, Became.ASKED if asked else Became.FAILED, problem))

    def value(self, value: Any) -> Any:
        """What a reference or a kept secret stands for."""
        if isinstance(value, Kept):
            return self.keeping.secret(value.credential, value.generation)
        return self.yields[value.step][value.field] if isinstance(value, Ref) else value

    def resolved(self, doing: Doing) -> Doing:
        return resolved(doing, self.value)


Handler = Callable[[Carrying, Step, Any], Yields]
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
    Prove: local.prove,
    Turning: local.turning,
}
