"""Local accounts of a cluster and whom they act as elsewhere: both records, as whom workloads run, and what is wrong."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any, NamedTuple

from sigillum.core.charter.charter import Charter, ProofWant
from sigillum.core.charter.wants import WorkloadWant
from sigillum.core.deciding.cluster import ALL_GROUPS, ALL_LOCALS, ALL_WORKLOADS, ClusterFacts, concerning, facts_of
from sigillum.core.deciding.explanations import ChainLink
from sigillum.core.deciding.links import (
    BOTH,
    DISAGREE,
    HALF,
    NOBODY,
    UNSEEN,
    Half,
    Home,
    LinkFault,
    Row,
    estate,
    halves,
    of_trust,
    runs,
)
from sigillum.core.deciding.proofs import Manner, Reading, Result, judge, unjudged
from sigillum.core.deciding.refusals import Cause
from sigillum.core.deciding.values import Decision
from sigillum.core.federation.conditions import Ref
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Query, Record, inside
from sigillum.core.kinds.trusting import TRUST, Trust
from sigillum.core.kinds.workloads import LOCAL, Workload
from sigillum.core.values.errors import FileError, SigillumError, SomebodyError, UsageError
from sigillum.core.values.worlds import Observed
from sigillum.tenants.port import Tenant
from sigillum.workflows.desk.office import Office
from sigillum.workflows.proving.manners import Proving

from .explain import Explained, Wish
from .explain import run as explain

ALL_TRUSTS = Query[Trust](TRUST, "all")


def _cluster(office: Office, name: str, queries: list[Query[Any]]) -> tuple[Tenant, ClusterFacts]:
    """A cluster, and what it answers. Raises UsageError where it is none, SomebodyError where it is not shown."""
    tenant = office.tenants.reach(name)
    if tenant.profile.carried(LOCAL) is None:
        raise UsageError(f"{name} has no local accounts: it is no cluster", where=name, mend="name one in which workloads run")
    found = tenant.facts(queries)
    dark = next((f.unknown for f in found.values() if not f.known), "")
    if dark:
        raise SomebodyError(f"what runs at {name} is not shown: {dark}", where=name, mend="look with an administrator who may")
    return tenant, facts_of(found.values())


# --- one charter ------------------------------------------------------------------------------------------------------
class Chain(NamedTuple):
    """How a workload comes to act as a principal: the halves, and why it runs otherwise; empty where it does not."""

    half: Half
    program: str
    otherwise: str

    @property
    def cause(self) -> Cause | None:
        """What decides against it, or is not known of it; None: both halves stand, and it runs as it should."""
        if self.half.code == UNSEEN:
            return Cause.FACTS_UNKNOWN
        if self.half.code != BOTH:
            return Cause.HALF_MISSING
        return Cause.RUNS_OTHERWISE if self.otherwise else None


def chain(office: Office, charter: Charter, principal: str, program: str) -> Chain:
    """Raises UsageError, SomebodyError."""
    want = charter.workload
    if want is None or program not in want.programs:
        raise UsageError(
            f"no workload {program!r} is to run as {charter.identity.name}",
            where=charter.name,
            mend=f"name one of {', '.join(want.programs)}" if want is not None else "add `workload:` to it",
        )
    cluster, facts = _cluster(office, want.tenant, concerning(want))
    home = office.tenants.reach(charter.tenant)
    query = Query[Trust](TRUST, "principal", principal)
    fact = home.facts([query])[query]
    if not fact.known:
        raise SomebodyError(
            f"whom {charter.tenant} lets in as {charter.identity.name} is not shown: {fact.unknown}",
            where=charter.tenant,
            mend="look with an administrator who may",
        )
    trusts = [r.body for r in fact.records if r.says(issuer=cluster.profile.issuer)]
    local = facts.local(want)
    who = Home(charter.tenant, home.profile.issuer, principal, charter.identity.name)
    half = halves(
        want.tenant,
        who,
        local.body if local is not None else None,
        want.words,
        trusts,
        _lasting(office, cluster.profile.issuer),
    )
    return Chain(half, program, _otherwise(facts, want, program))


def _lasting(office: Office, issuer: str) -> Ref:
    """The claim in which an issuer's tokens tell the id that no namesake gets, where the workspace says so."""
    from sigillum.charters.issuers import issuer_of

    found = next((s for s in office.workspace.issuers.values() if s.address == issuer), None)
    return issuer_of(found).lasting if found is not None else ()


