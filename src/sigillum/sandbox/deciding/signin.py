"""The sandbox's own answer to: may this account sign in like this, from there?"""

from __future__ import annotations

import ipaddress
from typing import Any

from sigillum.sandbox.scim.attributes import ACCOUNT
from sigillum.sandbox.scim.schemas import KINDS
from sigillum.sandbox.worlds.world import Tenant

from .decide import Verdict, no, teams_of

Json = dict[str, Any]


def may_sign_in(tenant: Tenant, principal: str, context: Json) -> Verdict:
    """Every rule that applies has to be met; the reason names the one that decides."""
    account = tenant.store.current(KINDS["User"], principal)
    if account is None:
        return no("unknown account")
    if not account.get("active", True):
        return no("suspended")
    interactive = context.get("interactive") is True
    wide = False
    who = teams_of(tenant, principal, False) | {principal}
    rules = sorted(
        (r for _, r in tenant.store.all_current("SignInRule") if r.get("enabled", True)),
        key=lambda r: (bool(r.get("everyone")), r["name"]),
    )
    for rule in rules:
        wide = wide or bool(rule.get("everyone"))
        if not rule.get("everyone") and not who & {t["value"] for t in rule.get("targets", [])}:
            continue
        if any(e["value"] == principal for e in rule.get("exempt", [])):
            continue
        if rule.get("appliesTo", "any") not in ("any", "interactive" if interactive else "non-interactive"):
            continue
        unmet = _unmet(rule, context)
        if unmet:
            return no(f"{rule['name']}: {unmet}")
    if not wide and (account.get(ACCOUNT) or {}).get("secondFactor") == "on" and context.get("second_factor") is not True:
        return no("the account's own switch: second-factor")
    return Verdict(True, "nothing speaks against it")


def _unmet(rule: Json, context: Json) -> str:
    if rule.get("blocks"):
        return "blocked"
    networks = rule.get("networks", [])
    if networks and not any(_inside(context.get("from"), n) for n in networks):
        return "network"
    for demand in sorted(rule.get("demands", [])):
        if context.get(demand.replace("-", "_")) is not True:
            return str(demand)
    return ""


def _inside(address: Any, network: str) -> bool:
    try:
        return ipaddress.ip_address(str(address)) in ipaddress.ip_network(network)
    except ValueError:
        return False
