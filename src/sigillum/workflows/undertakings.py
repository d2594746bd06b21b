"""Taking an undertaking as far as it goes now: its steps are carried out in its own stream, and its end is written down."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from sigillum.core.facets.seen import arrival_seconds
from sigillum.core.records.books import NUMBER, UNDERTAKING
from sigillum.core.records.history import CLOSED, fold
from sigillum.core.records.steps import Outline, Step
from sigillum.core.undertakings.undertaking import Look, S, Undertaking
from sigillum.core.values.errors import NotYetError, SomebodyError
from sigillum.core.values.marks import Mark
from sigillum.ledger.port import Fresh

from .carrying.run import Carrying, StepResult
from .office import Office, nothing

MOST_STAGES = 20


def advance(office: Office, sort: Undertaking[S], one: S, reached: Callable[[StepResult], None] = nothing, *,
            wanted: frozenset[tuple[Mark, int]] = frozenset()) -> None:
    """Under the ledger's lock; each result is given when it is reached. Raises MachineError, SomebodyError.

    `wanted`: what its charter still asks somebody for.
    """
    tenant, stopped = office.tenants.reach(one.tenant), False
    seen = Look(lambda query: tenant.facts([query])[query], wanted, arrival_seconds(tenant.profile))

    def gone_on(result: StepResult) -> None:
        nonlocal stopped
        stopped = stopped or result.error is not None
        reached(result)
    for _ in range(MOST_STAGES):
        follows = sort.next(one, seen, office.tenants.now(one.tenant))
        if follows.waits and follows.early:
            raise NotYetError(follows.waits, where=one.tenant, mend="run the same command again in a while")
        if follows.waits:
            raise SomebodyError(follows.waits, where=one.tenant, mend="ask with an administrator who may look")
        if follows.closed:
            close(office, sort, one, follows.closed)
        if stopped or not follows.steps:
            return
        carry_out(office, one.uid, follows.steps, gone_on)
        one = office.books.again(sort, one)


def close(office: Office, sort: Undertaking[S], one: S, how: str, *before: Fresh, **about: str) -> None:
    """Write down how an undertaking ended, with what else belongs into the same transaction."""
    office.books.ledger(write=True).append([*before, Fresh(CLOSED, one.uid, {
        UNDERTAKING: sort.name, NUMBER: one.key, "how": how, **about})])


def carry_out(office: Office, uid: str, steps: tuple[Step, ...], reached: Callable[[StepResult], None]) -> None:
    """Steps of one stream that are no charter's outline, with the executor and its journal. Raises MachineError."""
    state = fold(office.books.ledger(write=True).entries(uid), uid)
    steps = tuple(replace(s, by=office.tenants.acting(s.tenant, s.power)) for s in steps)
    about = office.books.ledger().name_of(uid) or uid.replace("-", " ")
    Carrying(office.ports(uid, about, nothing, nothing), state).run(Outline(uid, steps), reached)
