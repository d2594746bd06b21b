"""The authorization server: metadata (RFC 8414), keys, and the token endpoint (RFC 6749, 7523, 9068)."""

from __future__ import annotations

import base64
import binascii
import secrets
from datetime import UTC, datetime
from typing import Any
from urllib.parse import parse_qsl, unquote_plus

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from sigillum.sandbox.deciding.decide import taken
from sigillum.sandbox.http.answers import Handler
from sigillum.sandbox.http.errors import OAuthProblem
from sigillum.sandbox.scim import directory
from sigillum.sandbox.scim.attributes import ACCOUNT
from sigillum.sandbox.scim.schemas import KINDS
from sigillum.sandbox.worlds.world import Client, Tenant, hash_of

from . import keys

Json = dict[str, Any]
JWT_BEARER = "urn:ietf:params:oauth:grant-type:jwt-bearer"
BASIC, SIGNED = "client_secret_basic", "private_key_jwt"
ASSERTION_TYPE = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"
SCOPES = ("work",)
FOREIGN_SECONDS = 3600  # so long a token of a neighbour may live
NO_STORE = {"Cache-Control": "no-store", "Pragma": "no-cache"}


def house_tenant(request: Request) -> Tenant:
    found = request.app.state.house.tenants.get(request.path_params["tenant"])
    if found is None:
        raise OAuthProblem("invalid_request", "There is no such tenant", 404)
    return found  # type: ignore[no-any-return]


def guarded(handler: Handler) -> Handler:
    async def run(request: Request) -> Response:
        try:
            return await handler(request)
        except OAuthProblem as problem:
            headers = dict(NO_STORE)
            if problem.challenge:
                headers["WWW-Authenticate"] = problem.challenge
            if problem.allow:
                headers["Allow"] = problem.allow
            return JSONResponse({"error": problem.code, "error_description": problem.detail}, problem.status, headers)

    return run


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
            "grant_types_supported": [JWT_BEARER, "client_credentials", "urn:ietf:params:oauth:grant-type:token-exchange"],
            **{f"{name}_endpoint_auth_methods_supported": methods for name in ("token", "introspection", "revocation")},
            **{
                f"{name}_endpoint_auth_signing_alg_values_supported": signing
                for name in ("token", "introspection", "revocation")
            },
        }
    )


async def key_set(request: Request) -> Response:
    return JSONResponse({"keys": [house_tenant(request).key.public()]})


async def form(request: Request) -> dict[str, str]:
    """The form body; a parameter sent twice is refused (RFC 6749 §3.2)."""
    kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    if kind != "application/x-www-form-urlencoded":
        raise OAuthProblem("invalid_request", "The body must be application/x-www-form-urlencoded")
    body = await request.body()
    if len(body) > 100_000:
        raise OAuthProblem("invalid_request", "The body is too large", 413)
    try:
        pairs = parse_qsl(body.decode("utf-8"), keep_blank_values=True)
    except UnicodeDecodeError as problem:
        raise OAuthProblem("invalid_request", "The body is not UTF-8") from problem
    names = [n for n, v in pairs]
    if len(set(names)) != len(names):
        raise OAuthProblem("invalid_request", "A parameter is given twice")
    return {n: v for n, v in pairs if v}


def spend(tenant: Tenant, claims: Json, code: str) -> None:
    """Accept an assertion's `jti` once (RFC 7523 §3 item 7). Raises OAuthProblem."""
    now = tenant.clock.now()
    tenant.used_assertions = {k: v for k, v in tenant.used_assertions.items() if v > now}
    identity = claims.get("jti")
    if not isinstance(identity, str) or not identity:
        raise OAuthProblem(code, "jti is required", 401 if code == "invalid_client" else 400)
    key = f"{claims.get('iss')} {identity}"
    if key in tenant.used_assertions:
        raise OAuthProblem(code, "The assertion has been used", 401 if code == "invalid_client" else 400)
    tenant.used_assertions[key] = datetime.fromtimestamp(float(claims["exp"]), UTC)


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


def account_key(tenant: Tenant, principal: str, assertion: str) -> tuple[str, Json] | None:
    """The account's live credential that signed this assertion."""
    peeked = keys.peek(assertion)
    header = peeked[0] if peeked else {}
    wanted, algorithms = header.get("x5t#S256", header.get("kid")), tenant.described.get("assertion_algorithms")
    if algorithms and header.get("alg") not in algorithms:
        return None
    for identity, found in _taken(tenant, principal):
        named = wanted in (found.get("thumbprint"), identity) or (wanted is None and found.get("kind") != "certificate")
        if "publicKey" in found and named and keys.verify(assertion, found["publicKey"]):
            return identity, found
    return None


def _taken(tenant: Tenant, principal: str) -> list[tuple[str, Json]]:
    """The credentials of a principal that are taken at sign-in now; of one that ended a moment ago, as it was then."""
    out = []
    for identity in tenant.store.ever_by("Credential", "principal.value", principal):
        if taken(tenant, identity):
            data = tenant.store.current(KINDS["Credential"], identity) or tenant.store.before(
                "Credential", identity, tenant.limit("ended_still_taken_seconds")
            )
            out += [(identity, data)] if data is not None and data["principal"]["value"] == principal else []
    return out


