"""Whether the right that a token was given by still exists: each link of acting as somebody, at every use."""

from __future__ import annotations

from typing import Any

from sigillum.sandbox.deciding.decide import decide
from sigillum.sandbox.worlds.world import Tenant

Json = dict[str, Any]


def allowed(tenant: Tenant, actor: str, principal: str) -> bool:
    """May one act as the other, now?"""
    permission = tenant.described.get("acting")
    return bool(permission) and decide(tenant, actor, str(permission), f"@{principal}").allowed


def stands(tenant: Tenant, claims: Json) -> bool:
    """At every use, each link of the chain: present rights decide, what the token says of them is history."""
    if not claims.get("acting"):
        return True
    who, act = str(claims["sub"]), claims.get("act")
    while isinstance(act, dict):
        if not allowed(tenant, str(act.get("sub")), who):
            return False
        who, act = str(act.get("sub")), act.get("act")
    return True
