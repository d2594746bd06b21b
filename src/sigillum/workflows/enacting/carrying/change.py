"""Changing fields of one thing, under the version that was looked at."""

from __future__ import annotations

from typing import Any

from sigillum.core.kinds.changes import Change, plain
from sigillum.core.kinds.kind import Record, compared
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.history import SWITCHES, AttemptOutcome, Verb
from sigillum.core.records.steps import Step
from sigillum.tenants.port import Reply, Result

from .attempt import Ready, attempt, left, unread, until
from .files import complete
from .ports import AgainError, Settle
from .work import Work, Yields


def carry(work: Work, step: Step, action: Change) -> Yields:
    """Change it, and read back that it shows."""
    change = work.resolved(action)
    assert isinstance(change, Change)
    tenant, identity = work.tenant, str(change.id)
    if change.kind is CREDENTIAL:
        complete(work, step, change.about, identity)
    version = [change.version]

    def done(reply: Reply, settle: Settle) -> bool | None:
        if reply.result is Result.DONE:
            settle(change.result or AttemptOutcome.CHANGED, **({"id": identity} if change.result else {}), **left(reply.record))
            return True
        if reply.result is Result.MISSING:
            settle(AttemptOutcome.REFUSED, why="it is not there")
            raise AgainError(f"{step.about} is not there any more")
        return None

    def stale() -> None:
        fresh = tenant.read(change.kind, identity)
        version[0] = fresh.version if fresh is not None else ""

    more: dict[str, Any] = {"undo": plain(dict(step.before))} if change.result == AttemptOutcome.MADE else {}
    if isinstance(change.part.get("active"), bool):
        more[SWITCHES] = "on" if change.part["active"] else "off"
    if change.about and change.kind is not CREDENTIAL:
        more["about"] = plain(change.about)
    attempt(
        work,
        step,
        Verb.CHANGE,
        change.part,
        Ready(lambda: tenant.change(change._replace(version=version[0]))),
        done,
        stale=stale,
        thing=change.kind.name,
        id=identity,
        **more,
        **unread(tenant, change.kind, change.part),
    )

    def shown() -> Record[object] | None:
        record = tenant.read(change.kind, identity)
        if record is None:
            return None
        held = compared(record, change.part, tenant.profile.carried(change.kind))
        return record if not held.different and not held.dark else None

    until(work, shown, f"the change of {step.about}")
    work.journal.boundary(f"{step.id} read-back")
    return {"id": identity}
