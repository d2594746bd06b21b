"""The working interface (streams under bearer tokens) and the AuthZEN evaluation, both by the tenant's decision."""

from __future__ import annotations

from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from sigillum.sandbox.deciding.decide import decide
from sigillum.sandbox.deciding.signin import may_sign_in
from sigillum.sandbox.oauth.requests import NO_STORE, guarded, house_tenant
from sigillum.sandbox.oauth.tokens import bearer_claims
from sigillum.sandbox.worlds.clock import stamp
from sigillum.sandbox.worlds.world import Tenant

from . import secretstore
from .answers import bearer
from .errors import OAuthProblem
from .texts import loads

Json = dict[str, Any]
MOST_QUESTIONS = 500


def _permission(tenant: Tenant, method: str, thing: str) -> str:
    """The permission that a call stands for, by the profile's templates."""
    for name, entry in tenant.permissions.items():
        verb, _, template = entry["call"].partition(" ")
        if verb == method and template.split("/")[1] == thing:
            return name
    served = sorted(
        {e["call"].partition(" ")[0] for e in tenant.permissions.values() if e["call"].partition(" ")[2].split("/")[1] == thing}
    )
    if served:
        raise OAuthProblem("invalid_request", f"{method} is not served here", 405, allow=", ".join(served))
    raise OAuthProblem("invalid_request", "There is no such call here", 404)


def _way(tenant: Tenant, claims: Json) -> str:
    """How whoever presents this signed in."""
    if "delegation" in claims or claims.get("by"):
        return str(claims.get("by") or "delegation")
    return str((tenant.store.newest(str(claims.get("credential"))) or {}).get("kind", ""))


async def call(request: Request) -> Response:
    tenant = house_tenant(request)
    thing, place = request.path_params["thing"], request.path_params["place"]
    if thing == secretstore.THING:
        return await secretstore.serve(request, tenant, _permission(tenant, request.method, thing), place)
    claims = bearer_claims(request, tenant)
    permission = _permission(tenant, request.method, thing)
    if "delegation" in claims and permission not in claims["scope"].split():
        raise OAuthProblem(
            "insufficient_scope", f"The token has no scope {permission}", 403, 'Bearer error="insufficient_scope"'
        )
    used = None if "delegation" in claims else claims.get("credential")
    takes = tenant.permissions.get(permission, {}).get("takes")
    if takes and _way(tenant, claims) not in takes:
        raise OAuthProblem(
            "insufficient_scope", "This service does not take that kind of sign-in", 403, 'Bearer error="insufficient_scope"'
        )
    verdict = decide(tenant, claims["sub"], permission, place, used, token=True)
    if not verdict.allowed:
        raise OAuthProblem(
            "insufficient_scope", f"{permission} at {place} is refused", 403, 'Bearer error="insufficient_scope"'
        )
    items = tenant.streams.get(place)
    if items is None:
        raise OAuthProblem("invalid_request", "There is no stream at this place", 404)
    if request.method == "GET":
        most = tenant.limit("answer_items")
        return JSONResponse({"items": items[-most:], "total": len(items), "capped": len(items) > most})
    if request.method == "DELETE":
        items.clear()
        return JSONResponse({"deleted": True})
    return await _append(request, tenant, items)


async def _append(request: Request, tenant: Tenant, items: list[Json]) -> Response:
    try:
        body = loads(await request.body())
        fresh = body["items"]
        if not isinstance(fresh, list) or len(fresh) > 1000 or not all(isinstance(i, dict) for i in fresh):
            raise ValueError("items")
    except (ValueError, KeyError, TypeError) as problem:
        raise OAuthProblem("invalid_request", "The body must hold a list `items` of objects") from problem
    items.extend({"at": stamp(tenant.clock.now()), **item} for item in fresh)
    return JSONResponse({"appended": len(fresh)}, 201)


