"""Explain a sign-in: which rule decides for an account, from where, and what the tenant itself says."""

from __future__ import annotations

from dataclasses import dataclass

from sigillum.core.deciding.proofs import Trial
from sigillum.core.deciding.sign_in import (
    ALL_RULES,
    ALL_TEAMS,
    Account,
    Attempt,
    Verdict,
    account_of,
    as_context,
    decide,
    rule_of,
    teams_of,
)
from sigillum.core.kinds.identities import ACCOUNT, TEAM
from sigillum.core.values.errors import SomebodyError

from . import lookup
from .office import Office


@dataclass(frozen=True, slots=True)
class SignInTold:
    """The account, how it would sign in, what decides; and the tenant's own answer where it was asked for."""

    tenant: str
    account: Account
    attempt: Attempt
    verdict: Verdict
    theirs: Trial | None = None

    @property
    def differs(self) -> bool:
        return self.theirs is not None and self.theirs.allowed is not None and self.theirs.allowed != self.verdict.allowed


def sign_in(office: Office, who: str, attempt: Attempt, tenant_name: str, *, ask_tenant: bool) -> SignInTold:
    """Raises SomebodyError where the tenant shows no rules or no such account."""
    found = lookup.subject(office, who, tenant_name)
    tenant = found.tenant
    if found.record.kind is not ACCOUNT:
        raise SomebodyError(f"{who} is no account: nobody signs in as a {found.record.kind.name}", where=tenant.address.name,
                            mend="name an account; a client signs in by its own credential, and no sign-in rule applies")
    facts = tenant.facts([ALL_RULES, *([ALL_TEAMS] if tenant.profile.carried(TEAM) is not None else [])])
    if not facts[ALL_RULES].known:
        raise SomebodyError(f"{tenant.address.name} shows no sign-in rules: {facts[ALL_RULES].unknown}",
                            where=tenant.address.name, mend="ask with an administrator who may look at them")
    teams = teams_of(facts[ALL_TEAMS].records if ALL_TEAMS in facts else ())
    account = account_of(found.record, teams)
    verdict = decide(account, [rule_of(r) for r in facts[ALL_RULES].records], attempt)
    theirs = tenant.ask_sign_in(account.id, as_context(attempt)) if ask_tenant else None
    return SignInTold(tenant.address.name, account, attempt, verdict, theirs)
