"""A secret store: containers are places, secrets stand below them with their versions, and every read is written down."""

from __future__ import annotations

from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from sigillum.sandbox.deciding.decide import decide
from sigillum.sandbox.oauth.requests import NO_STORE
from sigillum.sandbox.oauth.tokens import bearer_claims
from sigillum.sandbox.worlds.clock import stamp
from sigillum.sandbox.worlds.world import Tenant

from .answers import bearer
from .errors import OAuthProblem
from .texts import loads

Json = dict[str, Any]
THING = "secrets"
LONGEST = 100_000  # characters of one value


def _container(tenant: Tenant, path: str) -> str:
    """The place in which a secret stands: the longest one above it, or the path itself."""
    known = {d["path"] for _, d in tenant.store.all_current("Place")}
    parts = path.split("/")
    return next((p for n in range(len(parts), 0, -1) if (p := "/".join(parts[:n])) in known), "")


def _who(request: Request, tenant: Tenant, permission: str, container: str) -> str:
    """Who asks: an administrator who may handle secrets, or somebody whose token opens this container. Raises OAuthProblem."""
    token = bearer(request)
    admin = tenant.admin_of(token) if token else None
    if admin is not None:
        if "secrets" not in admin.powers:
            raise OAuthProblem("insufficient_scope", f"{admin.name} lacks the power 'secrets'", 403)
        return admin.name
    claims = bearer_claims(request, tenant)
    if not decide(tenant, claims["sub"], permission, container, claims.get("credential"), token=True).allowed:
        raise OAuthProblem(
            "insufficient_scope", f"{permission} at {container} is refused", 403, 'Bearer error="insufficient_scope"'
        )
    return str(claims["sub"])


async def serve(request: Request, tenant: Tenant, permission: str, path: str) -> Response:
    """Read, write or destroy a secret; a container lists what stands in it. Raises OAuthProblem."""
    container = _container(tenant, path)
    if not container:
        raise OAuthProblem("invalid_request", "There is no such container", 404)
    who = _who(request, tenant, permission, container)
    if path == container:
        return _listed(request, tenant, container)
    if request.method == "PUT":
        return await _write(request, tenant, path)
    versions = tenant.vault.get(path)
    if not versions:
        raise OAuthProblem("invalid_request", "There is no such secret", 404)
    if request.method == "DELETE":
        del tenant.vault[path]
        return Response(status_code=204, headers=NO_STORE)
    wanted = request.query_params.get("version", str(versions[-1]["version"]))
    found = next((v for v in versions if str(v["version"]) == wanted), None)
    if found is None:
        raise OAuthProblem("invalid_request", "There is no such version", 404)
    tenant.reads.append({"secret": path, "version": found["version"], "by": who, "at": stamp(tenant.clock.now())})
    return JSONResponse({"secret": path, **found}, headers=NO_STORE)


def _listed(request: Request, tenant: Tenant, container: str) -> Response:
    if request.method != "GET":
        raise OAuthProblem("invalid_request", "Name a secret of this container", 400)
    inside = sorted(p for p in tenant.vault if _container(tenant, p) == container)
    items = [{"secret": p, "versions": [v["version"] for v in tenant.vault[p]]} for p in inside]
    if "audit" in request.query_params:
        return JSONResponse({"reads": [r for r in tenant.reads if r["secret"] in inside]}, headers=NO_STORE)
    return JSONResponse({"items": items, "total": len(items)}, headers=NO_STORE)


async def _write(request: Request, tenant: Tenant, path: str) -> Response:
    try:
        value = loads(await request.body())["value"]
        if not isinstance(value, str) or not 0 < len(value) <= LONGEST:
            raise ValueError("value")
    except (ValueError, KeyError, TypeError) as problem:
        raise OAuthProblem("invalid_request", "The body must hold a text `value`") from problem
    versions = tenant.vault.setdefault(path, [])
    number = versions[-1]["version"] + 1 if versions else 1
    versions.append({"version": number, "at": stamp(tenant.clock.now()), "value": value})
    return JSONResponse({"version": number}, 201, headers=NO_STORE)
