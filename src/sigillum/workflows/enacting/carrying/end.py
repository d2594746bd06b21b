"""Ending one thing."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sigillum.core.kinds.changes import End
from sigillum.core.kinds.kind import Query
from sigillum.core.records.history import AttemptOutcome, Verb
from sigillum.core.records.steps import Step
from sigillum.core.values.errors import NotYetError, SigillumError, SomebodyError
from sigillum.core.values.times import format_instant
from sigillum.tenants.port import Reply, Result

from .attempt import Ready, attempt, until
from .documents import arrives_until
from .ports import Settle
from .work import Work, Yields


def carry(work: Work, step: Step, action: End) -> Yields:
    """End it. It counts as ended when it is not shown any more."""
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
        ended(work, step, end, reply, settle)
        return True

    request = Ready(lambda: tenant.end(end))
    while not attempt(work, step, Verb.END, {"id": identity}, request, done, thing=end.kind.name, id=identity):
        assert over is not None
        _waited(work, step, over)
    work.journal.boundary(f"{step.id} read-back")
    return {}


def ended(work: Work, step: Step, end: End, reply: Reply, settle: Settle) -> None:
    """Write down an end when it was read back. Where such things cannot be looked up, it is written down as answered, not seen.

    That nothing is at an address shows an end only of what was seen there once: what never was may still appear. Raises
    NotYetError, SomebodyError.
    """
    tenant, identity = work.tenant, str(end.id)
    if end.kind.name in tenant.profile.unshown or (not reply.seen and reply.result is Result.DONE):
        settle(AttemptOutcome.ENDED, seen=False)
        return
    try:
        until(work, lambda: True if tenant.read(end.kind, identity) is None else None, f"the end of {step.about}")
    except SigillumError:
        settle(AttemptOutcome.LOST, why="it is still shown after the answer, or cannot be seen")
        raise
    if reply.result is Result.MISSING:
        _was_there(work, step, end, settle)
    settle(AttemptOutcome.ENDED)


def _was_there(work: Work, step: Step, end: End, settle: Settle) -> None:
    """Was that which is not there now there before? Raises NotYetError, SomebodyError."""
    made = next((g for g in work.history.generations.get(step.mark, ()) if g.number == step.generation), None)
    if made is None or made.value or made.id != str(end.id):
        return  # it was found a moment ago
    if made.external_id and end.kind.name not in work.tenant.profile.unmarked:
        query: Query[Any] = Query(end.kind, "mark", made.external_id)
        other = work.tenant.facts([query])[query].first
        if other is not None:
            settle(AttemptOutcome.REFUSED, why="it stands there under another id")
            raise SomebodyError(
                f"{step.about}: nothing has the id {made.id}, and {other.id} bears our mark",
                where=step.tenant,
                mend="look at both there; has the tenant's address changed, or was it made anew from a copy?",
            )
    if not (made.seen or made.ending) and not work.ports.gone:
        settle(AttemptOutcome.REFUSED, why="it is not shown there, and never was")
        raise NotYetError(
            f"{step.about}: the tenant shows nothing of the id {made.id}, and never did since it answered that it made it at "
            f"{made.made_at}; it may still appear",
            where=step.tenant,
            mend="run the same command again later; where it is surely not there, say `--gone`",
        )


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
