"""Lend, recall, sweep: access beside the charters, which always ends and always has a reason."""

from __future__ import annotations

import secrets
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from sigillum.core.deciding import gathering
from sigillum.core.deciding.objections import Objection, against, misplaced, missing_rights, without_effect
from sigillum.core.deciding.values import Right
from sigillum.core.facets.registry import words
from sigillum.core.kinds.access import GRANT, PLACE, ROLE, Grant, Role, allows
from sigillum.core.kinds.changes import End, Make
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.snapshot import Snapshot
from sigillum.core.records.history import LENT, Generation, History, State, fold
from sigillum.core.records.steps import Outline, Step, StepKind
from sigillum.core.undertakings.loans import Loan, end_of, loan_of, mark_of, may_be_lent
from sigillum.core.values.canonical import external_id
from sigillum.core.values.errors import SomebodyError, UsageError
from sigillum.core.values.marks import StepId
from sigillum.core.values.times import format_instant, parse_instant
from sigillum.ledger.port import Fresh

from . import lookup
from .carrying.run import Carrying, StepResult
from .ledgers import keep_witness
from .office import CLAIM, Office, nothing

POWER = "grants"


@dataclass(frozen=True, slots=True)
class Asked:
    """What somebody wants to lend: for so many seconds, or until an instant."""

    role: str
    at: str
    to: str
    because: str
    lasts_seconds: int | None = None
    until: datetime | None = None
    tenant: str = ""


@dataclass(frozen=True, slots=True)
class Proposal:
    """A loan before it is made: what speaks against it, and a loan of the same that stands already."""

    asked: Asked
    tenant: str
    principal: Record[Any]
    place: str
    until: datetime
    allows: str
    step: Step
    objections: tuple[Objection, ...] = ()
    standing: Loan | None = None

    @property
    def warned(self) -> bool:
        """Is there something that a person should think about first?"""
        return any(not o.usual for o in self.objections)

    @property
    def refused(self) -> bool:
        return any(o.refuse for o in self.objections)


def propose(office: Office, asked: Asked) -> Proposal:
    """Look at what lending would mean; changes nothing. Raises UsageError, SomebodyError."""
    who = lookup.subject(office, asked.to, asked.tenant)
    tenant, borrower, place = who.tenant, who.record, lookup.place(who.tenant, who.record, asked.at)
    principal_as_place = place.startswith("@")
    around = Query(PLACE, "under", place.rpartition("/")[0])
    named = Query(ROLE, "name", asked.role)
    more: list[Query[Any]] = [named, gathering.ALL_ROLES, *([] if principal_as_place else [around])]
    seen = lookup.snapshot(office, tenant, borrower, [place], more)
    role: Record[Role] = lookup.require(seen, named, gathering.ALL_ROLES)
    place_id = place[1:] if principal_as_place else lookup.require(seen, Query(PLACE, "path", place), around).id
    until = end_of(seen.now, asked.lasts_seconds, asked.until)
    world = gathering.world_of(seen.known(), seen.profile, felt=False)
    right = Right("loan", borrower.id, asked.role, place, until=until)
    objections = may_be_lent(office.workspace.rules, asked.role, until, asked.because, seen.now)
    objections += against(seen.profile, role, right, seen.now, everyone=borrower.value("everyone") is True)
    wrong = misplaced(world, role, place)
    objections += [wrong] if wrong is not None else []
    if not any(o.refuse for o in objections):
        objections += without_effect(world, right, office.books().owner)
        if not principal_as_place:
            objections += missing_rights(world, right, seen.now, (p for p, _ in role.body.permissions))
    grant = Grant(borrower.id, asked.role, place, None, until, reason=asked.because, role_id=role.id, place_id=place_id,
                  carrier=borrower.kind.name)
    return Proposal(asked, tenant.address.name, borrower, place, until, allows(role),
                    _step(seen.tenant, borrower, grant, asked), tuple(dict.fromkeys(objections)),
                    _standing(office, seen, borrower, place, asked))


def _step(tenant: str, who: Record[Any], grant: Grant, asked: Asked) -> Step:
    """The making of the grant."""
    assert grant.until is not None
    until = {"until": format_instant(grant.until)}
    part = {n: v for n, v in grant._asdict().items() if v not in (None, "", ())}
    return Step(StepId(mark_of(tenant), 1, "lend"), StepKind.MAKE, f"loan of {asked.role} at {asked.at} to {who.body.name}",
                Make(GRANT, part, until), power=POWER, why=asked.because, after=until)


def _standing(office: Office, seen: Snapshot, who: Record[Any], place: str, asked: Asked) -> Loan | None:
    """The same role lent to the same one at the same place, begun or in force: it is used, never renewed."""
    return next((loan for loan, _ in office.loans() if (loan.tenant, loan.principal, loan.role, loan.at) == (
        seen.tenant, who.id, asked.role, place) and loan.state(seen.now) in ("begun", "in-force")), None)


