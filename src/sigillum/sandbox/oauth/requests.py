"""What every endpoint of the authorization server begins with: its tenant, the form, Basic credentials, and refusals."""

from __future__ import annotations

import base64
import binascii
from typing import Any
from urllib.parse import parse_qsl

from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from sigillum.sandbox.http.answers import Handler
from sigillum.sandbox.http.errors import OAuthProblem
from sigillum.sandbox.worlds.world import Tenant

Json = dict[str, Any]


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


def basic_of(request: Request) -> tuple[str, str] | None:
    scheme, _, value = request.headers.get("authorization", "").partition(" ")
    if scheme.lower() != "basic":
        return None
    try:
        name, _, password = base64.b64decode(value.strip(), validate=True).decode().partition(":")  # RFC 7617 §2
    except (binascii.Error, UnicodeDecodeError) as problem:
        raise OAuthProblem("invalid_client", "The Basic credentials are not readable", 401, 'Basic realm="token"') from problem
    return name, password
