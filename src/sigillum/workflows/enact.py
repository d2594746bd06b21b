"""Enact: rehearse, carry out, read back, prove; for one charter or many, and again after any interruption."""

from __future__ import annotations

import secrets
import sys
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

from sigillum.core import undertakings
from sigillum.core.charter import Charter
from sigillum.core.compare import compare
from sigillum.core.errors import NotYetError, Outcome, RefusedError, SigillumError, worst
from sigillum.core.steps import Outline, Step, StepKind
from sigillum.ledger.port import Fresh

from .execute import AgainError, Executor, StepResult
from .journal import Journal
from .ledgers import keep_witness
from .office import CLAIM, Office
from .prove import ProofReport, run
from .rehearse import Rehearsal, blocked_outcome, gather, rehearse

MOST_COMPARISONS = 5
FAR_SECONDS = 0.01  # of a tenant that takes longer to answer, many charters are enacted at a time
WORKERS_NEAR, WORKERS_FAR = 4, 8
TURN_SECONDS = 0.0005  # our turns between two requests are short; longer ones make threads queue for nothing


@dataclass(frozen=True, slots=True)
class Choices:
    """What the administrator allowed: proving, ending in prod, taking over, sending again."""

    prove: bool = True
    end: bool = True
    adopt: bool = False
    send_again: bool = False


@dataclass(slots=True)
class Enacted:
    """What became of one charter."""

    charter: Charter
    results: list[StepResult] = field(default_factory=list)
    outline: Outline | None = None
    proofs: ProofReport | None = None
    error: SigillumError | None = None

    @property
    def blocked(self) -> bool:
        """Must somebody mend or decide something before this charter can be enacted?"""
        return self.outline is not None and self.outline.blocked and not self.results

    def outcome(self) -> Outcome:
        if self.blocked and self.outline is not None:
            return blocked_outcome(self.outline)
        found = [r.error.outcome for r in self.results if r.error is not None]
        if self.error is not None:
            found.append(self.error.outcome)
        if self.proofs is not None:
            found.append(self.proofs.outcome())
        if any(r.state == "skipped" and r.step.kind is StepKind.END for r in self.results):
            found.append(Outcome.SOMEBODY)
        return worst(found)


def enact(office: Office, charter: Charter, choices: Choices) -> Enacted:
    """Carry one charter out. What fails stands in the result; MachineError is raised, for nothing goes on then."""
    done = Enacted(charter)
    try:
        for _ in range(MOST_COMPARISONS):
            try:
                _once(office, charter, choices, done)
                return done
            except AgainError:
                continue
        done.error = NotYetError("the tenant keeps changing while this works", where=charter.tenant,
                                 mend="run the same command again in a while")
    except SigillumError as problem:
        if problem.outcome is Outcome.MACHINE:
            raise
        done.error = problem
    return done


def _once(office: Office, charter: Charter, choices: Choices, done: Enacted) -> None:
    ledger = office.ledger(write=True)
    if ledger.uid_of(charter.name) is None:
        ledger.append([Fresh(undertakings.KNOWN, secrets.token_hex(8), {"name": charter.name})])
        office.settings.boundary("charter known")
    view, tenant = gather(office, charter, adopt=choices.adopt)
    outline = compare(view)
    done.outline = outline
    if outline.blocked:
        return
    keys = office.keys(view.charter_uid)
    journal = Journal(office, ledger, view.charter_uid)

    def prove_now(step: Step) -> None:
        _, state = office.state(charter.name)
        account = state.latest("account", "identity")
        principal = account.id if account is not None else str(view.principal)
        done.proofs = run(office, charter, tenant, state, keys, principal)
    executor = Executor(office, journal, tenant, view.state, keys, prove_now)
    executor.send_again = choices.send_again
    done.results += executor.run(charter.name, outline, leave_out=_left_out(outline, choices))


def _left_out(outline: Outline, choices: Choices) -> frozenset[str]:
    return frozenset(s.id for s in outline.steps if (s.kind is StepKind.PROVE and not choices.prove)
                     or (s.kind is StepKind.END and not choices.end))


def enact_all(office: Office, charters: list[Charter], choices: Choices,
              finished: Callable[[Enacted], None] = lambda e: None) -> list[Enacted]:
    """Carry out several charters, a few at a time, under the ledger's lock. Raises MachineError."""
    ledger = office.ledger(write=True)
    stop = threading.Event()

    def one(charter: Charter) -> Enacted:
        if stop.is_set():
            return Enacted(charter, error=RefusedError("not begun", mend="run the same command again"))
        done = enact(office, charter, choices)
        finished(done)
        return done
    with ledger.claim(CLAIM, 0.0):
        try:
            if len(charters) == 1:
                return [one(charters[0])]
            sys.setswitchinterval(TURN_SECONDS)
            far = any(office.tenant(name).round_trip_seconds > FAR_SECONDS for name in {c.tenant for c in charters})
            with ThreadPoolExecutor(WORKERS_FAR if far else WORKERS_NEAR) as pool:
                futures = [pool.submit(one, c) for c in charters]
                try:
                    return [f.result() for f in futures]
                except BaseException:
                    stop.set()
                    raise
        finally:
            keep_witness(office)


def rehearse_all(office: Office, charters: list[Charter], *, adopt: bool = False) -> list[Rehearsal]:
    """Rehearse several charters, one after the other."""
    return [rehearse(office, c, adopt=adopt) for c in charters]
