"""Who asks at the token endpoint: client authentication (RFC 6749 §2.3) and assertions (RFC 7523 §3)."""

from __future__ import annotations

import secrets
from datetime import UTC, datetime
from urllib.parse import unquote_plus

from starlette.requests import Request

from sigillum.sandbox.deciding.decide import taken
from sigillum.sandbox.http.errors import OAuthProblem
from sigillum.sandbox.scim import directory
from sigillum.sandbox.scim.schemas import KINDS
from sigillum.sandbox.worlds.world import Tenant, hash_of

from . import keys
from .requests import Json, basic_of

BASIC, SIGNED = "client_secret_basic", "private_key_jwt"


ASSERTION_TYPE = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"


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
