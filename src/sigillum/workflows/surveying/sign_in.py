"""Explain a sign-in: which rule decides for an account, from where, and what the tenant itself says."""

from __future__ import annotations

from dataclasses import dataclass

from sigillum.core.charter.charter import Charter, ProofWant
from sigillum.core.deciding.proofs import Manner, Result, Trial, judge, unjudged
from sigillum.core.deciding.sign_in import (
    ALL_RULES,
    ALL_TEAMS,
    Account,
    Attempt,
    SignInDecision,
    account_of,
    as_context,
    decide,
    rule_of,
    teams_of,
)
from sigillum.core.kinds.identities import ACCOUNT, TEAM
from sigillum.core.values.errors import SomebodyError
from sigillum.workflows.desk import lookup
from sigillum.workflows.desk.office import Office
from sigillum.workflows.proving.manners import Proving


@dataclass(frozen=True, slots=True)
class SignInTold:
    """The account, how it would sign in, what decides; and the tenant's own answer where it was asked for."""

    tenant: str
    account: Account
    attempt: Attempt
    verdict: SignInDecision
    theirs: Trial | None = None

    @property
    def differs(self) -> bool:
        return self.theirs is not None and self.theirs.allowed is not None and self.theirs.allowed != self.verdict.allowed


def sign_in(office: Office, who: str, attempt: Attempt, tenant_name: str, *, ask_tenant: bool) -> SignInTold:
    """Raises SomebodyError where the tenant shows no rules or no such account."""
    found = lookup.subject(office, who, tenant_name)
    tenant = found.tenant
    if found.record.kind is not ACCOUNT:
        raise SomebodyError(
            f"{who} is no account: nobody signs in as a {found.record.kind.name}",
            where=tenant.address.name,
            mend="name an account; a client signs in by its own credential, and no sign-in rule applies",
        )
    facts = tenant.facts([ALL_RULES, *([ALL_TEAMS] if tenant.profile.carried(TEAM) is not None else [])])
    if not facts[ALL_RULES].known:
        raise SomebodyError(
            f"{tenant.address.name} shows no sign-in rules: {facts[ALL_RULES].unknown}",
            where=tenant.address.name,
            mend="ask with an administrator who may look at them",
        )
    teams = teams_of(facts[ALL_TEAMS].records if ALL_TEAMS in facts else ())
    account = account_of(found.record, teams)
    verdict = decide(account, [rule_of(r) for r in facts[ALL_RULES].records], attempt)
    theirs = tenant.ask_sign_in(account.id, as_context(attempt)) if ask_tenant else None
    return SignInTold(tenant.address.name, account, attempt, verdict, theirs)


def prove(proving: Proving) -> list[Result]:
    """What is expected of signing in, asked of the tenant; a refusal counts where a rule makes it, or beside its pair."""
    own = [p for p in proving.charter.sign_ins if p.sign_in is not None and not p.sign_in.outside]
    found = [_asked(proving.office, proving.charter, proving.principal, proof) for proof in own]
    return [_weighed(result, [r for r, _ in found], told) for result, told in found]


def _asked(office: Office, charter: Charter, principal: str, proof: ProofWant) -> tuple[Result, SignInTold | None]:
    """The tenant's answer, and what its rules say as far as they are shown."""
    tenant, one = office.tenants.reach(charter.tenant), proof.sign_in
    assert one is not None
    attempt = Attempt(one.address, one.interactive, one.second_factor)
    try:
        told = sign_in(office, one.who or principal, attempt, charter.tenant, ask_tenant=False)
    except SomebodyError:
        told = None
    if not tenant.profile.decisions:
        return unjudged(proof, "the tenant answers no question about signing in"), told
    account = told.account.id if told is not None else lookup.person(tenant, one.who) if one.who else principal
    return judge(proof, Manner.ASKED, tenant.ask_sign_in(account, as_context(attempt))), told


def _weighed(result: Result, all_: list[Result], told: SignInTold | None) -> Result:
    """A refusal shows something where a rule makes it, or beside an attempt that differs in one point and was let in."""
    if result.held is not True or result.proof.allowed:
        return result
    attempt = result.proof.sign_in
    assert attempt is not None
    if told is not None and not told.account.active:
        return result.unshown("not shown: the account is switched off")
    if told is not None and told.verdict.allowed:
        return result.unshown("from the facts it would get in: facts and tenant disagree")
    if told is not None:
        return result._replace(said=f"refused by {told.verdict.rule}, which demands {told.verdict.demand}")
    pair = next(
        (
            r
            for r in all_
            if r.held is True
            and r.proof.allowed
            and r.proof.sign_in is not None
            and sum(a != b for a, b in zip(r.proof.sign_in, attempt, strict=True)) == 1
        ),
        None,
    )
    if pair is None:
        return result.unshown("not shown: nothing that differs in one point was let in beside it")
    return result._replace(said=f"{result.said}; shown beside it: {pair.proof.words()}")
