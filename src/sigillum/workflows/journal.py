"""One journal attempt = one request that changes something: intent first, outcome after."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sigillum.core.records import history
from sigillum.core.records.steps import Step
from sigillum.core.values.canonical import digest
from sigillum.core.values.times import format_instant
from sigillum.ledger.port import Fresh, Ledger
from sigillum.tenants.port import Reply

from .office import Office


class Journal:
    """Writes a charter's intents and outcomes; tells `boundary` at each point where a kill could fall."""

    def __init__(self, office: Office, ledger: Ledger, uid: str) -> None:
        self.office, self.ledger, self.uid = office, ledger, uid
        self.boundary = office.settings.boundary

    def attempt(self, step: Step, operation: str, payload: Any, send: Callable[[], Reply],
                **more: Any) -> tuple[Reply, Callable[..., None]]:
        """Commit the intent, send, and give back the answer with the function that settles it."""
        tenant = self.office.tenant(step.tenant)
        head = self.ledger.append([Fresh(history.INTENT, self.uid, {
            "operation": operation, "tenant": step.tenant, "facet": step.facet, "name": step.name,
            "generation": step.generation, "digest": digest(payload),
            "tenant_time": format_instant(self.office.now(tenant)), **more})])
        self.boundary(f"{step.id} intended")
        reply = send()
        self.boundary(f"{step.id} answered")

        def settle(result: str, **about: Any) -> None:
            self.ledger.append([Fresh(history.OUTCOME, self.uid, {
                "attempt": head.sequence, "result": result,
                "tenant_time": format_instant(self.office.now(tenant)), **about})])
            self.boundary(f"{step.id} settled")
            if reply.confirmed:
                self.write(history.CONFIRMED, step, by=reply.confirmed, about=step.about)
        return reply, settle

    def write(self, kind: str, step: Step, **about: Any) -> None:
        """An entry about something that needed no request."""
        self.ledger.append([Fresh(kind, self.uid, {
            "facet": step.facet, "name": step.name, "generation": step.generation, **about})])
        self.boundary(f"{step.id} {kind}")
