"""Acting for people: the tokens that are given by a delegation."""

from __future__ import annotations

from typing import Any

from starlette.requests import Request

from sigillum.sandbox.deciding.decide import covering
from sigillum.sandbox.http.errors import OAuthProblem
from sigillum.sandbox.scim import directory
from sigillum.sandbox.scim.schemas import KINDS
from sigillum.sandbox.worlds.world import Tenant

from . import keys
from .authentication import account_key, check_claims, live, spend

Json = dict[str, Any]


def asserted(request: Request, tenant: Tenant, parameters: dict[str, str], assertion: str, claims: Json) -> Json:
    """A token for a person, which a client or an account asks for (RFC 7523 §2.1). Every cause has one answer.

    Raises OAuthProblem.
    """
    issuer, subject = str(claims.get("iss")), str(claims.get("sub"))
    account, registered = tenant.store.current(KINDS["User"], issuer), directory.client_of(tenant, issuer)
    holder, actor, used = "", "", None
    if account is not None and account.get("active", True):
        found = account_key(tenant, issuer, assertion)
        holder, actor, used = issuer, issuer, found[0] if found is not None else None
    elif registered is not None:
        holder, actor = registered[0], directory.principal_of(tenant, issuer) or issuer
        used = next((i for i, d in live(tenant, issuer) if "publicKey" in d and keys.verify(assertion, d["publicKey"])), None)
    if used is None:
        raise OAuthProblem("invalid_grant", "No live key of the issuer signed the assertion")
    check_claims(tenant, claims, "invalid_grant")
    spend(tenant, claims, "invalid_grant")
    scopes = parameters.get("scope", "").split()
    person = next((i for i, d in tenant.store.all_current("User") if subject in (i, d["userName"])), "")
    standing = covering(tenant, holder, person, scopes) if scopes else None
    if standing is None:
        raise OAuthProblem("unauthorized_client", "It may not get such a token")
    tenant.use(standing, request.client.host if request.client else "")
    return {
        "sub": person,
        "client_id": issuer,
        "act": {"sub": actor},
        "credential": used,
        "scope": " ".join(scopes),
        "delegation": holder,
    }


def stands(tenant: Tenant, claims: Json) -> bool:
    """Is what a token for a person was given by still there?"""
    holder = claims.get("delegation")
    return holder is None or covering(tenant, holder, str(claims.get("sub")), str(claims.get("scope")).split()) is not None
