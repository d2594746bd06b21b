"""What is presented at the working interface: access tokens (RFC 6750, 9068), API tokens, names with passwords (RFC 7617)."""

from __future__ import annotations

import secrets
from typing import Any

from starlette.requests import Request

from sigillum.sandbox.deciding.decide import taken, usable_now
from sigillum.sandbox.deciding.signin import may_sign_in
from sigillum.sandbox.http.answers import bearer
from sigillum.sandbox.http.errors import OAuthProblem
from sigillum.sandbox.scim.schemas import KINDS
from sigillum.sandbox.worlds.world import Tenant, hash_of

from . import delegation, rights
from .requests import basic_of

Json = dict[str, Any]


def claims_of(tenant: Tenant, token: str | None) -> Json | None:
    """The claims of a live access token (or of an API token), or None."""
    if not token:
        return None
    now = tenant.clock.now()
    claims = tenant.key.read(token) if token.count(".") == 2 else None
    if claims is not None:
        ours = claims.get("iss") == tenant.issuer  # RFC 9068 §4; the same key signs for other customers of the service
        live = claims.get("exp", 0) > now.timestamp() and claims.get("jti") not in tenant.revoked
        return claims if ours and live and _stands(tenant, claims) else None
    digest = hash_of(token)
    for identity, known in tenant.secrets.items():
        if secrets.compare_digest(known, digest):
            found = tenant.store.current(KINDS["Credential"], identity)
            if found is not None and usable_now(tenant, found) and _stands(tenant, {"sub": found["principal"]["value"]}):
                return {
                    "iss": tenant.issuer,
                    "sub": found["principal"]["value"],
                    "credential": identity,
                    "client_id": found["principal"]["value"],
                    "scope": "work",
                }
    return None


def _stands(tenant: Tenant, claims: Json) -> bool:
    """Do the identity and the credential behind a token still stand? Where tokens outlive them, nobody asks."""
    if tenant.described.get("tokens_outlive"):
        return True
    who, used = str(claims.get("sub")), claims.get("credential")
    found = tenant.store.current(KINDS["User"], who) or tenant.store.current(KINDS["ServicePrincipal"], who)
    there = found.get("active", True) if found is not None else who in tenant.clients
    if not delegation.stands(tenant, claims) or not rights.stands(tenant, claims):
        return False
    return bool(there) and (used is None or taken(tenant, used))


def _by_password(tenant: Tenant, address: str, name: str, password: str) -> Json:
    """The account whose name and password these are (RFC 7617), as far as sign-in rules let it in. Raises OAuthProblem 401."""
    digest = hash_of(password)
    for identity, _ in tenant.store.by("User", "userName", name):
        for credential, found in tenant.store.by("Credential", "principal.value", identity):
            if (
                found.get("kind") == "password"
                and usable_now(tenant, found)
                and not found.get("mustChange")
                and secrets.compare_digest(tenant.secrets.get(credential, ""), digest)
                and may_sign_in(tenant, identity, {"from": address}).allowed
            ):
                return {"sub": identity, "client_id": identity, "credential": credential, "scope": "work"}
    raise OAuthProblem("invalid_token", "The name or the password is wrong", 401, 'Basic realm="work"')


def bearer_claims(request: Request, tenant: Tenant) -> Json:
    """Claims of the request's access token (RFC 6750 §3). Raises OAuthProblem 401."""
    address = request.client.host if request.client else ""
    claims = _presented(request, tenant, address)
    tenant.use(claims.get("credential"), address)
    return claims


def _presented(request: Request, tenant: Tenant, address: str) -> Json:
    presented, basic = bearer(request), basic_of(request)
    if basic is not None:
        return _by_password(tenant, address, *basic)
    if presented is None:
        raise OAuthProblem("invalid_request", "An access token is needed", 401, 'Bearer realm="work"')
    claims = claims_of(tenant, presented)
    meant = (tenant.work, tenant.issuer, None)  # RFC 9068 §4; an API token names nobody
    if claims is None or claims.get("aud") not in meant:
        raise OAuthProblem(
            "invalid_token",
            "The token is unknown, for somebody else, has expired or was revoked",
            401,
            'Bearer realm="work", error="invalid_token"',
        )
    return claims


def access_claims(tenant: Tenant, who: Json, audience: str, now: int, life: int, scope: str = "work") -> Json:
    """What an access token says (RFC 9068 §2.2)."""
    return {
        "iss": tenant.issuer,
        **who,
        "aud": audience,
        "iat": now,
        "exp": now + life,
        "jti": secrets.token_hex(12),
        "scope": scope,
    }
