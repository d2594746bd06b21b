"""Tokens of machines, and their exchange for access tokens (RFC 8693)."""

from __future__ import annotations

import secrets
from datetime import UTC, datetime
from typing import Any

import urllib3
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from sigillum.sandbox.deciding import cluster
from sigillum.sandbox.deciding.trusts import matches
from sigillum.sandbox.http.errors import OAuthProblem
from sigillum.sandbox.http.texts import loads
from sigillum.sandbox.scim.schemas import KINDS
from sigillum.sandbox.worlds.clock import stamp
from sigillum.sandbox.worlds.world import Tenant

from . import acting, keys
from .acting import act_of, actor_of
from .requests import NO_STORE, guarded, house_tenant
from .signer import attached

Json = dict[str, Any]
EXCHANGE = "urn:ietf:params:oauth:grant-type:token-exchange"
JWT, ACCESS = "urn:ietf:params:oauth:token-type:jwt", "urn:ietf:params:oauth:token-type:access_token"
MOST_DEPTH = 8
FETCH_SECONDS = 3.0
ACCESS_TOKENS = ("at+jwt", "application/at+jwt")


# --- the exchange -----------------------------------------------------------------------------------------------------
def _key_set(request: Request, trust: Json) -> list[Json]:
    """The keys of an outside issuer: pinned ones, or those of a tenant of this world."""
    if trust.get("keys", "discovery") != "discovery":
        found = loads(trust["keys"].encode())
        return [k for k in found.get("keys", []) if isinstance(k, dict)] if isinstance(found, dict) else []
    theirs = next((t for t in request.app.state.house.tenants.values() if t.issuer == trust["issuer"]), None)
    return [theirs.key.public()] if theirs is not None else _found(str(trust["issuer"]))


def _found(issuer: str) -> list[Json]:
    """The keys of an issuer on this machine that is none of ours, as its configuration says (OpenID Connect Discovery §4)."""
    host = issuer.removeprefix("http://").partition("/")[0].rpartition(":")[0]
    if host not in ("127.0.0.1", "localhost", "[::1]") or not issuer.startswith("http://"):
        return []
    try:
        said = _fetched(issuer.rstrip("/") + "/.well-known/openid-configuration")
        where = str(said.get("jwks_uri"))
        if said.get("issuer") != issuer or not where.startswith(issuer.rstrip("/") + "/"):
            return []
        return [k for k in _fetched(where).get("keys", []) if isinstance(k, dict)]
    except (urllib3.exceptions.HTTPError, ValueError):
        return []


def _fetched(address: str) -> Json:
    answer = urllib3.request("GET", address, timeout=FETCH_SECONDS, retries=False, redirect=False, preload_content=False)
    found = loads(answer.read(keys.MOST_BYTES)) if answer.status == 200 else {}
    return found if isinstance(found, dict) else {}


def _genuine(token: str, header: Json, key_set: list[Json]) -> bool:
    """Signed by a key of the set that is for signing, of the algorithm's kind, and called as the token says."""
    kinds = {"RS256": "RSA", "ES256": "EC", "Ed25519": "OKP", "EdDSA": "OKP"}
    for key in key_set[:100]:
        fits = key.get("kty") == kinds.get(str(header.get("alg"))) and key.get("use", "sig") == "sig"
        named = "kid" not in header or key.get("kid") == header["kid"]
        both = {key.get("alg", header.get("alg")), header.get("alg")}
        public = {n: v for n, v in key.items() if n in ("kty", "crv", "x", "y", "n", "e")}
        if fits and named and (len(both) == 1 or both == {"Ed25519", "EdDSA"}) and keys.verify(token, public):
            return True
    return False


def _depth(value: Any) -> int:
    inner = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    return 1 + max((_depth(v) for v in inner), default=0) if isinstance(value, (dict, list)) else 0


