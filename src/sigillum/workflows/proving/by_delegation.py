"""Proofs of a delegation, scope by scope: a token for one person and one scope, and one harmless call with it."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from typing import NamedTuple

from sigillum.charters.files import names
from sigillum.core.charter.charter import Charter, ProofWant
from sigillum.core.deciding.people import NO_DELEGATION, OUTSIDE, SCOPE, Person, missing
from sigillum.core.deciding.proofs import Manner, Result, answered, judge, unjudged
from sigillum.core.deciding.refusals import Cause
from sigillum.core.deciding.sign_in import account_of, teams_of
from sigillum.core.kinds.changes import End as EndChange
from sigillum.core.kinds.delegating import DELEGATION, Delegation
from sigillum.core.kinds.identities import ACCOUNT, TEAM, Team
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.history import History
from sigillum.core.records.steps import Step, StepKind
from sigillum.core.values.errors import FileError, RefusedError, SomebodyError
from sigillum.core.values.marks import Mark, StepId
from sigillum.tenants.port import Proof, SignedIn, Tenant
from sigillum.workflows.desk.ledgers import keep_witness
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office
from sigillum.workflows.enacting.carrying.run import StepResult
from sigillum.workflows.enacting.undertakings import carry_out

from .manners import Proving
from .trials import held, proof_of
from .ways_in import bearer_of

UNKNOWN, SERVICE = Cause.PERSON_UNKNOWN.value, Cause.SERVICE_OFF.value
MEANINGS = {
    NO_DELEGATION: "it may act for nobody here",
    SCOPE: "this scope is not among those that it may use",
    UNKNOWN: "the directory knows nobody of that name",
    OUTSIDE: "this person is not among those whom it may act for",
    SERVICE: "the token was given, and the call with it is refused: is the service on for that person?",
}


class ScopeTrial(NamedTuple):
    """One expectation, and what came of it: was a token given, and did a call with it go through?"""

    proof: ProofWant
    token: bool
    called: bool | None
    said: str


def prove(proving: Proving) -> list[Result]:
    """All that is expected of acting for people. A refusal counts beside its pair: what differs in one point was let in."""
    office, charter, state, keys, principal, _ = proving
    tenant = office.tenants.reach(charter.tenant)
    want = next((c for c in charter.credentials if c.is_a.signs and held(charter, state, keys, c)), None)
    made = state.find(CREDENTIAL, charter.tenant, name=want.name) if want is not None else None
    if want is None or made is None:
        return [unjudged(p, "no key is here that could sign for people") for p in charter.delegated]
    own = proof_of(keys, want, made.number, principal)
    try:
        tenant.sign_in(own)
    except RefusedError as problem:
        said = f"not shown: it is not let in itself, so key or clock may be wrong ({problem.what})"
        return [unjudged(p, said) for p in charter.delegated]
    asked = [_ask(tenant, own, p) for p in charter.delegated]
    facts = _facts(tenant, charter, state, principal)
    return [_judged(trial, asked, _cause(tenant, trial, asked, facts)) for trial in asked]


def _ask(tenant: Tenant, own: Proof, proof: ProofWant) -> ScopeTrial:
    """A token for one person and one scope; where reading is all that it allows, one call with it."""
    try:
        signed_in = tenant.sign_in(own._replace(person=proof.person, scope=proof.permission))
    except RefusedError as problem:
        return ScopeTrial(proof, False, None, problem.what)
    operation = tenant.profile.operations.get(proof.permission)
    if operation is None or operation.class_ != "looks":
        return ScopeTrial(proof, True, None, "a token was given; a call would change something, and was not made")
    trial = tenant.attempt(SignedIn(signed_in.token, signed_in.principal, signed_in.said), operation, proof.at)
    return ScopeTrial(proof, True, trial.allowed, trial.reason)


def _facts(tenant: Tenant, charter: Charter, state: History, principal: str) -> list[Delegation] | None:
    """Its delegations, as far as they are shown."""
    query = Query(DELEGATION, "principal", bearer_of(charter, state, principal))
    fact = tenant.facts([query])[query]
    return [r.body for r in fact.records] if fact.known else None


def _cause(tenant: Tenant, trial: ScopeTrial, asked: list[ScopeTrial], facts: list[Delegation] | None) -> str:
    """Why a refused one was refused: by what the tenant shows, else by what was let in beside it. Empty: neither tells,
    or by what is shown it should have been let in.
    """
    if trial.token:
        return SERVICE if trial.called is False else ""
    if facts == []:
        return NO_DELEGATION
    proof, (known, person) = trial.proof, _person(tenant, trial.proof.person)
    same_person = any(a.token and a.proof.person == proof.person for a in asked)
    same_scope = any(a.token and a.proof.permission == proof.permission for a in asked)
    if known is False and (same_scope or facts is not None):
        return UNKNOWN
    if facts is not None and person is not None:
        return missing(facts, person, proof.permission)
    return SCOPE if same_person else OUTSIDE if same_scope else ""


def _person(tenant: Tenant, name: str) -> tuple[bool | None, Person | None]:
    """Is the person known there, and in which teams? None: that is not shown."""
    query, all_ = Query(ACCOUNT, "name", name), Query[Team](TEAM, "all")
    carried = tenant.profile.carried(TEAM) is not None
    facts = tenant.facts([query, *([all_] if carried else [])])
    record = facts[query].first
    if not facts[query].known or record is None:
        return (False if facts[query].known else None), None
    if carried and not facts[all_].known:
        return True, None
    teams = facts[all_].records if carried else ()
    names = {t.id: t.body.name for t in teams}
    everyone = {t.body.name for t in teams if t.body.everyone}
    inside = account_of(record, teams_of(teams)).teams
    return True, Person(record.body.name, frozenset(names[i] for i in inside if i in names) | everyone)


def _judged(trial: ScopeTrial, asked: list[ScopeTrial], cause: str) -> Result:
    """Hold what came against what was expected."""
    allowed = trial.token and trial.called is not False
    if allowed or trial.proof.allowed:
        told = trial.said if allowed or not cause else f"{cause}: {MEANINGS[cause]}"
        return judge(trial.proof, Manner.TRIED, answered(allowed, told))
    if not cause:
        return unjudged(
            trial.proof,
            "not shown: by what is known it should be let in, or nothing that differs in one point was let in beside it",
            Manner.TRIED,
        )
    if cause in (UNKNOWN, SERVICE):  # whoever is not there, and a service that is off, show nothing of any right
        return unjudged(trial.proof, f"not shown: {cause}: {MEANINGS[cause]}", Manner.TRIED)
    pair = next(
        (
            a.proof
            for a in asked
            if a.token and (a.proof.person == trial.proof.person) != (a.proof.permission == trial.proof.permission)
        ),
        None,
    )
    beside = f"; shown beside it: {pair.words()}" if pair is not None else ""
    return judge(trial.proof, Manner.TRIED, answered(allowed, f"{cause}: {MEANINGS[cause]}{beside}"))


# --- all that a tenant has ----------------------------------------------------------------------------------------------
class Listed(NamedTuple):
    """One delegation of a tenant: whose, by which charter, and which of its scopes no charter asks for."""

    id: str
    name: str
    owner: str
    delegation: Delegation
    unasked: tuple[str, ...]


def listed(office: Office, tenant_name: str) -> list[Listed]:
    """Every delegation that is shown. Raises SomebodyError where none can be."""
    tenant, query = office.tenants.reach(tenant_name), Query[Delegation](DELEGATION, "all")
    fact = tenant.facts([query])[query]
    if not fact.known:
        raise SomebodyError(
            f"{tenant_name} shows no delegations: {fact.unknown}",
            where=tenant_name,
            mend="look with an administrator who may, or ask a domain administrator for the list",
        )
    wanted = _wanted(office, tenant_name)
    out = []
    for record in fact.records:
        body = record.body
        mine = wanted.get(body.principal_name, frozenset())
        out.append(
            Listed(
                record.id,
                body.principal_name or body.principal,
                office.books.owner(tenant_name, DELEGATION, record.id),
                body,
                tuple(s for s in body.scopes if s not in mine),
            )
        )
    return sorted(out, key=lambda one: (one.name, one.delegation.domain))


def _wanted(office: Office, tenant: str) -> Mapping[str, frozenset[str]]:
    """The scopes that the charters of identities ask for, by the names of these."""
    out = dict[str, frozenset[str]]()
    for name in names(office.workspace):
        with suppress(FileError):  # one with mistakes asks for nothing yet
            charter = office.charters([name])[0]
            if charter.tenant == tenant and charter.delegation is not None:
                out[charter.identity.name] = frozenset(charter.delegation.names)
    return out


def section_of(delegation: Listed) -> str:
    """The lines of a charter that ask for just what stands, with a gap where only a person can say what each scope is for."""
    body = delegation.delegation
    people = "all" if "all" in body.people else f"[{', '.join(body.people)}]"
    team = next((p.removeprefix("team:") for p in body.people if p.startswith("team:")), "")
    whom = f"{{team: {team}}}" if team else people
    lines = ["delegation:", f"  domain: {body.domain}", f"  people: {whom}", "  scopes:"]
    return "\n".join([*lines, *(f"    - {{scope: {s}, because: }}" for s in body.scopes)])


def end(office: Office, tenant_name: str, delegation: Listed, because: str) -> None:
    """End one that no charter here owns, in a stream of its own. Raises SomebodyError, RefusedError, ..."""
    if delegation.owner:
        raise SomebodyError(
            f"{delegation.owner} made it", where=tenant_name, mend="take it out of that charter, and enact that"
        )
    uid = f"delegation-{delegation.id}"
    mark = Mark("delegation", tenant_name, (("id", delegation.id),))
    step = Step(
        StepId(mark, 1, "end"),
        StepKind.END,
        f"delegation to {delegation.name} in {delegation.delegation.domain}",
        EndChange(DELEGATION, delegation.id),
        (),
        DELEGATION.power,
        because,
    )
    with office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
        try:
            results = list[StepResult]()
            carry_out(office, uid, (step,), results.append)
            failed = next((r.error for r in results if r.error is not None), None)
            if failed is not None:
                raise failed
        finally:
            keep_witness(office)
