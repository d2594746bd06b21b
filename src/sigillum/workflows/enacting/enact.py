"""Enact: rehearse, carry out, read back, prove; for one charter or many, and again after any interruption."""

from __future__ import annotations

import threading
from dataclasses import dataclass, field

from sigillum.core.charter.charter import Charter
from sigillum.core.facets.registry import waits_for
from sigillum.core.facets.seen import Choices as Allowed
from sigillum.core.records.history import HOLDS, REVIVED
from sigillum.core.records.steps import Outline, Prove, Step, StepKind
from sigillum.core.values.errors import NotYetError, Outcome, RefusedError, SigillumError, StoppedError, worst
from sigillum.core.values.marks import Mark, StepId
from sigillum.ledger.port import Fresh
from sigillum.workflows.desk.ledgers import keep_witness
from sigillum.workflows.desk.office import CLAIM, Office
from sigillum.workflows.desk.settings import Progress
from sigillum.workflows.desk.several import several
from sigillum.workflows.handing.requests import settle
from sigillum.workflows.handing.sent import noticed
from sigillum.workflows.proving.prove import ProofReport, run
from sigillum.workflows.proving.trials import principal_of
from sigillum.workflows.rotating.rotate import Rotated, begin, go_on_all

from .carrying.ports import AgainError
from .carrying.run import Became, Carrying, StepResult
from .rehearse import blocked_outcome, compared
from .undertakings import asking

MOST_COMPARISONS = 5
PROD = "prod"  # the stage in which ending something has to be said


@dataclass(frozen=True, slots=True)
class EnactChoices:
    """What the administrator allowed: proving, ending in prod, taking over, sending again, switching on what others stopped."""

    prove: bool = True
    end: bool = True
    adopt: bool = False
    send_again: bool = False
    end_extra: bool = False
    switch_on: bool = False
    revive: bool = False
    lost: bool = False
    tokens: tuple[str, ...] = ()  # from outside, that are at hand: tried by the charter's trusts

    @property
    def allowed(self) -> Allowed:
        """What of it matters to comparing."""
        return Allowed(self.adopt, self.end_extra, self.switch_on, revive=self.revive, lost=self.lost)

    def allowed_for(self, office: Office, charter: Charter) -> Allowed:
        """The same, and where nothing is ended now: in prod, where that was not said."""
        kept = () if self.end else (n for n, t in office.workspace.file.tenants.items() if PROD in (charter.stage, t.stage))
        return self.allowed._replace(kept_in=frozenset(kept))


@dataclass(slots=True)
class Enacted:
    """What became of one charter."""

    charter: Charter
    results: list[StepResult] = field(default_factory=list)
    outline: Outline | None = None
    proofs: ProofReport | None = None
    error: SigillumError | None = None
    rotations: list[Rotated] = field(default_factory=list)

    @property
    def blocked(self) -> bool:
        """Must somebody mend or decide something before this charter can be enacted?"""
        return self.outline is not None and self.outline.blocked and not self.results

    @property
    def unchanged(self) -> bool:
        """Was there nothing to do, and is there nothing to tell?"""
        return (
            self.error is None
            and not self.results
            and not self.rotations
            and self.outline is not None
            and not self.outline.blocked
            and not self.outline.left
        )

    def outcome(self) -> Outcome:
        if self.blocked and self.outline is not None:
            return blocked_outcome(self.outline)
        found = [r.error.outcome for r in self.results if r.error is not None]
        if self.error is not None:
            found.append(self.error.outcome)
        if self.proofs is not None:
            found.append(self.proofs.outcome())
        found += [o for r in self.rotations if (o := r.outcome()) is not Outcome.NOT_YET]  # a rotation takes its time
        left = self.outline is not None and self.outline.left
        if left or any(r.state is Became.SKIPPED and r.step.kind is StepKind.END for r in self.results):
            found.append(Outcome.SOMEBODY)
        return worst(found)


def enact(office: Office, charter: Charter, choices: EnactChoices) -> Enacted:
    """Carry one charter out. What fails stands in the result, beside everything that was reached before."""
    done = Enacted(charter)
    try:
        office.settings.go_on()
        for _ in range(MOST_COMPARISONS):
            try:
                _once(office, charter, choices, done)
                return done
            except AgainError:
                continue
        done.error = NotYetError(
            "the tenant keeps changing while this works", where=charter.tenant, mend="run the same command again in a while"
        )
    except StoppedError as problem:
        done.error = None if any(r.error is problem for r in done.results) else problem
    except SigillumError as problem:
        done.error = problem
    finally:
        office.settings.progress(Progress(charter.name))
    return done


