"""Lend, recall, sweep: access beside the charters, which always ends and always has a reason."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sigillum.core.comparing.foreseeing import MOST_TOUCHED
from sigillum.core.deciding import gathering
from sigillum.core.deciding.foreseen import spoiling
from sigillum.core.deciding.objections import Objection, against, breaking, misplaced, missing_rights, without_effect
from sigillum.core.deciding.values import Right
from sigillum.core.deciding.world import World, again
from sigillum.core.facets.seen import Expected, arrival_seconds
from sigillum.core.kinds.access import GRANT, PLACE, ROLE, Grant, Role, allows
from sigillum.core.kinds.changes import plain
from sigillum.core.kinds.identities import TEAM
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.snapshot import Snapshot
from sigillum.core.records.history import LENT, NUMBER, RECALLED, UNDERTAKING
from sigillum.core.undertakings.loans import LOANS, OVER, Loan, Stage, end_of, gone, loan_terms, mark_of, may_be_lent
from sigillum.core.undertakings.loans import read as read_loans
from sigillum.core.undertakings.undertaking import Look
from sigillum.core.values.canonical import external_id
from sigillum.core.values.errors import Outcome, SigillumError, SomebodyError, UsageError
from sigillum.core.values.times import parse_instant
from sigillum.ledger.port import Fresh
from sigillum.tenants.port import Tenant
from sigillum.workflows.desk import lookup
from sigillum.workflows.desk.ledgers import keep_witness
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office
from sigillum.workflows.enacting.carrying.run import StepResult
from sigillum.workflows.enacting.undertakings import advance


@dataclass(frozen=True, slots=True)
class LoanWish:
    """What somebody wants lent: for so many seconds, or until an instant."""

    role: str
    at: str
    to: str
    because: str
    lasts_seconds: int | None = None
    until: datetime | None = None
    tenant: str = ""


@dataclass(frozen=True, slots=True)
class Proposal:
    """A loan before it is made, with its borrower's name: what speaks against it, and a loan of the same that stands."""

    wish: LoanWish
    tenant: str
    borrower: str
    grant: Grant
    allows: str
    objections: tuple[Objection, ...] = ()
    standing: Loan | None = None

    @property
    def warned(self) -> bool:
        """Is there something that a person should think about first?"""
        return any(not o.usual for o in self.objections)

    @property
    def refused(self) -> bool:
        return any(o.refuse for o in self.objections)


def propose(office: Office, wish: LoanWish) -> Proposal:
    """Look at what lending would mean; changes nothing. Raises UsageError, SomebodyError."""
    who = lookup.subject(office, wish.to, wish.tenant)
    tenant, borrower, place = who.tenant, who.record, lookup.place(who.tenant, who.record, wish.at)
    principal_as_place = place.startswith("@")
    around = Query(PLACE, "under", place.rpartition("/")[0])
    named = Query(ROLE, "name", wish.role)
    more: list[Query[Any]] = [named, gathering.ALL_ROLES, *([] if principal_as_place else [around])]
    touched = dict(_touched(office, tenant, borrower))
    seen = lookup.snapshot(
        office,
        tenant,
        borrower,
        [place, *(p.at for e in touched.values() for p in e.proofs)],
        more,
        people=[i for i in touched if i != borrower.id],
    )
    role: Record[Role] = lookup.require(seen, named, gathering.ALL_ROLES)
    place_id = place[1:] if principal_as_place else lookup.require(seen, Query(PLACE, "path", place), around).id
    until = end_of(seen.now, wish.lasts_seconds, wish.until, seen.profile.grant_grain)
    instead = _instead_of(seen, borrower, place)
    world: World[Any] = gathering.world_of(seen.known(), seen.profile, felt=False)
    if instead:
        world = again(world, rights=[r for r in world.rights if (r.carrier, r.role, r.place) != (borrower.id, instead, place)])
    right = Right("loan", borrower.id, wish.role, place, until=until)
    objections = may_be_lent(office.workspace.rules, wish.role, until, wish.because, seen.now)
    objections += against(seen.profile, role, right, seen.now, everyone=borrower.value("everyone") is True)
    wrong = misplaced(world, role, place)
    objections += [wrong] if wrong is not None else []
    if not any(o.refuse for o in objections):
        for identity, expected in touched.items():
            spoiled = spoiling(world, identity, expected.proofs, seen.now)
            objections += breaking(world, right, expected.charter, spoiled, expected.limits)
        objections += without_effect(world, right, lambda identity: office.books.owner(tenant.address.name, GRANT, identity))
        if not principal_as_place:
            objections += missing_rights(world, right, seen.now, (p for p, _ in role.body.permissions))
    grant = Grant(
        borrower.id,
        wish.role,
        place,
        None,
        until,
        reason=wish.because,
        role_id=role.id,
        place_id=place_id,
        carrier=borrower.kind.name,
        over=instead,
    )
    return Proposal(
        wish,
        tenant.address.name,
        str(borrower.body.name),
        grant,
        allows(role),
        tuple(dict.fromkeys(objections)),
        _standing(office, seen.tenant, grant),
    )


