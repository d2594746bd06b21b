"""What every action works with: the ports, the history of a charter, and what earlier steps gave."""

from __future__ import annotations

from typing import Any

from sigillum.core.kinds.changes import Doing, resolved
from sigillum.core.records.history import History
from sigillum.core.records.steps import Kept
from sigillum.core.values.marks import Ref, StepId
from sigillum.tenants.port import Tenant

from .ports import Ports

Yields = dict[str, Any]


class Work:
    """One charter's steps being carried out: the ports, its history, and what earlier steps gave."""

    def __init__(self, ports: Ports, history: History, *, send_again: bool = False) -> None:
        self.ports, self.history = ports, history
        self.journal, self.keeping, self.patience = ports.journal, ports.keeping, ports.patience
        self.send_again = send_again  # a person made sure that an unanswered creation did not arrive
        self.tenant: Tenant  # that of the step at hand, as the administrator who does it
        self.yields: dict[StepId, Yields] = {}
        self.asked: set[StepId] = set()  # steps for which a request is open

    def value(self, value: Any) -> Any:
        """What a reference or a kept secret stands for; what somebody is asked for in this run is still a reference."""
        if isinstance(value, Kept):
            return self.keeping.secret(value.credential, value.generation)
        if not isinstance(value, Ref) or value.step in self.asked:
            return value
        return self.yields[value.step][value.field]

    def resolved(self, doing: Doing) -> Doing:
        return resolved(doing, self.value)