async def evaluation(request: Request) -> Response:
    """OpenID AuthZEN, one question or several: an administrator may ask about anybody, a principal about itself."""
    tenant = house_tenant(request)
    token = bearer(request)
    admin = tenant.admin_of(token) if token else None
    claims = None if admin else bearer_claims(request, tenant)
    try:
        body = loads(await request.body())
        if not isinstance(body, dict):
            raise TypeError("an object is needed")
    except (ValueError, TypeError) as problem:
        raise OAuthProblem("invalid_request", "The body must be a JSON object") from problem
    headers = {**NO_STORE, **{n: v for n, v in request.headers.items() if n == "x-request-id"}}
    asked = body.get("evaluations")
    if not request.url.path.endswith("/evaluations"):
        return JSONResponse(_evaluate(tenant, claims, body), headers=headers)
    if asked is None:  # as one question
        return JSONResponse(_evaluate(tenant, claims, body), headers=headers)
    if not isinstance(asked, list) or len(asked) > MOST_QUESTIONS or not all(isinstance(a, dict) for a in asked):
        raise OAuthProblem("invalid_request", f"evaluations must be a list of {MOST_QUESTIONS} objects at most")
    usual = {k: v for k, v in body.items() if k not in ("evaluations", "options")}
    stops = _semantics(body)
    out = list[Json]()
    for one in asked:
        out.append(_answer(tenant, claims, {**usual, **one}))
        if out[-1]["decision"] is stops:
            break
    return JSONResponse({"evaluations": out}, headers=headers)


SEMANTICS = {"execute_all": None, "deny_on_first_deny": False, "permit_on_first_permit": True}  # at which decision it stops


def _semantics(body: Json) -> bool | None:
    """Raises OAuthProblem."""
    options = body.get("options", {})
    name = options.get("evaluations_semantic", "execute_all") if isinstance(options, dict) else None
    if not isinstance(name, str) or name not in SEMANTICS:
        raise OAuthProblem("invalid_request", f"evaluations_semantic is one of {', '.join(SEMANTICS)}")
    return SEMANTICS[name]


def _answer(tenant: Tenant, claims: Json | None, body: Json) -> Json:
    """One of several: what is wrong with it spoils none of the others."""
    try:
        return _evaluate(tenant, claims, body)
    except OAuthProblem as problem:
        return {"decision": False, "context": {"error": {"status": problem.status, "message": problem.detail}}}


def _evaluate(tenant: Tenant, claims: Json | None, body: Json) -> Json:
    """One question and its answer. Raises OAuthProblem."""
    try:
        subject, action = body["subject"]["id"], body["action"]["name"]
        kind, resource = body["resource"]["type"], body["resource"]["id"]
        if not all(isinstance(v, str) and v for v in (subject, body["subject"]["type"], action, kind, resource)):
            raise TypeError("text is needed")
        if not isinstance(body.get("context", {}), dict):
            raise TypeError("an object is needed")
    except (KeyError, TypeError, AttributeError) as problem:
        raise OAuthProblem(
            "invalid_request", "type and id of subject and resource, and the name of an action, are needed"
        ) from problem
    if claims is not None and claims["sub"] != subject:
        raise OAuthProblem(
            "insufficient_scope", "A principal may ask about itself only", 403, 'Bearer error="insufficient_scope"'
        )
    credential = claims.get("credential") if claims else (body.get("context") or {}).get("credential")
    context = body.get("context") or {}
    if action == "sign-in" and claims is None:
        verdict = may_sign_in(tenant, subject, context)
        return {"decision": verdict.allowed, "context": {"reason": verdict.reason}}
    person = context.get("on_behalf_of")
    spot = f"@{resource}" if kind == "principal" else resource
    verdict = decide(tenant, subject, action, spot, credential, person, token=claims is not None)
    return {"decision": verdict.allowed, "context": {"reason": verdict.reason}}


async def configuration(request: Request) -> Response:
    tenant = house_tenant(request)
    return JSONResponse(
        {
            "policy_decision_point": tenant.base,
            "access_evaluation_endpoint": tenant.base + "/access/v1/evaluation",
            "access_evaluations_endpoint": tenant.base + "/access/v1/evaluations",
        }
    )


def routes() -> list[Route]:
    return [
        Route("/{tenant}/work/{thing}/{place:path}", guarded(call), methods=["GET", "POST", "PUT", "DELETE"]),
        Route("/{tenant}/access/v1/evaluation", guarded(evaluation), methods=["POST"]),
        Route("/{tenant}/access/v1/evaluations", guarded(evaluation), methods=["POST"]),
        Route("/.well-known/authzen-configuration/{tenant}", guarded(configuration)),
        Route("/{tenant}/.well-known/authzen-configuration", guarded(configuration)),
    ]