def exchange(request: Request, tenant: Tenant, parameters: dict[str, str]) -> Json:
    """Whom an outside token may act as: `audience` names the trust, `act_as` the principal id (RFC 8693 §2.1).

    Raises OAuthProblem.
    """
    token, kind = parameters.get("subject_token", ""), parameters.get("subject_token_type")
    if not token or kind not in (ACCESS, JWT, "urn:ietf:params:oauth:token-type:id_token"):
        raise OAuthProblem("invalid_request", "subject_token and its type, jwt or access_token, are needed")
    if parameters.get("requested_token_type", ACCESS) != ACCESS:
        raise OAuthProblem("invalid_request", "Access tokens are given here")
    actors = {n: parameters[n] for n in ("actor_token", "actor_token_type") if n in parameters}
    if actors and (len(actors) != 2 or actors["actor_token_type"] != ACCESS or kind == ACCESS):
        raise OAuthProblem("invalid_request", "An actor's token is an access token, stands beside its type and a jwt")
    if kind == ACCESS:
        return acting.exchange(request, tenant, parameters)
    found = tenant.store.current(KINDS["Trust"], parameters.get("audience", ""))
    account = tenant.store.current(KINDS["User"], parameters.get("act_as", ""))

    def refuse(detail: str) -> OAuthProblem:
        return OAuthProblem("invalid_request", detail)  # whatever is wrong with it (RFC 8693 §2.2.2)

    if found is None or account is None or found["principal"]["value"] != parameters["act_as"]:
        raise OAuthProblem("invalid_target", "audience has to be a trust of the principal that act_as names")
    peeked = keys.peek(token)
    if peeked is None or _depth(peeked[1]) > MOST_DEPTH:
        raise refuse("The subject token is no JWT")
    header, claims = peeked
    kind = str(header.get("typ", "JWT")).lower()
    if header.get("alg") not in keys.ALGORITHMS or "crit" in header or kind in ACCESS_TOKENS:
        raise refuse("The subject token is of no form that is taken here")
    if claims.get("iss") != found["issuer"] or not _genuine(token, header, _key_set(request, found)):
        raise refuse("The subject token is not one of that issuer's")
    fault = keys.lifetime_fault(claims, tenant.clock.now(), 86_400)
    if fault:
        raise refuse(f"The subject token is refused: {fault}")
    if not matches(found, claims, account["userName"]):
        raise refuse("The subject token does not match the trust")
    if not account.get("active", True):
        raise refuse("The account is suspended")
    given = {"sub": parameters["act_as"], "client_id": parameters["act_as"], "by": "trust", "until": int(claims["exp"])}
    return _with_actor(tenant, given, parameters["actor_token"], claims) if "actor_token" in parameters else given


def _with_actor(tenant: Tenant, given: Json, token: str, claims: Json) -> Json:
    """The token names who acts (RFC 8693 §4.1), and ends no later than the actor's; `may_act` (§4.4) says who that may be."""
    actor, may = actor_of(tenant, token), claims.get("may_act")
    if isinstance(may, dict) and may.get("sub") != actor["sub"]:
        raise OAuthProblem("invalid_request", "The subject token names somebody else who may act")
    ends = [int(e) for e in (given["until"], actor.get("exp")) if e is not None]
    return {**given, "act": act_of(actor), "until": min(ends)}


# --- machines that have an identity -----------------------------------------------------------------------------------
async def machine_token(request: Request) -> Response:
    """What a machine gets from where it runs. Nobody else can reach that address."""
    given = given_to(house_tenant(request), request.path_params["name"], request.query_params.get("audience", ""))
    return JSONResponse(given, headers=NO_STORE)


def given_to(tenant: Tenant, name: str, audience: str) -> Json:
    """A token of a machine's own, for an audience. Raises OAuthProblem."""
    of_host = attached(tenant, name)
    if of_host is not None:
        return {"token": tenant.key.sign("at+jwt", of_host), "ends": stamp(datetime.fromtimestamp(of_host["exp"], UTC))}
    described = next((m for m in tenant.described.get("machines", []) if m["name"] == name), None)
    workload = cluster.claims_of(tenant, name) if described is None else None
    if workload is not None:
        described = {"subject": workload[0], "claims": workload[1]}
    if described is None or not audience:
        raise OAuthProblem("invalid_request", "There is no such machine, or no audience is named", 404)
    now = int(tenant.clock.now().timestamp())
    claims = {
        **described.get("claims", {}),
        "iss": tenant.issuer,
        "sub": described["subject"],
        "aud": audience,
        "iat": now,
        "nbf": now,
        "exp": now + int(described.get("lives", 3600)),
        "jti": secrets.token_hex(8),
    }
    return {"token": tenant.key.sign("JWT", claims), "ends": stamp(datetime.fromtimestamp(claims["exp"], UTC))}


async def configuration(request: Request) -> Response:
    """OpenID Connect Discovery §4."""
    tenant = house_tenant(request)
    return JSONResponse(
        {
            "issuer": tenant.issuer,
            "jwks_uri": tenant.base + "/oauth/keys",
            "token_endpoint": tenant.base + "/oauth/token",
            "response_types_supported": ["id_token"],
            "subject_types_supported": ["public"],
            "id_token_signing_alg_values_supported": ["RS256"],
        }
    )


def routes() -> list[Route]:
    return [
        Route("/{tenant}/machines/{name}/token", guarded(machine_token)),
        Route("/{tenant}/.well-known/openid-configuration", guarded(configuration)),
    ]