def lend(office: Office, proposal: Proposal) -> tuple[Loan, list[StepResult]]:
    """Make the loan; one that was begun and interrupted goes on with its own end. Raises MachineError."""
    ledger = office.ledger(write=True)
    with ledger.claim(CLAIM, 0.0):
        loan = proposal.standing
        if loan is None:
            uid = f"loan-{secrets.token_hex(3)}"
            mark = external_id(office.workspace.file.workspace, uid, mark_of(proposal.tenant).body(), 1)
            tenant = office.tenant(proposal.tenant)
            ledger.append([Fresh(LENT, uid, {
                "tenant": proposal.tenant, "principal": proposal.principal.id, "role": proposal.asked.role,
                "at": proposal.place, "principal_name": str(proposal.principal.body.name),
                "until": format_instant(proposal.until), "because": proposal.asked.because,
                "by": tenant.profile.administrator or tenant.address.admin,
                "external_id": mark})])
            office.settings.boundary("loan written")
            loan, _ = loan_of(ledger.entries(uid), uid)
        action, until = proposal.step.action, {"until": format_instant(loan.until)}
        assert isinstance(action, Make)
        own = action._replace(terms=until, part={**action.part, "until": loan.until, "reason": loan.because})
        step = replace(proposal.step, action=own, why=loan.because, after=until)
        results = _carry_out(office, loan.uid, loan.tenant, [step]) if loan.open else []
        keep_witness(office)
        return loan, results


def _carry_out(office: Office, uid: str, tenant: str, steps: list[Step]) -> list[StepResult]:
    """Steps of one loan or charter, with the executor and its journal."""
    ledger = office.ledger(write=True)
    state = fold(ledger.entries(uid), uid)
    steps = [replace(s, by=office.acting(tenant, s.power)) for s in steps]
    results = list[StepResult]()
    Carrying(office.ports(uid, nothing, nothing), state).run(Outline(uid, tuple(steps)), results.append)
    return results


def loans(office: Office, *, all_: bool = False) -> list[tuple[Loan, str]]:
    """Loans with their state, by the tenant's clock; those that were cleared, recalled or refused only with `all_`."""
    found = [(loan, loan.state(office.now(office.tenant(loan.tenant)))) for loan, _ in office.loans()]
    return [(loan, state) for loan, state in found if all_ or state not in ("cleared", "recalled", "refused")]


def recall(office: Office, names: list[str], to: str = "") -> list[tuple[Loan, list[StepResult]]]:
    """End loans before their end: those named, or all to somebody. Raises UsageError where one is not known."""
    found = {loan.uid: loan for loan, _ in office.loans()}
    wanted = [n if n in found else f"loan-{n}" for n in names]
    wanted += [u for u, loan in found.items() if to and to in (loan.principal_name, loan.principal)
               and loan.state(office.now(office.tenant(loan.tenant))) in ("begun", "in-force")]
    for name in wanted:
        if name not in found:
            raise UsageError(f"the ledger knows no {name.replace('-', ' ')}", where="recall",
                             mend="`sigillum loans` lists them")
    if not wanted:
        raise SomebodyError(f"nothing is lent to {to}", where="recall", mend="`sigillum loans` lists what is lent")
    with office.ledger(write=True).claim(CLAIM, 0.0):
        out = [(found[name], _end(office, found[name])) for name in dict.fromkeys(wanted)]
        keep_witness(office)
    return out


def _end(office: Office, loan: Loan) -> list[StepResult]:
    generation, identity = loan.generation, ""
    if generation is not None and not generation.live:
        return []
    if generation is not None:
        identity = generation.id
    if not identity:  # begun, and the answer was not caught
        query = Query(GRANT, "mark", loan.external_id)
        record = office.tenant(loan.tenant).facts([query])[query].first
        if record is None:
            return []
        identity = record.id
    step = Step(StepId(mark_of(loan.tenant), 1, "recall"), StepKind.END, f"loan of {loan.role} to {loan.principal_name}",
                End(GRANT, identity), power=POWER, why="it was recalled")
    return _carry_out(office, loan.uid, loan.tenant, [step])


@dataclass(frozen=True, slots=True)
class Ended:
    """A grant of ours whose window has ended and which still stands there."""

    uid: str
    tenant: str
    about: str
    until: str
    step: Step


def ended(office: Office, tenant_name: str = "") -> list[Ended]:
    """Every grant of a loan or charter of ours whose window has ended, not yet cleared."""
    out = list[Ended]()

    def look(uid: str, about: str, generation: Generation, until: str) -> None:
        tenant = generation.mark.tenant
        if generation.state is not State.MADE or not until or (tenant_name and tenant != tenant_name) \
                or parse_instant(until) > office.now(office.tenant(tenant)):
            return
        step = Step(StepId(generation.mark, generation.number, "sweep"), StepKind.END, about, End(GRANT, generation.id),
                    power=POWER, why=f"its window ended at {until}")
        out.append(Ended(uid, tenant, about, until, step))
    for loan, state in office.loans():
        for generation in state.generations.get(mark_of(loan.tenant), ()):
            look(loan.uid, f"{loan.role} at {loan.at} to {loan.principal_name} ({loan.uid.replace('-', ' ')})", generation,
                 format_instant(loan.until))
    for uid, name, state in _charters(office):
        for mark, generations in state.generations.items():
            for generation in generations if generations[-1].kind == GRANT.name else ():
                look(uid, f"{words(mark)} (charter {name})", generation, str(generation.terms.get("until", "")))
    return out


def _charters(office: Office) -> list[tuple[str, str, History]]:
    from sigillum.core.records.history import KNOWN
    ledger = office.ledger()
    uids = {e.charter: str(e.body["name"]) for e in ledger.entries(kind=KNOWN)}
    return [(uid, name, fold(ledger.entries(uid), uid)) for uid, name in uids.items()]


def sweep(office: Office, found: list[Ended]) -> list[StepResult]:
    """Clear what has ended. Raises MachineError."""
    results = list[StepResult]()
    with office.ledger(write=True).claim(CLAIM, 0.0):
        for one in found:
            results += _carry_out(office, one.uid, one.tenant, [one.step])
        keep_witness(office)
    return results
