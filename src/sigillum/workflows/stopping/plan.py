"""What a retirement would end, and what it would leave: read off the tenants before anything is done."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from functools import partial
from typing import NamedTuple

from sigillum.core.charter.charter import Charter
from sigillum.core.comparing.compare import Comparison, tenants_of
from sigillum.core.comparing.retiring import IDENTITIES, Retiring, from_ledger, which
from sigillum.core.comparing.retiring import retire as compare_retired
from sigillum.core.facets.generation import called
from sigillum.core.facets.registry import words
from sigillum.core.facets.seen import Choices
from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.changes import End
from sigillum.core.kinds.identities import ACCOUNT, TEAM
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.registry import KINDS
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.kinds.snapshot import MOST_ROUNDS
from sigillum.core.records.history import CONNECTED, HANDED, History
from sigillum.core.records.requests import END, TAKE
from sigillum.core.undertakings.loans import LOANS, OVER, Loan
from sigillum.core.undertakings.requests import REQUESTS
from sigillum.core.values.errors import (
    UsageError,
)
from sigillum.core.values.text import did_you_mean
from sigillum.ledger.port import Fresh
from sigillum.protocols.together import together
from sigillum.tenants.port import Owning, Tenant
from sigillum.workflows.desk.office import Office
from sigillum.workflows.enacting.rehearse import by_whom
from sigillum.workflows.handing.sent import noticed


class Used(NamedTuple):
    """A credential and its last use, as its tenant tells; `told` False: this one does not tell it."""

    tenant: str
    name: str
    at: datetime | None
    address: str
    told: bool = True


class Left(NamedTuple):
    """Something that retiring does not take away: where, what, and why it stays or who has to see to it."""

    where: str
    what: str
    why: str
    grant: str = ""  # its id, where it is one


@dataclass(frozen=True, slots=True)
class Plan:
    """What retiring a charter means: read from its file, or from the ledger where that is gone."""

    charter: Charter
    uid: str
    history: History
    found: Retiring
    loans: tuple[Loan, ...] = ()
    used: tuple[Used, ...] = ()
    left: tuple[Left, ...] = ()
    file: bool = True
    holdings: tuple[str, ...] = ()  # what an identity owns there, so that it cannot end
    noticed: tuple[Fresh, ...] = ()  # what came of requests since, as its tenants show


def plan(office: Office, name: str, *, adopted: bool = False) -> Plan:
    """Look at what would end; changes nothing. Raises UsageError, FileError, UnreachableError."""
    uid, history = office.books.history(name)
    file = office.books.has_charter(name)
    if not uid or not (
        history.generations or history.retiring
    ):  # known to the ledger by a proof or a sheet alone: nothing was made
        if file:
            raise UsageError(f"{name} was never enacted, so there is nothing to retire", where="retire", mend="remove its file")
        raise UsageError(
            f"the ledger knows no charter {name!r}",
            where="retire",
            mend=did_you_mean(name, office.books.names().values() if office.books.there else ()),
        )
    if seen := noticed(office, uid):
        history = office.books.state_with(uid, seen)
    known = office.workspace.file.tenants
    charter = office.charters([name])[0] if file else from_ledger(name, history, _named(office, history))
    names = [t for t in tenants_of(replace(charter, grants=(), services=(), proofs=()), history, known) if t in known]
    reached = office.tenants.reach_all(names)
    snapshots = {n: office.tenants.unseen(t) for n, t in reached.items()}
    keeping = office.keepings.of(uid)
    comparison = Comparison(
        charter,
        replace(history, retiring=""),
        snapshots,
        office.workspace.rules,
        keeping.held(),
        office.books,
        Choices(),
        keeping.incomplete(),
    )
    for _ in range(MOST_ROUNDS):
        found = compare_retired(comparison, adopted=adopted)
        missed = {n: q for n, s in snapshots.items() if (q := s.asked())}
        if not missed:
            break
        for n, facts in zip(missed, together([partial(reached[n].facts, q) for n, q in missed.items()]), strict=True):
            snapshots[n].facts.update(facts)
    found = found._replace(outline=by_whom(office, found.outline, snapshots))
    ids = {i for t in names if (i := history.principal_id(t))}
    loans = tuple(
        loan
        for i in sorted(ids)
        for loan in office.books.about(LOANS, i)
        if loan.stage(office.tenants.now(loan.tenant)) not in OVER
    )
    left = (*_left_here(office, uid, found), *_left_there(charter, history, reached, loans))
    return Plan(
        charter,
        uid,
        history,
        found,
        loans,
        tuple(_used(history, reached)),
        left,
        file,
        tuple(_holdings(found, reached)),
        tuple(seen),
    )


def _holdings(found: Retiring, reached: Mapping[str, Tenant]) -> Iterator[str]:
    """What has to go to somebody else before an account can end; looked for before anything ends."""
    for step in found.outline.steps:
        tenant = reached.get(step.tenant)
        if isinstance(step.action, End) and step.action.kind is ACCOUNT and isinstance(tenant, Owning):
            yield from (f"{step.tenant}: {what}" for what in tenant.holdings(str(step.action.id)))


def _named(office: Office, history: History) -> str:
    """The name of the identity whose charter's file is gone, as its tenant shows it."""
    for mark, all_ in history.generations.items():
        made = all_[-1]
        known = mark.tenant in office.workspace.file.tenants
        if made.kind in IDENTITIES and made.id and not made.value and made.live and known:
            record = office.tenants.reach(mark.tenant).read(KINDS[made.kind], made.id)
            if record is not None and isinstance(record.value("name"), str):
                return str(record.value("name"))
    return ""


