"""The authorization server: metadata (RFC 8414), keys, and the token endpoint (RFC 6749, 7523, 9068)."""

from __future__ import annotations

from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from sigillum.sandbox.http.errors import OAuthProblem
from sigillum.sandbox.scim import directory
from sigillum.sandbox.scim.attributes import ACCOUNT
from sigillum.sandbox.scim.schemas import KINDS
from sigillum.sandbox.worlds.world import Client, Tenant

from . import delegation, keys
from .authentication import (
    _client_basic,
    _client_secret,
    account_key,
    authenticate,
    check_claims,
    live,
    spend,
)
from .exchange import EXCHANGE, exchange
from .requests import NO_STORE, Json, form, guarded, house_tenant
from .signer import signed_by
from .tokens import access_claims

JWT_BEARER = "urn:ietf:params:oauth:grant-type:jwt-bearer"
GRANTS = (JWT_BEARER, "client_credentials", EXCHANGE)
SCOPES = ("work",)
FOREIGN_SECONDS = 3600  # so long a token of a neighbour may live


async def metadata(request: Request) -> Response:
    tenant = house_tenant(request)
    methods = ["client_secret_basic", "private_key_jwt"]
    signing = ["Ed25519", "EdDSA", "ES256", "RS256"]
    return JSONResponse(
        {
            "issuer": tenant.issuer,
            "token_endpoint": tenant.base + "/oauth/token",
            "jwks_uri": tenant.base + "/oauth/keys",
            "registration_endpoint": tenant.base + "/oauth/clients",
            "introspection_endpoint": tenant.base + "/oauth/introspect",
            "revocation_endpoint": tenant.base + "/oauth/revoke",
            "scopes_supported": list(SCOPES),
            "response_types_supported": [],
            "grant_types_supported": list(GRANTS),
            **{f"{name}_endpoint_auth_methods_supported": methods for name in ("token", "introspection", "revocation")},
            **{
                f"{name}_endpoint_auth_signing_alg_values_supported": signing
                for name in ("token", "introspection", "revocation")
            },
        }
    )


async def key_set(request: Request) -> Response:
    return JSONResponse({"keys": [house_tenant(request).key.public()]})


def _foreign(request: Request, tenant: Tenant, assertion: str, claims: Json) -> Json:
    """The foreign principal that a client of another organisation is here: that one's token is the assertion."""
    issuer = claims.get("iss")
    theirs = next((t for t in request.app.state.house.tenants.values() if t.issuer == issuer), None)
    known = theirs.key.read(assertion) if theirs is not None and issuer in tenant.organisations else None
    account = next(
        (
            i
            for i, d in tenant.store.all_current("User")
            for about in [d.get(ACCOUNT) or {}]
            if about.get("organisation") == issuer
            and theirs is not None
            and known
            and about.get("subject") in _known_as(theirs, known)
        ),
        None,
    )
    if known is None or account is None:
        raise OAuthProblem("invalid_grant", "Nobody here is known by this assertion")
    check_claims(tenant, known, "invalid_grant", FOREIGN_SECONDS)  # it is its home that says how long its tokens live
    return {"sub": account, "client_id": account}


def _known_as(home: Tenant, claims: Json) -> set[Any]:
    """By what other tenants know whose token it is: its client id, or the address that its home shows."""
    account = home.store.current(KINDS["User"], str(claims.get("sub"))) or {}
    return {claims.get("client_id"), *(e["value"] for e in account.get("emails", []))}


def _jwt_bearer(request: Request, tenant: Tenant, parameters: dict[str, str]) -> Json:
    assertion = parameters.get("assertion", "")
    peeked = keys.peek(assertion)
    if not assertion:
        raise OAuthProblem("invalid_request", "assertion is required")
    if peeked is None:
        raise OAuthProblem("invalid_grant", "The assertion is not a JWT")
    claims = peeked[1]
    if claims.get("iss") in tenant.organisations:
        return _foreign(request, tenant, assertion, claims)
    principal = str(claims.get("sub"))
    account = tenant.store.current(KINDS["User"], principal)
    known = tenant.store.current(KINDS["User"], str(claims.get("iss"))) or directory.client_of(tenant, str(claims.get("iss")))
    if claims.get("iss") != claims.get("sub") and known:
        return delegation.asserted(request, tenant, parameters, assertion, claims)
    if claims.get("iss") != claims.get("sub") or account is None:
        raise OAuthProblem("invalid_grant", "iss and sub must both be the principal id of an account here")
    found = account_key(tenant, principal, assertion)
    if found is None and not signed_by(tenant, principal, assertion):
        raise OAuthProblem("invalid_grant", "No live key of this account signed the assertion")
    if not account.get("active", True):
        raise OAuthProblem("invalid_grant", "The account is suspended")
    check_claims(tenant, claims, "invalid_grant")
    spend(tenant, claims, "invalid_grant")
    how = {"credential": found[0]} if found is not None else {"by": "signing"}
    return {"sub": principal, "client_id": principal, **how}