def _subject(facts: ClusterFacts, want: WorkloadWant) -> str:
    """Of the local account; empty where there is none."""
    local = facts.local(want)
    return local.body.subject if local is not None else ""


def _otherwise(facts: ClusterFacts, want: WorkloadWant, program: str) -> str:
    """As whom a workload runs, where that is not its local account."""
    found = facts.program(want, program)
    if found is None:
        return f"nothing called {program} runs in {want.compartment} at {want.tenant}"
    return runs(found.body, _subject(facts, want), [r.body for r in facts.groups], want.tenant)


def prove(proving: Proving) -> list[Result]:
    """As whom does each workload run? Its cluster is asked; nobody signs in for that."""
    charter, want = proving.charter, proving.charter.workload
    assert want is not None
    out = list[Result]()
    for proof in charter.runs:
        try:
            out.append(_judged(want, proof, chain(proving.office, charter, proving.principal, proof.program)))
        except SigillumError as problem:  # what was tried before is not lost for that
            out.append(unjudged(proof, f"not known: {problem.what}"))
    return out


def _judged(want: WorkloadWant, proof: ProofWant, found: Chain) -> Result:
    """It runs as its local account, and both records of that account's link stand."""
    if found.cause is Cause.FACTS_UNKNOWN:
        return judge(proof, Manner.ASKED, Reading[Observed](None, found.half.text))
    against = found.otherwise or (found.half.text if found.cause is not None else "")
    return judge(proof, Manner.ASKED, Reading[Observed](not against, against or f"all of it runs so; {found.half.text}"))


def explained(office: Office, charter: Charter, wish: Wish, program: str) -> list[Explained]:
    """Does a workload act as the principal, and may that do what is asked? The first thing that is wrong decides."""
    found = explain(office, wish)
    who = found[0].explanation.question.principal
    links = chain(office, charter, who, program)
    told = links.otherwise if links.cause is Cause.RUNS_OTHERWISE else links.half.text
    first = ChainLink("workload", links.cause is None, told)
    return [_after(one, links.cause, first) for one in found]


def _after(explained: Explained, cause: Cause | None, first: ChainLink) -> Explained:
    """An explanation with a link before all others, which decides where it has a cause."""
    told = explained.explanation._replace(links=(first, *explained.explanation.links))
    if cause is not None:
        decision = Decision[Observed](None if cause is Cause.FACTS_UNKNOWN else False, cause)
        told = told._replace(decision=decision, mends=(), changes_at=None)
    return replace(explained, explanation=told)


# --- a whole cluster --------------------------------------------------------------------------------------------------
class Estate(NamedTuple):
    """All links of a cluster, what runs there, and what is wrong with it; `unseen`: tenants whose trusts are not shown."""

    cluster: str
    rows: tuple[Row, ...]
    workloads: tuple[Workload, ...]
    findings: tuple[LinkFault, ...]
    unseen: tuple[str, ...]


