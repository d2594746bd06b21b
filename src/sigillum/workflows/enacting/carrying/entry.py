"""Putting a value into a shared list or taking it out; twice is the same as once, so a lost answer is sent again."""

from __future__ import annotations

from sigillum.core.kinds.changes import Entry, plain
from sigillum.core.kinds.kind import inside
from sigillum.core.records.history import AttemptOutcome, Verb
from sigillum.core.records.steps import Step
from sigillum.tenants.port import Reply, Result

from .attempt import Ready, attempt, until
from .ports import Settle
from .work import Work, Yields


def carry(work: Work, step: Step, action: Entry) -> Yields:
    """Do it, and read back that the list shows it."""
    entry, tenant = work.resolved(action), work.tenant
    assert isinstance(entry, Entry)
    identity, value = str(entry.id), str(entry.value)

    def done(reply: Reply, settle: Settle) -> bool | None:
        if reply.result is Result.DONE:
            settle(AttemptOutcome.ENDED if entry.out else AttemptOutcome.MADE, id=identity, value=value)
            return True
        if reply.result is Result.MISSING and entry.out:
            settle(AttemptOutcome.ENDED)
            return True
        return None

    attempt(
        work,
        step,
        Verb.TAKE if entry.out else Verb.ADD,
        {"id": identity, entry.field: value, **entry.about},
        Ready(lambda: tenant.enter(entry)),
        done,
        thing=entry.kind.name,
        id=identity,
        **({"about": plain(entry.about)} if entry.about else {}),
    )

    def shown() -> bool | None:
        record = tenant.read(entry.kind, identity)
        return True if (record is not None and inside(record, entry.field, value)) != entry.out else None

    until(work, shown, step.about)
    work.journal.boundary(f"{step.id} read-back")
    return {"id": identity}
