"""Acting as somebody else: a token of another principal for one that has the right to act as it (RFC 8693 §4.1)."""

from __future__ import annotations

from typing import Any

from starlette.requests import Request

from sigillum.sandbox.deciding.decide import Spot, grants_of, spot_of, teams_of
from sigillum.sandbox.http.errors import OAuthProblem
from sigillum.sandbox.scim.schemas import KINDS
from sigillum.sandbox.worlds.clock import moment_of
from sigillum.sandbox.worlds.world import Tenant

from .rights import allowed
from .tokens import claims_of

Json = dict[str, Any]
FOREVER = 9999


def actor_of(tenant: Tenant, token: str) -> Json:
    """Whose token it is: an administrator's, who is a person here by the same name, or one that was given here."""
    admin = tenant.admin_of(token)
    if admin is not None:
        person = next((i for i, _ in tenant.store.by("User", "userName", admin.name)), None)
        if person is None:
            raise OAuthProblem("invalid_request", "This administrator is nobody here")
        return {"sub": person}
    claims = claims_of(tenant, token)
    if claims is None or "delegation" in claims:
        raise OAuthProblem("invalid_request", "The subject token is unknown, has ended, or is somebody's it acts for")
    return claims


def _ends(tenant: Tenant, actor: str, spot: Spot) -> int | None:
    """When the right to act ends, of those that allow it the last one."""
    ends = list[int]()
    for carrier in {actor} | teams_of(tenant, actor, True):
        for grant in grants_of(tenant, carrier, spot):
            role = tenant.store.felt("Role", grant["role"]["value"]) or {}
            if any(p["value"] == tenant.described.get("acting") for p in role.get("permissions", [])):
                until = moment_of(grant["validUntil"]) if grant.get("validUntil") else None
                if until is None or until.year >= FOREVER:
                    return None
                ends.append(int(until.timestamp()))
    return max(ends, default=0)


def act_of(actor: Json) -> Json:
    """Who acts, and through whom, as the next token says it (RFC 8693 §4.1)."""
    return {"sub": actor["sub"], **({"act": actor["act"]} if "act" in actor else {})}


def exchange(request: Request, tenant: Tenant, parameters: dict[str, str]) -> Json:
    """`subject_token` is the actor's own; `act_as` the id of the principal. Raises OAuthProblem."""
    principal, claims = parameters.get("act_as", ""), actor_of(tenant, parameters.get("subject_token", ""))
    account, spot = tenant.store.current(KINDS["User"], principal), spot_of(tenant, f"@{principal}")
    if account is None or spot is None or not account.get("active", True):
        raise OAuthProblem("invalid_target", "There is nobody of that id that could be acted as")
    if not allowed(tenant, claims["sub"], principal):
        raise OAuthProblem("access_denied", "It may not act as that principal")
    ends = [e for e in (_ends(tenant, claims["sub"], spot), claims.get("exp")) if e is not None]
    return {
        "sub": principal,
        "client_id": claims["sub"],
        "act": act_of(claims),
        "acting": True,
        **({"until": min(ends)} if ends else {}),
    }
