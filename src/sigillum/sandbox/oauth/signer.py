"""A signing service: it signs an assertion for an account, with a key that never leaves it; and machines with an identity."""

from __future__ import annotations

from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from sigillum.sandbox.deciding.decide import decide
from sigillum.sandbox.http.answers import bearer, read_json
from sigillum.sandbox.http.errors import OAuthProblem
from sigillum.sandbox.scim.schemas import KINDS
from sigillum.sandbox.worlds.world import Tenant

from . import keys
from .acting import actor_of
from .keys import SigningKey
from .requests import NO_STORE, guarded, house_tenant
from .tokens import access_claims

Json = dict[str, Any]


async def sign(request: Request) -> Response:
    """For `account`, these `claims`. Whoever asks needs every right that the tenant names, over that account."""
    tenant, body = house_tenant(request), await read_json(request)
    account, claims = (body.get("account"), body.get("claims")) if isinstance(body, dict) else (None, None)
    if not tenant.described.get("signing") or not isinstance(account, str) or not isinstance(claims, dict):
        raise OAuthProblem("invalid_request", "account and claims are needed, and a tenant that signs")
    try:
        who = actor_of(tenant, bearer(request) or "")
    except OAuthProblem as problem:
        raise OAuthProblem("invalid_token", problem.detail, 401, "Bearer") from problem
    if who.get("acting"):
        raise OAuthProblem("access_denied", "Nobody signs while acting as somebody else: it would outlive that", 403)
    known = tenant.store.current(KINDS["User"], account)
    if (
        known is None
        or not known.get("active", True)
        or not all(decide(tenant, who["sub"], right, f"@{account}").allowed for right in tenant.described["signing"])
    ):
        raise OAuthProblem("access_denied", "This is not allowed", 403)
    if claims.get("iss") != account or keys.lifetime_fault(claims, tenant.clock.now(), tenant.limit("assertion_seconds")):
        raise OAuthProblem("invalid_request", "claims: iss has to be the account, and the life within the limit")
    return JSONResponse({"assertion": key_of(tenant, account).sign("JWT", claims)}, headers=NO_STORE)


def key_of(tenant: Tenant, account: str) -> SigningKey:
    """The key of an account that nobody has."""
    if account not in tenant.signers:
        tenant.signers[account] = SigningKey()
    return tenant.signers[account]


def signed_by(tenant: Tenant, account: str, assertion: str) -> bool:
    """Did this service sign it for the account?"""
    return account in tenant.signers and keys.verify(assertion, tenant.signers[account].public())


def attached(tenant: Tenant, name: str) -> Json | None:
    """Whose token a machine gets; None where there is no such machine. Raises OAuthProblem where nobody is attached."""
    found = next(iter(tenant.store.by("Machine", "name", name)), None)
    if found is None:
        return None
    who = (found[1].get("principal") or {}).get("value")
    if who is None or not (tenant.store.current(KINDS["User"], who) or {}).get("active", True):
        raise OAuthProblem("invalid_request", "No identity is attached to this machine", 404)
    now = int(tenant.clock.now().timestamp())
    whose = {"sub": who, "client_id": who, "by": "machine"}
    return access_claims(tenant, whose, tenant.work, now, tenant.limit("token_seconds"))


def routes() -> list[Route]:
    return [Route("/{tenant}/sign", guarded(sign), methods=["POST"])]
