"""The journal on a ledger: intents and outcomes of one stream, and the externalIds that belong to them."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import datetime
from typing import Any

from sigillum.core.records import history
from sigillum.core.records.deeds import BY
from sigillum.core.records.steps import Step
from sigillum.core.values.canonical import digest, external_id
from sigillum.core.values.times import format_instant
from sigillum.ledger.port import Fresh, Ledger
from sigillum.tenants.port import Reply

from .ports import Settle


class LedgerJournal:
    """Writes a stream's intents and outcomes; `now` tells a tenant's time, `acting` the name of whoever does a step there,
    `boundary` is told where a kill could fall, `met` gives what is to be written of a tenant before the first intent there,
    `copy` the name of this copy of the workspace, by which it is known who keeps what is kept; `marked`: the externalId of what
    is made, where somebody else demands it.
    """

    def __init__(
        self,
        ledger: Ledger,
        workspace: str,
        uid: str,
        now: Callable[[str], datetime],
        boundary: Callable[[str], None] = lambda name: None,
        acting: Callable[[str, str], str] = lambda tenant, by: by,
        met: Callable[[str], Iterable[Fresh]] = lambda tenant: (),
        copy: Callable[[], str] = lambda: "",
        marked: str = "",
    ) -> None:
        self.ledger, self.workspace, self.uid, self._now, self._boundary = ledger, workspace, uid, now, boundary
        self._acting, self._met, self._copy, self._marked = acting, met, copy, marked
        self._known = set[str]()
        self._beside = list[Fresh]()  # what is written with the next entry: losing it loses nothing but knowledge

    def now(self, tenant: str) -> datetime:
        return self._now(tenant)

    def external_id(self, step: Step) -> str:
        return self._marked or external_id(self.workspace, self.uid, step.mark.body(), step.generation)

    def boundary(self, name: str) -> None:
        self._boundary(name)

    def attempt(self, step: Step, verb: str, payload: Any, send: Callable[[], Reply], **more: Any) -> tuple[Reply, Settle]:
        acting = self._acting(step.tenant, step.by)
        head = self.ledger.append(
            [
                *self._waiting(),
                *self._first(step.tenant),
                Fresh(
                    history.INTENT,
                    self.uid,
                    {
                        "verb": verb,
                        **step.mark.body(),
                        "generation": step.generation,
                        "digest": digest(payload),
                        "tenant_time": format_instant(self.now(step.tenant)),
                        **({BY: acting} if acting else {}),
                        **more,
                    },
                ),
            ]
        )
        self.boundary(f"{step.id} intended")
        reply = send()
        self.boundary(f"{step.id} answered")

        def settle(result: str, **about: Any) -> None:
            self.ledger.append(
                [
                    *self._waiting(),
                    Fresh(
                        history.OUTCOME,
                        self.uid,
                        {
                            "attempt": head.sequence,
                            "result": result,
                            "tenant_time": format_instant(self.now(step.tenant)),
                            **about,
                        },
                    ),
                ]
            )
            self.boundary(f"{step.id} settled")
            if reply.confirmed:
                self.write(history.CONFIRMED, step, by=reply.confirmed, about=step.about)

        return reply, settle

    def _first(self, tenant: str) -> Iterable[Fresh]:
        """Before the first intent at a tenant: where it is."""
        if tenant in self._known:
            return ()
        self._known.add(tenant)
        return self._met(tenant)

    def seen(self, step: Step) -> None:
        self._beside.append(Fresh(history.SEEN, self.uid, {**step.mark.body(), "generation": step.generation}))

    def flush(self) -> None:
        if self._beside:
            self.ledger.append(self._waiting())

    def _waiting(self) -> list[Fresh]:
        waiting, self._beside = self._beside, []
        return waiting

    def write(self, kind: str, step: Step, **about: Any) -> None:
        about = {history.COPY: self._copy(), **about} if kind == history.KEPT else about
        self.ledger.append(
            [*self._waiting(), Fresh(kind, self.uid, {**step.mark.body(), "generation": step.generation, **about})]
        )
        self.boundary(f"{step.id} {kind}")
