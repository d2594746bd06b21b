"""Ending one thing."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sigillum.core.kinds.changes import End
from sigillum.core.records.history import Outcome, Verb
from sigillum.core.records.steps import Step
from sigillum.tenants.port import Reply, Result

from .attempt import attempt, until
from .ports import Settle

if TYPE_CHECKING:
    from .run import Carrying, Yields


def carry(carrying: Carrying, step: Step, action: End) -> Yields:
    """End it, and look until it is not shown any more."""
    end, tenant = carrying.resolved(action), carrying.tenant
    assert isinstance(end, End)
    identity = str(end.id)

    def done(reply: Reply, settle: Settle) -> bool | None:
        if reply.result in (Result.DONE, Result.MISSING):
            settle(Outcome.ENDED)
            return True
        return None
    attempt(carrying, step, Verb.END, {"id": identity}, lambda: tenant.end(end), done, thing=end.kind.name, id=identity)
    until(carrying, lambda: True if tenant.read(end.kind, identity) is None else None, f"the end of {step.about}")
    carrying.journal.boundary(f"{step.id} read-back")
    return {}