def _client_credentials(request: Request, tenant: Tenant, parameters: dict[str, str]) -> Json:
    name = authenticate(request, tenant, parameters)
    if directory.client_of(tenant, name) is not None:
        return _as_principal(request, tenant, parameters, name)
    client: Client | None = tenant.clients.get(name)
    if client is None or "client_credentials" not in client.metadata.get("grant_types", []):
        raise OAuthProblem("unauthorized_client", "This client may not use client credentials")
    return {"sub": name, "client_id": name}


def _as_principal(request: Request, tenant: Tenant, parameters: dict[str, str], client_id: str) -> Json:
    """A client signs in as its service principal; the credential that proved it narrows the token."""
    principal, registered = directory.principal_of(tenant, client_id), directory.client_of(tenant, client_id)
    elsewhere = parameters.get("resource", tenant.issuer) not in (tenant.work, tenant.issuer)
    if elsewhere and registered is not None and registered[1].get("audience") != "any":
        raise OAuthProblem("invalid_target", "This client is registered for this tenant only")
    if principal is None:
        raise OAuthProblem("invalid_client", "Nobody here is known by this client id", 401)
    basic, assertion = _client_basic(request), parameters.get("client_assertion", "")
    used = (
        _client_secret(tenant, *basic)
        if basic
        else next((i for i, d in live(tenant, client_id) if "publicKey" in d and keys.verify(assertion, d["publicKey"])), None)
    )
    return {"sub": principal, "client_id": client_id, **({"credential": used} if used else {})}


async def token(request: Request) -> Response:
    tenant = house_tenant(request)
    parameters = await form(request)
    kind = parameters.get("grant_type")
    if kind is None:
        raise OAuthProblem("invalid_request", "grant_type is required")
    if kind == JWT_BEARER:
        asking = authenticate(request, tenant, parameters) if tenant.described.get("bearer_grant_authenticates") else None
        who = _jwt_bearer(request, tenant, parameters)
        if asking not in (None, who["sub"], who["client_id"]):
            raise OAuthProblem("invalid_grant", "The assertion is about somebody else")
    elif kind == "client_credentials":
        who = _client_credentials(request, tenant, parameters)
    elif kind == EXCHANGE:
        who = exchange(request, tenant, parameters)
    else:
        raise OAuthProblem("unsupported_grant_type", f"{kind} is not served here")
    scope = who.get("scope", parameters.get("scope", "work")).split()
    if "scope" not in who and any(s not in SCOPES for s in scope):
        raise OAuthProblem("invalid_scope", f"The scopes here are {' '.join(SCOPES)}")
    resource = parameters.get("resource", tenant.work)
    elsewhere = [t.issuer for t in request.app.state.house.tenants.values() if tenant.issuer in t.organisations]
    if resource not in (tenant.work, tenant.issuer, *elsewhere):
        raise OAuthProblem("invalid_target", "This server issues tokens for its own working interface only")
    tenant.use(who.get("credential"), request.client.host if request.client else "")
    now, life = int(tenant.clock.now().timestamp()), tenant.limit("token_seconds")
    life = min(life, who.pop("until", now + life) - now)  # no longer than what it was given for
    claims = access_claims(tenant, who, resource, now, life, " ".join(scope))
    issued = {"issued_token_type": "urn:ietf:params:oauth:token-type:access_token"} if kind.endswith("token-exchange") else {}
    return JSONResponse(
        {
            "access_token": tenant.key.sign("at+jwt", claims),
            "token_type": "Bearer",
            "expires_in": life,
            "scope": " ".join(scope),
            **issued,
        },
        headers=NO_STORE,
    )


def routes() -> list[Route]:
    well_known = "/.well-known/oauth-authorization-server"
    return [
        Route(well_known + "/{tenant}", guarded(metadata)),
        Route("/{tenant}" + well_known, guarded(metadata)),
        Route("/{tenant}/oauth/keys", guarded(key_set)),
        Route("/{tenant}/oauth/token", guarded(token), methods=["POST"]),
    ]