def estate_of(office: Office, name: str) -> Estate:
    """Both records of every link, also where only one tenant knows of it. Raises UsageError, SomebodyError."""
    cluster, facts = _cluster(office, name, [ALL_LOCALS, ALL_GROUPS, ALL_WORKLOADS])
    rows, findings, unseen = list[Row](), list[LinkFault](), list[str]()
    lasting = _lasting(office, cluster.profile.issuer)
    known = dict[str, str]()  # issuers of the tenants that were looked at
    for other in office.workspace.file.tenants:
        if other == name:
            continue
        try:
            tenant = office.tenants.reach(other)
            fact = tenant.facts([ALL_TRUSTS])[ALL_TRUSTS] if tenant.profile.carried(TRUST) is not None else None
        except SigillumError:
            unseen.append(other)
            continue
        known[tenant.profile.issuer] = other
        if fact is None:
            continue
        if not fact.known:
            unseen.append(other)
            continue
        trusts = [r for r in fact.records if r.says(issuer=cluster.profile.issuer)]
        rows += _rows(name, tenant, facts, [t for t in trusts if not _otherwise_meant(office, other, t)], lasting)
        findings += [LinkFault(DISAGREE, text) for t in trusts if (text := _otherwise_meant(office, other, t))]
        findings += [
            LinkFault(
                NOBODY,
                f"{other} lets {t.body.subject or 'several'} in as {t.body.principal_name} by the trust "
                f"{t.body.name}, and {name} knows no such local account: whoever makes it acts as that",
            )
            for t in trusts
            if not of_trust(t, [r.body for r in facts.locals], lasting)
        ]
    for record in facts.locals if not unseen else ():  # it may be one of those
        findings += [
            LinkFault("tenant-unknown", f"{record.body.words} acts as {p} at {issuer}, which is not known here")
            for p, issuer in record.body.links
            if issuer not in known
        ]
    bodies = [r.body for r in facts.workloads]
    findings += estate(name, [r.body for r in facts.locals], bodies, [r.body for r in facts.groups], rows)
    findings += [LinkFault(row.half.code, row.half.text) for row in rows if row.half.code != BOTH]
    return Estate(name, tuple(rows), tuple(bodies), tuple(dict.fromkeys(findings)), tuple(unseen))


def _otherwise_meant(office: Office, tenant: str, trust: Record[Trust]) -> str:
    """For which audience a trust of ours is, where its charter's programs ask for another one; empty where it is the same."""
    uid = office.books.stream_of(tenant, TRUST, trust.id)
    name = office.books.ledger().name_of(uid) if uid else None
    if name is None or not office.books.has_charter(name):
        return ""
    try:
        charter = office.charters([name])[0]
    except FileError:
        return ""
    want = next((w for w in charter.trusts if trust.says(name=w.name)), None)
    if want is None or not trust.denies(audience=want.trust.audience):
        return ""
    return (
        f"{tenant} trusts {trust.body.subject or 'whoever matches'} in tokens for {trust.body.audience}, and by the charter "
        f"{name} its programs ask for {want.trust.audience}"
    )


def _rows(cluster: str, tenant: Tenant, facts: ClusterFacts, trusts: list[Record[Trust]], lasting: Ref) -> Iterator[Row]:
    """Every local account that acts as somebody at a tenant, or that a trust there lets in."""
    issuer, where = tenant.profile.issuer, tenant.address.name
    for record in facts.locals:
        local = record.body
        linked = [p for p, at in local.links if at == issuer]
        trusted = {t.body.principal: t.body.principal_name for t in trusts if of_trust(t, [local], lasting)}
        for principal in dict.fromkeys([*linked, *trusted]):
            name = trusted.get(principal) or _name(tenant, principal)
            home = Home(where, issuer, principal, name or principal)
            own = [t.body for t in trusts if t.says(principal=principal)]
            half = (
                halves(cluster, home, local, local.words, own, lasting)
                if name
                else Half(HALF, f"{cluster} says that {local.words} acts as {principal}, and {where} knows nobody of that id")
            )
            used = tuple(r.body.name for r in facts.workloads if inside(r, "runs_as", local.subject))
            yield Row(local.words, local.subject, where, name or principal, half, used)


def _name(tenant: Tenant, principal: str) -> str:
    query = Query(ACCOUNT, "id", principal)
    found = tenant.facts([query])[query].first
    return found.body.name if found is not None else ""
