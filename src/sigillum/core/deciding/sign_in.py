"""The effective sign-in rule: what a tenant demands of an account at sign-in, over per-account switches, the tenant-wide
default and targeted rules; and which of them decides."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any, NamedTuple

from sigillum.core.kinds import signing
from sigillum.core.kinds.identities import ACCOUNT, TEAM, Team
from sigillum.core.kinds.identities import Account as AccountBody
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.signing import RULE

SECOND_FACTOR, DEVICE, NETWORK, BLOCKED = "second-factor", "device", "network", "blocked"
SWITCH = "the account's own switch"


class CompiledRule(NamedTuple):
    """One sign-in rule. `exempt`: accounts that it does not apply to; `networks`: from these only (none: anywhere)."""

    id: str
    name: str
    enabled: bool = True
    everyone: bool = False
    targets: frozenset[str] = frozenset()
    exempt: frozenset[str] = frozenset()
    applies_to: str = "any"
    demands: frozenset[str] = frozenset()
    networks: tuple[str, ...] = ()
    blocks: bool = False
    narrowable: bool = True


class Account(NamedTuple):
    """Who signs in: with its teams, and its own switch for the second factor (on, off, or not said)."""

    id: str
    name: str = ""
    active: bool = True
    switch: str = ""
    teams: frozenset[str] = frozenset()


class Attempt(NamedTuple):
    """How it signs in. A program has no second factor, no managed device, and is not interactive."""

    address: str = ""
    interactive: bool = False
    second_factor: bool = False
    device: bool = False


class Told(NamedTuple):
    """One rule and what it means here: `met`, `unmet`, or why it makes no difference."""

    rule: str
    state: str
    why: str


class SignInDecision(NamedTuple):
    """May it sign in; which rule decides, and what it demands; every rule in the order in which they are looked at."""

    allowed: bool
    rule: str = ""
    demand: str = ""
    told: tuple[Told, ...] = ()


def decide(account: Account, rules: Iterable[CompiledRule], attempt: Attempt) -> SignInDecision:
    """Every rule that applies has to be met: targeted ones first, then the tenant-wide ones; the first unmet one decides."""
    all_ = sorted(rules, key=lambda r: (r.everyone, r.name))
    told = tuple(_look(account, all_, attempt))
    first = next((t for t in told if t.state == "unmet"), None)
    if first is None:
        return SignInDecision(True, told=told)
    return SignInDecision(False, first.rule, first.why, told)


def _look(account: Account, rules: list[CompiledRule], attempt: Attempt) -> Iterator[Told]:
    if not account.active:
        yield Told("the account", "unmet", "suspended")
    for rule in rules:
        reason = _apart(account, rule, attempt)
        if reason:
            yield Told(rule.name, "makes no difference", reason)
            continue
        unmet = _unmet(rule, attempt)
        yield Told(rule.name, "unmet" if unmet else "met", unmet or ", ".join(sorted(_asked(rule))) or "it demands nothing")
    if any(r.everyone and r.enabled for r in rules):
        if account.switch:
            yield Told(SWITCH, "makes no difference", f"it is {account.switch}, and a tenant-wide rule decides over it")
    elif account.switch == "on":
        yield Told(SWITCH, "met" if attempt.second_factor else "unmet", SECOND_FACTOR)


def _apart(account: Account, rule: CompiledRule, attempt: Attempt) -> str:
    """Why a rule does not apply, or nothing."""
    if not rule.enabled:
        return "it is switched off"
    if not rule.everyone and not rule.targets & {account.id, *account.teams}:
        return "it is for others"
    if account.id in rule.exempt:
        return "the account is exempt"
    kind = "interactive" if attempt.interactive else "non-interactive"
    return "" if rule.applies_to in ("any", kind) else f"it is for sign-ins that are {rule.applies_to}"


def _asked(rule: CompiledRule) -> list[str]:
    return [
        *rule.demands,
        *([f"from {', '.join(sorted(rule.networks))}"] if rule.networks else []),
        *([BLOCKED] if rule.blocks else []),
    ]


def _unmet(rule: CompiledRule, attempt: Attempt) -> str:
    if rule.blocks:
        return BLOCKED
    if rule.networks and not any(inside(attempt.address, n) for n in rule.networks):
        return NETWORK
    have = {SECOND_FACTOR: attempt.second_factor, DEVICE: attempt.device}
    return next((d for d in sorted(rule.demands) if not have.get(d, False)), "")


def inside(address: str, network: str) -> bool:
    """Is an address in a network (RFC 4632, RFC 4291)? What is neither is in none."""
    import ipaddress  # few questions need it

    try:
        return ipaddress.ip_address(address) in ipaddress.ip_network(network)
    except ValueError:
        return False


def losing(rules: Iterable[CompiledRule], weaker: CompiledRule, accounts: Iterable[Account]) -> list[Account]:
    """Who would lose a demand if a rule were switched off and no other made the same demand of them."""
    others = [r for r in rules if r.id != weaker.id and r.enabled]

    def covers(rule: CompiledRule, account: Account) -> bool:
        return account.id not in rule.exempt and (rule.everyone or bool(rule.targets & {account.id, *account.teams}))

    return [
        a
        for a in accounts
        if a.active
        and covers(weaker, a)
        and not set(_asked(weaker))
        <= {d for r in others if covers(r, a) and r.applies_to in ("any", weaker.applies_to) for d in _asked(r)}
    ]


# --- from facts ---------------------------------------------------------------------------------------------------
ALL_RULES, ALL_TEAMS, ALL_ACCOUNTS = Query(RULE, "all"), Query(TEAM, "all"), Query(ACCOUNT, "all")


def teams_of(teams: Iterable[Record[Team]]) -> dict[str, list[str]]:
    """The teams that each member is in itself, by the member's id."""
    found: dict[str, list[str]] = {}
    for team in teams:
        for member in team.body.members:
            found.setdefault(member, []).append(team.id)
    return found


def rule_of(record: Record[signing.SignInRule]) -> CompiledRule:
    """A sign-in rule as deciding needs it."""
    body = record.body
    return CompiledRule(
        record.id,
        body.name,
        body.enabled,
        body.everyone,
        frozenset(body.targets),
        frozenset(e.account for e in body.exempt),
        body.applies_to or "any",
        frozenset(body.demands),
        body.networks,
        body.blocks,
        body.narrowable,
    )


def account_of(record: Record[AccountBody], teams: Mapping[str, Iterable[str]]) -> Account:
    """An account with its teams; `teams` as `teams_of` gives them, teams in teams among them."""
    found, fresh = set[str](), [record.id]
    while fresh:
        more = [team for team in teams.get(fresh.pop(), ()) if team not in found]
        found.update(more)
        fresh += more
    body = record.body
    return Account(record.id, body.name, body.active, body.second_factor, frozenset(found))


def as_context(attempt: Attempt) -> dict[str, Any]:
    """The attempt as the context of a question to the tenant."""
    return {
        "from": attempt.address,
        "interactive": attempt.interactive,
        "second_factor": attempt.second_factor,
        "device": attempt.device,
    }
