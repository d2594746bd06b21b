"""Enact: rehearse, carry out, read back, prove; for one charter or many, and again after any interruption."""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

from sigillum.core.charter.charter import Charter
from sigillum.core.records.steps import Outline, Step, StepKind
from sigillum.core.values.errors import NotYetError, Outcome, RefusedError, SigillumError, worst

from .execute import AgainError, Executor, StepResult
from .journal import Journal
from .ledgers import keep_witness
from .office import CLAIM, Office
from .prove import ProofReport, principal_of, run
from .rehearse import Rehearsal, blocked_outcome, gather, outline_of, rehearse
from .requests import settle

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
    end_extra: bool = False


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
    office.make_known(charter.name)
    view = gather(office, charter, adopt=choices.adopt, end_extra=choices.end_extra)
    outline = outline_of(office, view)
    done.outline = outline
    if outline.blocked:
        return
    settle(office, view.charter_uid, outline)
    if any(office.workspace.file.tenants[s.tenant].driver == "by-hand" for s in outline.steps):
        from .worksheet import write as write_sheet
        write_sheet(office, charter, outline)
    keys = office.keys(view.charter_uid)
    journal = Journal(office, ledger, view.charter_uid)

    def prove_now(step: Step) -> None:
        _, state = office.state(charter.name)
        done.proofs = run(office, charter, state, keys, principal_of(office, charter, state) or str(view.principal))
    state = office.state(charter.name)[1] if view.guests else view.state
    executor = Executor(office, journal, state, keys, prove_now)
    executor.send_again = choices.send_again
    done.results += executor.run(charter.name, outline, leave_out=_left_out(outline, choices))


def wants_end(step: Step) -> bool:
    """Is it an ending that a prod stage asks to be said? What is extra was said by its own option."""
    return step.kind is StepKind.END and not step.id.startswith("end-extra")


def _left_out(outline: Outline, choices: Choices) -> frozenset[str]:
    return frozenset(s.id for s in outline.steps if (s.kind is StepKind.PROVE and not choices.prove)
                     or (wants_end(s) and not choices.end))


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
                done: dict[str, Enacted] = {}
                try:
                    for wave in waves(charters):
                        futures = [(c, pool.submit(one, c)) for c in wave]
                        done |= {c.name: f.result() for c, f in futures}
                except BaseException:
                    stop.set()
                    raise
                return [done[c.name] for c in charters]
        finally:
            keep_witness(office)


def waves(charters: list[Charter]) -> list[list[Charter]]:
    """Charters in the order in which they need each other: teams before those who join them, members before their team."""
    names = {c.identity.name for c in charters}
    needs = {c.name: ({m.name for m in (*c.member_of, *c.members)} & names) - {c.identity.name} for c in charters}
    left, out, made = list(charters), list[list[Charter]](), set[str]()
    while left:
        ready = [c for c in left if needs[c.name] <= made] or left  # in a circle: all at once, and once more later
        out.append(ready)
        made |= {c.identity.name for c in ready}
        left = [c for c in left if c not in ready]
    return out


def rehearse_all(office: Office, charters: list[Charter], choices: Choices) -> list[Rehearsal]:
    """Rehearse several charters, one after the other."""
    return [rehearse(office, c, adopt=choices.adopt, end_extra=choices.end_extra) for c in charters]
