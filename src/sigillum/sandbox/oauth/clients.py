"""Client registration (RFC 7591, managed by RFC 7592), introspection (RFC 7662) and revocation (RFC 7009)."""

from __future__ import annotations

import secrets
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from sigillum.sandbox.http.answers import bearer
from sigillum.sandbox.http.errors import OAuthProblem
from sigillum.sandbox.http.texts import loads
from sigillum.sandbox.worlds.world import Client, Tenant, hash_of

from . import keys
from .authentication import BASIC, SIGNED, authenticate
from .requests import NO_STORE, form, guarded, house_tenant
from .server import GRANTS
from .tokens import claims_of

Json = dict[str, Any]
NEVER_SENT = ("registration_access_token", "registration_client_uri", "client_secret_expires_at", "client_id_issued_at")  # §2.2
METHODS = (BASIC, SIGNED)
TEXTS = (
    "token_endpoint_auth_method",
    "client_name",
    "client_uri",
    "logo_uri",
    "scope",
    "tos_uri",
    "policy_uri",
    "jwks_uri",
    "software_id",
    "software_version",
)  # RFC 7591 §2
LISTS = ("redirect_uris", "grant_types", "response_types", "contacts")


def _metadata(asked: Any) -> Json:
    """Check client metadata (RFC 7591 §2). Raises OAuthProblem (invalid_client_metadata)."""

    def bad(detail: str) -> OAuthProblem:
        return OAuthProblem("invalid_client_metadata", detail)

    if not isinstance(asked, dict):
        raise bad("The body must be a JSON object")
    method = asked.get("token_endpoint_auth_method", "client_secret_basic")
    grants = asked.get("grant_types", ["client_credentials"])
    for name in TEXTS:
        if not isinstance(asked.get(name, ""), str):
            raise bad(f"{name} must be a text")
    for name in LISTS:
        if not isinstance(asked.get(name, []), list) or not all(isinstance(v, str) for v in asked.get(name, [])):
            raise bad(f"{name} must be a list of texts")
    if not isinstance(asked.get("jwks", {}), dict):
        raise bad("jwks must be a key set (RFC 7517 §5)")
    if method not in METHODS:
        raise bad(f"token_endpoint_auth_method must be one of {', '.join(METHODS)}")
    if not set(grants) <= set(GRANTS):
        raise bad(f"grant_types may hold {', '.join(GRANTS)}")
    if set(asked.get("response_types", [])):
        raise bad("response_types: there is no authorization endpoint here")
    known = asked.get("jwks")
    if "jwks_uri" in asked:
        raise bad("jwks_uri is not fetched here; send jwks")
    if method == "private_key_jwt":
        found = known.get("keys") if isinstance(known, dict) else None
        if not isinstance(found, list) or not found or any(not isinstance(k, dict) or keys.usable(k) is None for k in found):
            raise bad("private_key_jwt needs jwks with usable public keys")
    redirects = asked.get("redirect_uris", [])
    if not all(":" in u and "#" not in u for u in redirects):
        raise OAuthProblem("invalid_redirect_uri", "redirect_uris must be absolute addresses without fragment")
    kept = {n: asked[n] for n in ("client_name", "client_uri", "contacts", "scope", "software_id", "jwks") if n in asked}
    return {
        **kept,
        "redirect_uris": redirects,
        "token_endpoint_auth_method": method,
        "grant_types": grants,
        "response_types": [],
    }


async def _body(request: Request) -> Any:
    try:
        return loads(await request.body())
    except ValueError as problem:
        raise OAuthProblem("invalid_client_metadata", "The body is not JSON") from problem


def _registrar(request: Request, tenant: Tenant) -> None:
    token = bearer(request)
    admin = tenant.admin_of(token) if token else None
    if admin is None:
        raise OAuthProblem("invalid_token", "An initial access token is needed", 401, 'Bearer error="invalid_token"')
    if "clients" not in admin.powers:
        raise OAuthProblem(
            "insufficient_scope", f"{admin.name} lacks the power 'clients'", 403, 'Bearer error="insufficient_scope"'
        )


def _shown(tenant: Tenant, client: Client) -> Json:
    return {"client_id": client.id, **client.metadata, "registration_client_uri": f"{tenant.base}/oauth/clients/{client.id}"}


