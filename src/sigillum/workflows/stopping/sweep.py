"""Sweep: what is due and needs nobody: clear what has ended, reinstate, take rotations further, begin those that are due."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import timedelta
from functools import partial
from typing import NamedTuple

from sigillum.core.charter.charter import Charter, CredentialWant
from sigillum.core.facets.registry import words
from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.changes import End
from sigillum.core.records.history import ROTATION, SUSPENSION, Generation, State
from sigillum.core.records.steps import Step, StepKind
from sigillum.core.undertakings.loans import LOANS, POWER, Loan, Stage
from sigillum.core.undertakings.rotating import ROTATIONS
from sigillum.core.undertakings.rotation import Rotation
from sigillum.core.undertakings.suspension import LEFT_OFF, ON_AGAIN, SUSPENSIONS, Suspension
from sigillum.core.values.errors import Outcome, SigillumError, SomebodyError
from sigillum.core.values.marks import Mark, StepId
from sigillum.core.values.times import format_instant, parse_instant
from sigillum.tenants.port import OWN
from sigillum.workflows.desk.ledgers import keep_witness
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office
from sigillum.workflows.enacting.carrying.run import StepResult
from sigillum.workflows.enacting.undertakings import advance, carry_out, follows
from sigillum.workflows.lending.lend import gone_elsewhere, want_back
from sigillum.workflows.rotating.rotate import begin, go_on, open_of

from .due import readable


@dataclass(frozen=True, slots=True)
class Ended:
    """A grant of ours whose window has ended, or that is wanted back, and which still stands: a loan's or a charter's."""

    tenant: str
    about: str
    until: str
    loan: Loan | None = None
    uid: str = ""
    step: Step | None = None
    how: str = ""


# what is swept, and why, where it is not for its window's end
_SWEPT = {
    Stage.ENDED: "",
    Stage.LEAVING: "it was recalled",
    Stage.BEGUN: "its lending was interrupted",
    Stage.ELSEWHERE: "somebody else ended it",
}


def ended(office: Office, tenant_name: str = "") -> list[Ended]:
    """Every grant of a loan or charter of ours whose window has ended, not yet cleared; loans that are leaving, those whose
    lending was interrupted, and those that somebody else ended.
    """
    out = list[Ended]()

    def concerns(tenant: str) -> bool:
        return not tenant_name or tenant == tenant_name

    begun = [loan for loan in office.books.begun(LOANS) if concerns(loan.tenant)]
    stages = {loan.uid: loan.stage(office.tenants.now(loan.tenant)) for loan in begun}
    elsewhere = gone_elsewhere(office, [loan for loan in begun if stages[loan.uid] is Stage.IN_FORCE])
    for loan in begun:
        stage = Stage.ELSEWHERE if loan.uid in elsewhere else stages[loan.uid]
        if stage in _SWEPT:
            out.append(
                Ended(loan.tenant, f"{loan.about} (loan {loan.number})", format_instant(loan.until), loan, how=_SWEPT[stage])
            )
    for uid, name in office.books.names().items():
        for mark, generations in office.books.state(uid).generations.items():
            for generation in generations if generations[-1].kind == GRANT.name and concerns(mark.tenant) else ():
                step = _sweep(office, generation, f"{words(mark)} (charter {name})")
                out += [Ended(mark.tenant, step.about, str(generation.terms["until"]), uid=uid, step=step)] if step else []
    return out


def _sweep(office: Office, generation: Generation, about: str) -> Step | None:
    """The ending of a charter's grant whose window is over."""
    until, tenant = str(generation.terms.get("until", "")), generation.mark.tenant
    if generation.state is not State.MADE or not until or parse_instant(until) > office.tenants.now(tenant):
        return None
    return Step(
        StepId(generation.mark, generation.number, "sweep"),
        StepKind.END,
        about,
        End(GRANT, generation.id),
        power=POWER,
        why=f"its window ended at {until}",
    )


def _sweep_loan(office: Office, loan: Loan, results: list[StepResult]) -> None:
    """One whose lending was interrupted is not made now: what may stand of it is wanted back."""
    loan = office.books.again(LOANS, loan)
    if loan.stage(office.tenants.now(loan.tenant)) is Stage.BEGUN:
        want_back(office, loan, results)
    else:
        advance(office, LOANS, loan, results.append)


class Item(NamedTuple):
    """One thing that is due. `act` does it, and gives what became of its steps; what it waits for is raised."""

    kind: str
    tenant: str
    about: str
    why: str
    act: Callable[[Office, list[StepResult]], None]


@dataclass(slots=True)
class Swept:
    """What became of one."""

    item: Item
    results: list[StepResult] = field(default_factory=list)
    error: SigillumError | None = None

    @property
    def problem(self) -> SigillumError | None:
        """What kept it from being done, if anything."""
        return self.error or next((r.error for r in self.results if r.error is not None), None)

    def outcome(self) -> Outcome:
        """A rotation that takes its time is as it should be."""
        problem = self.problem
        waiting = problem is not None and problem.outcome is Outcome.NOT_YET and self.item.kind in (ROTATION, RENEWAL)
        return problem.outcome if problem is not None and not waiting else Outcome.DONE


