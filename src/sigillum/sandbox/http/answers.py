"""What every endpoint shares: answers, errors, who asks, bodies within bounds."""

from __future__ import annotations

import json
from collections.abc import Awaitable, Callable
from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from sigillum.sandbox.scim.attributes import Kind
from sigillum.sandbox.scim.schemas import BY_ENDPOINT
from sigillum.sandbox.worlds.world import Admin, Tenant

from .errors import ScimProblem
from .texts import loads

Json = dict[str, Any]
MEDIA = "application/scim+json"
MESSAGES = "urn:ietf:params:scim:api:messages:2.0:"
MAX_BODY_BYTES = 1_000_000
MAX_PAGE = 200
ALL_METHODS = ["GET", "POST", "PUT", "PATCH", "DELETE"]
Handler = Callable[[Request], Awaitable[Response]]


def answer(body: Json | None, status: int = 200, headers: dict[str, str] | None = None) -> Response:
    text = b"" if body is None else json.dumps(body).encode()
    return Response(text, status, headers, media_type=MEDIA if body is not None else None)


def problem_answer(problem: ScimProblem) -> Response:
    body: Json = {"schemas": [MESSAGES + "Error"], "status": str(problem.status), "detail": problem.detail}
    if problem.scim_type:
        body["scimType"] = problem.scim_type
    headers = {"WWW-Authenticate": 'Bearer realm="administration"'} if problem.status == 401 else {}
    headers |= {"Allow": problem.allow} if problem.allow else {}
    return answer(body, problem.status, headers)


def tenant_of(request: Request) -> Tenant:
    found = request.app.state.house.tenants.get(request.path_params["tenant"])
    if found is None or found.described.get("speaks") == "own":
        raise ScimProblem(404, "There is no such tenant")
    return found  # type: ignore[no-any-return]


def bearer(request: Request) -> str | None:
    scheme, _, token = request.headers.get("authorization", "").partition(" ")
    return token.strip() if scheme.lower() == "bearer" and token.strip() else None


def admin_of(request: Request, tenant: Tenant) -> Admin:
    token = bearer(request)
    admin = tenant.admin_of(token) if token else None
    if admin is None:
        raise ScimProblem(401, "An administrator's bearer token is needed")
    return admin


def kind_of(request: Request) -> Kind:
    kind = BY_ENDPOINT.get(request.path_params["endpoint"].lower())
    if kind is None or kind.name not in tenant_of(request).kinds:
        raise ScimProblem(404, f"There is no endpoint {request.path_params['endpoint']}")
    return kind


async def read_json(request: Request) -> Any:
    """The JSON body, bounded. Raises ScimProblem."""
    kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    if kind not in (MEDIA, "application/json"):
        raise ScimProblem(415, f"The body must be {MEDIA}")
    body = await request.body()
    if len(body) > MAX_BODY_BYTES:
        raise ScimProblem(413, "The body is too large")
    try:
        return loads(body)
    except ValueError as problem:
        raise ScimProblem(400, "The body is not JSON", "invalidSyntax") from problem


def guarded(handler: Handler) -> Handler:
    async def run(request: Request) -> Response:
        try:
            return await handler(request)
        except ScimProblem as problem:
            return problem_answer(problem)

    return run
