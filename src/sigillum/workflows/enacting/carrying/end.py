"""Ending one thing."""

from __future__ import annotations

from datetime import datetime

from sigillum.core.kinds.changes import End
from sigillum.core.records.history import AttemptOutcome, Verb
from sigillum.core.records.steps import Step
from sigillum.core.values.errors import NotYetError
from sigillum.core.values.times import format_instant
from sigillum.tenants.port import Reply, Result

from .attempt import Ready, attempt, until
from .documents import arrives_until
from .ports import Settle
from .work import Work, Yields


def carry(work: Work, step: Step, action: End) -> Yields:
    """End it, and look until it is not shown any more."""
    end, tenant = work.resolved(action), work.tenant
    assert isinstance(end, End)
    identity = str(end.id)

    over = arrives_until(work, step, end.kind)

    def done(reply: Reply, settle: Settle) -> bool | None:
        if reply.result not in (Result.DONE, Result.MISSING):
            return None
        if over is not None and work.journal.now(step.tenant) < over:
            settle(AttemptOutcome.LOST, why="a write of ours may still bring it back")
            return False
        settle(AttemptOutcome.ENDED)
        return True

    request = Ready(lambda: tenant.end(end))
    while not attempt(work, step, Verb.END, {"id": identity}, request, done, thing=end.kind.name, id=identity):
        assert over is not None
        _waited(work, step, over)
    until(work, lambda: True if tenant.read(end.kind, identity) is None else None, f"the end of {step.about}")
    work.journal.boundary(f"{step.id} read-back")
    return {}


def _waited(work: Work, step: Step, over: datetime) -> None:
    """Wait until no lost write of ours can arrive any more. Raises NotYetError where that takes longer than may be waited."""

    def past() -> bool | None:
        return True if work.journal.now(step.tenant) >= over else None

    found, _ = work.patience.until(
        past, work.patience.most_seconds, lambda waited: f"waiting until {step.about} cannot come back"
    )
    if found is None:
        raise NotYetError(
            f"{step.about} is ended, and an earlier write of ours, whose answer was lost, may bring it back "
            f"until {format_instant(over)}",
            where=step.tenant,
            mend="run the same command again then: it looks once more",
        )