async def register(request: Request) -> Response:
    tenant = house_tenant(request)
    _registrar(request, tenant)
    metadata = _metadata(await _body(request))
    secret = secrets.token_urlsafe(32) if metadata["token_endpoint_auth_method"] == BASIC else None
    managing = secrets.token_urlsafe(24)
    client = Client(secrets.token_hex(8), metadata, hash_of(secret) if secret else None, hash_of(managing))
    tenant.clients[client.id] = client
    shown = {
        **_shown(tenant, client),
        "registration_access_token": managing,
        "client_id_issued_at": int(tenant.clock.now().timestamp()),
    }
    if secret:
        shown |= {"client_secret": secret, "client_secret_expires_at": 0}
    return JSONResponse(shown, 201, NO_STORE)


async def manage(request: Request) -> Response:
    tenant = house_tenant(request)
    client = tenant.clients.get(request.path_params["client"])
    presented = bearer(request)
    if client is None or presented is None or hash_of(presented) != client.registration_hash:
        raise OAuthProblem("invalid_token", "The registration access token is needed", 401, 'Bearer error="invalid_token"')
    if request.method == "DELETE":
        del tenant.clients[client.id]
        return Response(status_code=204, headers=NO_STORE)
    if request.method == "PUT":
        asked = await _body(request)
        if not isinstance(asked, dict) or asked.get("client_id") != client.id:
            raise OAuthProblem("invalid_client_metadata", "client_id must be sent and stay as it is")
        if wrong := [n for n in NEVER_SENT if n in asked]:
            raise OAuthProblem("invalid_client_metadata", f"{', '.join(wrong)} must not be sent")
        secret = asked.get("client_secret")
        if secret is not None and not (isinstance(secret, str) and hash_of(secret) == client.secret_hash):
            raise OAuthProblem("invalid_client_metadata", "client_secret must be the one that was issued")  # §2.2
        client.metadata = _metadata(asked)
    again = {"registration_access_token": presented}  # RFC 7592 §3: it is in every answer
    return JSONResponse({**_shown(tenant, client), **again, **_rotated(request, tenant, client)}, 200, NO_STORE)


def _rotated(request: Request, tenant: Tenant, client: Client) -> Json:
    """Where the tenant rotates: another registration access token each time, and another secret at an update (RFC 7592 §3)."""
    if not tenant.described.get("registrations_rotate"):
        return {}
    managing, secret = secrets.token_urlsafe(24), secrets.token_urlsafe(32)
    client.registration_hash = hash_of(managing)
    out: Json = {"registration_access_token": managing}
    if request.method == "PUT" and client.method == BASIC:
        client.secret_hash = hash_of(secret)
        out |= {"client_secret": secret, "client_secret_expires_at": 0}
    return out


def _asker(request: Request, tenant: Tenant, parameters: dict[str, str]) -> str | None:
    """Who introspects or revokes: None for an administrator, else the authenticated client's id."""
    presented = bearer(request)
    if presented is not None and tenant.admin_of(presented):
        return None
    return authenticate(request, tenant, parameters)


async def introspect(request: Request) -> Response:
    tenant = house_tenant(request)
    parameters = await form(request)
    asker = _asker(request, tenant, parameters)
    if "token" not in parameters:
        raise OAuthProblem("invalid_request", "token is required")
    claims = claims_of(tenant, parameters["token"])
    if claims is None or (asker is not None and claims.get("client_id") != asker):
        return JSONResponse({"active": False}, headers=NO_STORE)
    known = ("iss", "sub", "aud", "client_id", "exp", "iat", "jti", "scope", "act")
    return JSONResponse(
        {"active": True, "token_type": "Bearer", **{n: claims[n] for n in known if n in claims}}, headers=NO_STORE
    )


async def revoke(request: Request) -> Response:
    tenant = house_tenant(request)
    parameters = await form(request)
    asker = _asker(request, tenant, parameters)
    if "token" not in parameters:
        raise OAuthProblem("invalid_request", "token is required")
    claims = claims_of(tenant, parameters["token"])
    if claims is not None and "jti" in claims and asker in (None, claims.get("client_id")):
        tenant.revoked.add(claims["jti"])
    return Response(status_code=200, headers=NO_STORE)


def routes() -> list[Route]:
    return [
        Route("/{tenant}/oauth/clients", guarded(register), methods=["POST"]),
        Route("/{tenant}/oauth/clients/{client}", guarded(manage), methods=["GET", "PUT", "DELETE"]),
        Route("/{tenant}/oauth/introspect", guarded(introspect), methods=["POST"]),
        Route("/{tenant}/oauth/revoke", guarded(revoke), methods=["POST"]),
    ]