def _used(history: History, reached: Mapping[str, Tenant]) -> Iterator[Used]:
    """Who used it last."""
    for mark, all_ in history.generations.items():
        for made in (g for g in all_ if g.kind == CREDENTIAL.name and g.live and g.id and mark.tenant in reached):
            tenant, query = reached[mark.tenant], Query(CREDENTIAL, "id", made.id)
            record = tenant.facts([query])[query].first
            if record is not None:
                yield Used(
                    mark.tenant,
                    f"{called(mark)}{which(history, mark, made.number)}",
                    record.body.used_at,
                    record.body.used_from,
                    tenant.profile.last_used in ("second", "day"),
                )


def _left_here(office: Office, uid: str, found: Retiring) -> Iterator[Left]:
    """What was given away or taken over, as the ledger knows it."""
    known = office.workspace.file.tenants
    for generation in found.given_back:
        yield Left(generation.mark.tenant, words(generation.mark), "it is not of our making, and is given back")
    for generation in found.stays:
        tenant = generation.mark.tenant
        yield Left(
            tenant,
            words(generation.mark),
            "others may need it, or it is not shown"
            if tenant in known
            else "this workspace does not know that tenant any more",
        )
    for entry in office.books.ledger().entries(uid):
        if entry.kind == HANDED:
            yield Left(
                "",
                ", ".join(entry.body["values"]),
                f"handed over to {entry.body['to']} at {entry.body['at']}: ask them to destroy it",
            )
        elif entry.kind == CONNECTED:
            yield Left("", f"{entry.body['consumer']}, connected as {entry.body['connection']}", "end the connection there")
    for request in office.books.begun(REQUESTS):
        if request.uid == uid and request.request.do not in (END, TAKE):  # those are what retiring asks for
            yield Left(
                request.tenant,
                f"request {request.number}: {request.request.about}",
                f"tell {request.request.to or 'whoever has it'} that it is not wanted any more",
            )


def _left_there(charter: Charter, history: History, reached: Mapping[str, Tenant], loans: tuple[Loan, ...]) -> Iterator[Left]:
    """Grants that others made to the identity, members who lose what a team gave them, and who has to be told."""
    lent = {loan.generation.id for loan in loans if loan.generation is not None}
    for name, tenant in reached.items():
        identity = history.principal_id(name)
        query = Query(GRANT, "principal", identity)
        fact = tenant.facts([query])[query] if identity and tenant.profile.carried(GRANT) is not None else None
        for record in fact.records if fact is not None else ():
            if record.id not in lent and history.owns("grant", name, record.id, record.mark) is None:
                yield Left(
                    name, f"{record.body.role} granted by somebody else", "it stands as long as that tenant keeps it", record.id
                )
        team = Query(TEAM, "id", identity)
        fact_ = tenant.facts([team])[team] if identity and charter.is_team else None
        for record_ in fact_.records if fact_ is not None else ():
            if record_.body.members:
                count = len(record_.body.members)
                yield Left(
                    name,
                    f"{count} member{'s' if count != 1 else ''} of {charter.identity.name}",
                    "they lose what the team gave them",
                )
    for consumer in dict.fromkeys(c for want in charter.credentials for c in want.consumers):
        yield Left("", f"the consumer {consumer}", "tell whoever runs it that it will be refused")