def _instead_of(seen: Snapshot, borrower: Record[Any], place: str) -> str:
    """Where one has one role at a place: the one that comes back when the loan ends. Raises SomebodyError."""
    if not seen.profile.levels:
        return ""
    fact = seen.ask(Query(GRANT, "principal", borrower.id))
    if not fact.known:
        raise SomebodyError(
            f"what {borrower.body.name} has at {place} cannot be seen, and has to come back after the loan: {fact.unknown}",
            where=seen.tenant,
            mend="ask with an administrator who may look at it",
        )
    return next((r.body.role for r in fact.records if r.says(place=place)), "")


def _touched(office: Office, tenant: Tenant, borrower: Record[Any]) -> Iterator[tuple[str, Expected]]:
    """The borrower, or its members where it is a team, with what their charters say cannot be."""
    todo, done = [borrower.id], set[str]()
    while todo and len(done) < MOST_TOUCHED:
        identity = todo.pop(0)
        if identity in done:
            continue
        done.add(identity)
        if borrower.kind is TEAM:
            query = Query(TEAM, "id", identity)
            todo += [m for t in tenant.facts([query])[query].records for m in t.body.members]
        expected = office.books.expected(tenant.address.name, identity)
        if expected is not None and expected.proofs:
            yield identity, expected
    if todo:
        tenant.say(f"{borrower.body.name} has many members: what the charters of {len(todo)} say cannot be was not looked at")


def _standing(office: Office, tenant: str, grant: Grant) -> Loan | None:
    """The same role lent to the same one at the same place, begun or in force: it is used, never renewed."""
    now = office.tenants.now(tenant)
    return next(
        (
            loan
            for loan in office.books.begun(LOANS)
            if loan.tenant == tenant
            and loan.stage(now) in (Stage.BEGUN, Stage.IN_FORCE)
            and (loan.grant.principal, loan.grant.role, loan.grant.place) == (grant.principal, grant.role, grant.place)
        ),
        None,
    )


def lend(office: Office, proposal: Proposal) -> tuple[Loan, list[StepResult]]:
    """Make the loan; one that was begun and interrupted goes on with its own end. Raises MachineError."""
    results = list[StepResult]()
    with office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
        standing = _standing(office, proposal.tenant, proposal.grant)  # somebody may have lent the same meanwhile
        if standing is not None and standing.generation is not None and gone_elsewhere(office, [standing]):
            advance(office, LOANS, standing)  # somebody else ended it: that is written down, and it is lent anew
            standing = None
        loan = standing if standing is not None else _write(office, proposal)
        advance(office, LOANS, loan, results.append)
        keep_witness(office)
        return loan, results


def _write(office: Office, proposal: Proposal) -> Loan:
    """A loan stands in the ledger before anything is sent."""
    ledger, tenant, grant = office.books.writable_ledger(), office.tenants.reach(proposal.tenant), proposal.grant
    uid = f"loan-{secrets.token_hex(3)}"
    ledger.append(
        [
            Fresh(
                LENT,
                uid,
                {
                    UNDERTAKING: LOANS.name,
                    NUMBER: uid,
                    "tenant": proposal.tenant,
                    "principal": grant.principal,
                    "principal_name": proposal.borrower,
                    "grant": plain(loan_terms(grant)),
                    "at": proposal.wish.at,
                    **({} if tenant.profile.ends_grants else {"by_itself": False}),
                    "by": tenant.profile.administrator or tenant.address.admin,
                    "external_id": tenant.profile.marked(
                        external_id(office.workspace.file.workspace, uid, mark_of(proposal.tenant).body(), 1)
                    ),
                },
            )
        ]
    )
    office.settings.boundary("loan written")
    return read_loans(ledger.entries(uid), uid)[0]