GRANT_, RENEWAL = "grant", "renewal"


def due(office: Office, tenant_name: str = "") -> list[Item]:
    """Everything that is due, in the order in which it is done: what ends, what comes back, what is renewed."""
    found = [
        Item(GRANT_, one.tenant, one.about, one.how or f"ended at {one.until}", partial(_clear, one))
        for one in ended(office, tenant_name)
    ]
    for held in office.books.begun(SUSPENSIONS):
        if tenant_name and held.tenant != tenant_name:
            continue
        if held.back(office.tenants.now(held.tenant)):
            why = "somebody wants it back" if held.wanted_back else f"its time ended at {format_instant(held.until or held.at)}"
            found.append(Item(SUSPENSION, held.tenant, held.about, why, partial(_reinstate, held)))
        elif follows(office, SUSPENSIONS, held).code == ON_AGAIN:  # that is told; nothing is switched off by itself
            found.append(
                Item(SUSPENSION, held.tenant, held.about, "it is on although it is suspended", partial(_reinstate, held))
            )
    charters, names = {c.name: c for c in readable(office)}, office.books.names() if office.books.there else {}
    for rotation in office.books.begun(ROTATIONS):
        if not tenant_name or rotation.tenant == tenant_name:
            name = names.get(rotation.uid, rotation.uid)
            found.append(
                Item(
                    ROTATION,
                    rotation.tenant,
                    f"{rotation.name} of {name}",
                    f"since {rotation.because}",
                    partial(_turn, charters.get(name), rotation),
                )
            )
    for charter in charters.values():
        if not tenant_name or charter.tenant == tenant_name:
            found += _renewals(office, charter)
    return found


def _renewals(office: Office, charter: Charter) -> Iterator[Item]:
    """Credentials that are to be renewed by now, where it can be done without a gap."""
    uid, state = office.books.history(charter.name)
    for want in charter.credentials if uid else ():
        mark = Mark("credential", charter.tenant, (("name", want.name),))
        made = state.serving(mark) if mark in state.generations else None
        until = str(made.terms.get("until") or "") if made is not None else ""
        if (
            made is None
            or made.state is not State.MADE
            or not until
            or not want.held_here
            or mark in state.turns
            or state.holds
            or made.id.startswith(OWN)
        ):
            continue
        tenant = office.tenants.reach(charter.tenant)
        at = parse_instant(until) - timedelta(seconds=want.renew_before_seconds)
        if tenant.profile.most(want.kind) != 1 and at <= office.tenants.now(charter.tenant) < parse_instant(until):
            yield Item(
                RENEWAL,
                charter.tenant,
                f"{want.name} of {charter.name}",
                f"it ends at {until}",
                partial(_renew, charter, want, mark, until),
            )


def _clear(ended: Ended, office: Office, results: list[StepResult]) -> None:
    if ended.loan is not None:
        _sweep_loan(office, ended.loan, results)
    elif ended.step is not None:
        carry_out(office, ended.uid, (ended.step,), results.append)


def _reinstate(suspension: Suspension, office: Office, results: list[StepResult]) -> None:
    suspension = office.books.again(SUSPENSIONS, suspension)
    advance(office, SUSPENSIONS, suspension, results.append)
    if office.books.again(SUSPENSIONS, suspension).closed in LEFT_OFF:
        raise SomebodyError(
            f"the {suspension.about} stays off: somebody else may have switched it off, or it was off before",
            where=suspension.tenant,
            mend="find out who, and why",
        )


def _turn(charter: Charter | None, rotation: Rotation, office: Office, results: list[StepResult]) -> None:
    done = go_on(office, charter, office.books.again(ROTATIONS, rotation))
    results += done.results
    if done.waits is not None:
        raise done.waits


def _renew(charter: Charter, want: CredentialWant, mark: Mark, until: str, office: Office, results: list[StepResult]) -> None:
    uid, state = office.books.history(charter.name)
    if mark not in state.turns:  # another one may have begun it meanwhile
        begin(office, charter, state, want, mark, f"it ends at {until}")
    for rotation in open_of(office, uid):
        if rotation.mark == mark:
            _turn(charter, rotation, office, results)


def sweep(office: Office, found: list[Item]) -> Iterator[Swept]:
    """Do what is due, under the ledger's lock; where one fails, the others are done. Raises MachineError, StoppedError."""
    with office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
        try:
            for item in found:
                done = Swept(item)
                try:
                    office.settings.go_on()
                    item.act(office, done.results)
                except SigillumError as problem:
                    if problem.outcome in (Outcome.MACHINE, Outcome.INTERRUPTED):
                        raise
                    done.error = problem
                yield done
        finally:
            keep_witness(office)