def check_claims(tenant: Tenant, claims: Json, code: str, most: int = 0) -> None:
    """Audience and times (RFC 7523 §3); `most`: seconds, where the own limit is not for it. Raises OAuthProblem."""
    status = 401 if code == "invalid_client" else 400
    audience = claims.get("aud")
    audiences = audience if isinstance(audience, list) else [audience]
    if len(audiences) != 1 or audiences[0] not in (tenant.issuer, tenant.base + "/oauth/token"):
        raise OAuthProblem(code, "aud must be the issuer", status)
    fault = keys.lifetime_fault(claims, tenant.clock.now(), most or tenant.limit("assertion_seconds"))
    if fault:
        raise OAuthProblem(code, f"The assertion is refused: {fault}", status)


def _jwt_bearer(request: Request, tenant: Tenant, parameters: dict[str, str]) -> Json:
    assertion = parameters.get("assertion", "")
    peeked = keys.peek(assertion)
    if not assertion:
        raise OAuthProblem("invalid_request", "assertion is required")
    if peeked is None:
        raise OAuthProblem("invalid_grant", "The assertion is not a JWT")
    claims = peeked[1]
    from . import delegation

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
    from .signer import signed_by

    if found is None and not signed_by(tenant, principal, assertion):
        raise OAuthProblem("invalid_grant", "No live key of this account signed the assertion")
    if not account.get("active", True):
        raise OAuthProblem("invalid_grant", "The account is suspended")
    check_claims(tenant, claims, "invalid_grant")
    spend(tenant, claims, "invalid_grant")
    how = {"credential": found[0]} if found is not None else {"by": "signing"}
    return {"sub": principal, "client_id": principal, **how}


def basic_of(request: Request) -> tuple[str, str] | None:
    scheme, _, value = request.headers.get("authorization", "").partition(" ")
    if scheme.lower() != "basic":
        return None
    try:
        name, _, password = base64.b64decode(value.strip(), validate=True).decode().partition(":")  # RFC 7617 §2
    except (binascii.Error, UnicodeDecodeError) as problem:
        raise OAuthProblem("invalid_client", "The Basic credentials are not readable", 401, 'Basic realm="token"') from problem
    return name, password


def _client_basic(request: Request) -> tuple[str, str] | None:
    """Of a client, both were encoded as a form before (RFC 6749 §2.3.1); of a person with a password, nothing was."""
    found = basic_of(request)
    return (unquote_plus(found[0]), unquote_plus(found[1])) if found is not None else None


def authenticate(request: Request, tenant: Tenant, parameters: dict[str, str]) -> str:
    """Client authentication (RFC 6749 §2.3): the client id, or an account's principal id. Raises OAuthProblem."""
    basic, assertion = _client_basic(request), parameters.get("client_assertion")
    if basic and assertion:
        raise OAuthProblem("invalid_request", "Use one way of client authentication")
    if basic:
        client = tenant.clients.get(basic[0])
        right = (
            client is not None
            and client.secret_hash is not None
            and client.method == BASIC
            and secrets.compare_digest(client.secret_hash, hash_of(basic[1]))
        )
        if not right and not _client_secret(tenant, basic[0], basic[1]):
            raise OAuthProblem("invalid_client", "Unknown client or wrong secret", 401, 'Basic realm="token"')
        return basic[0]
    if not assertion or parameters.get("client_assertion_type") != ASSERTION_TYPE:
        raise OAuthProblem("invalid_client", "Client authentication is needed", 401, 'Basic realm="token"')
    return _by_assertion(tenant, parameters, assertion)


def live(tenant: Tenant, client_id: str) -> list[tuple[str, Json]]:
    """The usable credentials of a registered client."""
    registered = directory.client_of(tenant, client_id)
    return _taken(tenant, registered[0]) if registered else []


def _client_secret(tenant: Tenant, client_id: str, secret: str) -> str | None:
    """The client's live credential with this secret."""
    digest = hash_of(secret)
    return next((i for i, _ in live(tenant, client_id) if secrets.compare_digest(tenant.secrets.get(i, ""), digest)), None)


def _by_assertion(tenant: Tenant, parameters: dict[str, str], assertion: str) -> str:
    peeked = keys.peek(assertion)
    claims = peeked[1] if peeked else {}
    name = claims.get("sub")
    if not isinstance(name, str) or claims.get("iss") != name or parameters.get("client_id", name) != name:
        raise OAuthProblem("invalid_client", "iss and sub must both be the client id", 401)
    client = tenant.clients.get(name)
    if client is not None:
        known = (client.metadata.get("jwks") or {}).get("keys", [])
        right = client.method == SIGNED and any(keys.verify(assertion, k) for k in known if isinstance(k, dict))
    else:
        right = account_key(tenant, name, assertion) is not None or any(
            keys.verify(assertion, d["publicKey"]) for _, d in live(tenant, name) if "publicKey" in d
        )
    if not right:
        raise OAuthProblem("invalid_client", "No key of this client signed the assertion", 401)
    check_claims(tenant, claims, "invalid_client")
    spend(tenant, claims, "invalid_client")
    return name


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
    elif kind == "urn:ietf:params:oauth:grant-type:token-exchange":
        from .exchange import exchange

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