def _once(office: Office, charter: Charter, choices: EnactChoices, done: Enacted) -> None:
    office.books.writable_ledger()
    uid = office.books.make_known(charter.name)
    if choices.revive and office.books.history(charter.name)[1].retiring:
        about = {"name": charter.name, "because": "", "tenant": charter.tenant}
        office.books.writable_ledger().append([Fresh(REVIVED, uid, about)])
    if made := noticed(office, uid):
        office.books.writable_ledger().append(made)
    comparison, outline, _ = compared(office, charter, choices.allowed_for(office, charter), noted=True)
    for all_ in comparison.history.generations.values():
        for gone in (g for g in all_ if g.given_away):  # what a kill left of it
            office.keepings.of(uid).forget(gone.mark.get("name"), gone.number)
    done.outline = outline
    if outline.blocked:
        return
    settle(office, uid, outline)
    if office.tenants.by_person(s.tenant for s in outline.steps):
        from sigillum.workflows.handing.worksheet import write as write_sheet

        write_sheet(office, charter, outline)

    def prove_now(step: Step) -> None:
        history = office.books.history(charter.name)[1]
        assert isinstance(step.action, Prove)
        report = run(
            office,
            charter,
            history,
            office.keepings.of(uid),
            principal_of(office, charter, history),
            step.action,
            choices.tokens,
        )
        if step.action.proofs is None:
            done.proofs = report
        elif not report.held:
            raise report.error()

    def turn(step: Step) -> None:
        history = office.books.history(charter.name)[1]
        want = next(c for c in charter.credentials if c.name == step.mark.get("name"))
        begin(office, charter, history, want, step.mark, step.why)

    ports = office.ports(uid, charter.name, prove_now, asking(office, uid, charter.name), turn)
    carrying = Carrying(ports, comparison.history, send_again=choices.send_again)
    again = list[StepResult]()  # what made it compare anew is no result of its own

    def reached(result: StepResult) -> None:
        (again if isinstance(result.error, AgainError) else done.results).append(result)

    carrying.run(outline, reached, leave_out=left_out(office, charter, outline, choices))
    _holding(office, charter, uid)
    done.rotations = go_on_all(office, charter, uid)


def _holding(office: Office, charter: Charter, uid: str) -> None:
    """Write down who uses each credential: whoever leaves the charter has it still."""
    state, fresh = office.books.state(uid), list[Fresh]()
    for want in charter.credentials:
        made = state.serving(Mark("credential", charter.tenant, (("name", want.name),))) if state.generations else None
        if made is not None and set(want.consumers) - made.holders:
            fresh.append(Fresh(HOLDS, uid, {**made.mark.body(), "generation": made.number, "consumers": list(want.consumers)}))
    if fresh:
        office.books.writable_ledger().append(fresh)


def wants_end(office: Office, charter: Charter, step: Step) -> bool:
    """Is it an ending that has to be said, since the charter or the tenant where it ends stands in prod?

    What is extra was said by its own option.
    """
    return (
        step.kind is StepKind.END and not step.unasked and PROD in (charter.stage, office.workspace.tenant(step.tenant).stage)
    )


def left_out(office: Office, charter: Charter, outline: Outline, choices: EnactChoices) -> frozenset[StepId]:
    """What is not wished now; a proof that an ending needs is left out only together with it."""
    ends = {s.id for s in outline.steps if not choices.end and wants_end(office, charter, s)}
    proofs = {
        s.id
        for s in outline.steps
        if isinstance(s.action, Prove)
        and (not choices.prove if s.action.proofs is None else bool(s.action.leaving) and set(s.action.leaving) <= ends)
    }
    return frozenset(ends | proofs)


def enact_all(office: Office, charters: list[Charter], choices: EnactChoices) -> list[Enacted]:
    """Carry out several charters, a few at a time, under the ledger's lock; an interruption lets steps that are under way come
    to their end. Raises MachineError.
    """
    ledger = office.books.writable_ledger()
    broken = threading.Event()

    def one(charter: Charter) -> Enacted:
        if broken.is_set():
            return Enacted(charter, error=RefusedError("not begun", mend="run the same command again"))
        done = enact(office, charter, choices)
        if done.error is not None and done.error.outcome is Outcome.MACHINE:
            broken.set()
        return done

    with ledger.claim(CLAIM, 0.0):
        try:
            done: dict[str, Enacted] = {}
            for wave in waves(charters):
                done |= {e.charter.name: e for e in several(office.settings, one, wave, finish=True)}
            return [done[c.name] for c in charters]
        finally:
            keep_witness(office)


def waves(charters: list[Charter]) -> list[list[Charter]]:
    """Charters in the order in which they need each other: teams before those who join them, members before their team."""
    names = {c.identity.name for c in charters}
    needs = {c.name: (waits_for(c) & names) - {c.identity.name} for c in charters}
    left, out, made = list(charters), list[list[Charter]](), set[str]()
    while left:
        ready = [c for c in left if needs[c.name] <= made] or left  # in a circle: all at once, and once more later
        out.append(ready)
        made |= {c.identity.name for c in ready}
        begun = {c.name for c in ready}
        left = [c for c in left if c.name not in begun]
    return out