def loans(office: Office, *, all_: bool = False) -> list[tuple[Loan, Stage]]:
    """Loans with their stage, by the tenant's clock and by what stands there; those that are over only with `all_`.

    What somebody else ended is told as that, though nobody wrote it down yet.
    """
    found = [(loan, loan.stage(office.tenants.now(loan.tenant))) for loan in office.books.begun(LOANS, ended=all_)]
    elsewhere = gone_elsewhere(office, [loan for loan, stage in found if stage is Stage.IN_FORCE])
    found = [(loan, Stage.ELSEWHERE if loan.uid in elsewhere else stage) for loan, stage in found]
    return [(loan, stage) for loan, stage in found if all_ or stage not in OVER or loan.uid in elsewhere]


def gone_elsewhere(office: Office, all_: list[Loan]) -> set[str]:
    """Those that the tenants say stand no more, by their streams; asked together for each tenant."""
    out = set[str]()
    for name in dict.fromkeys(loan.tenant for loan in all_):
        tenant = office.tenants.reach(name)
        here = [loan for loan in all_ if loan.tenant == name and loan.generation is not None]
        facts = tenant.facts([Query(GRANT, "id", loan.generation.id) for loan in here if loan.generation is not None])
        seen = Look(facts.__getitem__, arrival_seconds=arrival_seconds(tenant.profile))
        out |= {loan.uid for loan in here if gone(loan, seen, office.tenants.now(name))}
    return out


Finished = Callable[[Loan, list[StepResult], SigillumError | None], None]


def recall(office: Office, names: list[str], to: str, finished: Finished) -> None:
    """End loans before their end: those named, or all to somebody; each is told when it is finished, or what stopped it.

    Raises UsageError where one is not known, MachineError.
    """
    ledger = office.books.writable_ledger()
    with ledger.claim(CLAIM, BRIEFLY_SECONDS):
        wanted = {n if n.startswith("loan-") else f"loan-{n}": n for n in names}
        found = {loan.uid: loan for loan in office.books.begun(LOANS, ended=bool(wanted))}
        for uid, name in wanted.items():
            if uid not in found:
                raise UsageError(
                    f"the ledger knows no loan {name.removeprefix('loan-')}", where="recall", mend="`sigillum loans` lists them"
                )
        theirs = [
            u
            for u, loan in found.items()
            if to
            and to in (loan.principal_name, loan.grant.principal)
            and loan.stage(office.tenants.now(loan.tenant)) not in (*OVER, Stage.ENDED)
        ]
        if not wanted and not theirs:
            raise SomebodyError(f"nothing is lent to {to}", where="recall", mend="`sigillum loans` lists what is lent")
        try:
            for uid in dict.fromkeys([*wanted, *theirs]):
                results, problem = list[StepResult](), None
                try:
                    want_back(office, found[uid], results)
                except SigillumError as stopped:
                    if stopped.outcome is Outcome.MACHINE:
                        raise
                    problem = stopped
                finished(office.books.again(LOANS, found[uid]), results, problem)
        finally:
            keep_witness(office)


def want_back(office: Office, loan: Loan, results: list[StepResult]) -> None:
    """That it is wanted back stands in the ledger first: whoever sweeps goes on where this was interrupted."""
    if loan.stage(office.tenants.now(loan.tenant)) in OVER:
        return
    if not loan.wanted_back:
        office.books.writable_ledger().append([Fresh(RECALLED, loan.uid, {"by": office.tenants.address(loan.tenant).admin})])
        office.settings.boundary("recall written")
    advance(office, LOANS, office.books.again(LOANS, loan), results.append)


def felt_until(office: Office, loan: Loan) -> datetime | None:
    """Until when what was recalled may still be felt or shown; None where that is over."""
    made, profile = loan.generation, office.tenants.reach(loan.tenant).profile
    if made is None or not made.ended_at:
        return None
    until = parse_instant(made.ended_at) + timedelta(seconds=max(profile.felt_seconds or 0, profile.arrival_seconds or 0))
    return until if until > office.tenants.now(loan.tenant) else None
