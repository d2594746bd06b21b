"""An interface of a tenant's own, for a world that says `speaks: own`: hosts and their keys, a policy document at each site
with a revision in it, and makings that finish later. The engine behind it is the same: arrival, clock, limits, decisions.
"""

from __future__ import annotations

import json
from collections.abc import Awaitable, Callable, Iterator
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from sigillum.sandbox.oauth.requests import house_tenant
from sigillum.sandbox.oauth.tokens import bearer_claims
from sigillum.sandbox.scim import rules
from sigillum.sandbox.scim.attributes import ACCOUNT
from sigillum.sandbox.scim.resources import body_to_resource
from sigillum.sandbox.scim.schema_identities import NEVER
from sigillum.sandbox.scim.schemas import KINDS
from sigillum.sandbox.scim.store import version_of
from sigillum.sandbox.worlds.world import Admin, Tenant

from .answers import bearer, read_json
from .errors import OAuthProblem, ScimProblem

Json = dict[str, Any]
Serve = Callable[[Request, Tenant, Admin], Awaitable[Response]]
PAGE = 20


def _guarded(serve: Serve) -> Callable[[Request], Awaitable[Response]]:
    """As an administrator of a tenant that speaks so; problems in its own form."""

    async def run(request: Request) -> Response:
        try:
            tenant = house_tenant(request)
            if tenant.described.get("speaks") != "own":
                raise ScimProblem(404, "there is no such address")
            token = bearer(request)
            admin = tenant.admin_of(token) if token else None
            if admin is None:
                raise ScimProblem(401, "a token of an administrator is needed")
            return await serve(request, tenant, admin)
        except ScimProblem as problem:
            code = "taken" if problem.scim_type == "uniqueness" else "revision" if problem.status == 412 else "no"
            return JSONResponse({"problem": {"code": code, "text": problem.detail}}, problem.status)
        except OAuthProblem as problem:
            return JSONResponse({"problem": {"code": "no", "text": problem.detail}}, problem.status)

    return run


# --- resources of the engine ------------------------------------------------------------------------------------------
def _link(identity: str) -> Json:
    return {"value": identity, "$ref": identity}


def _make(tenant: Tenant, admin: Admin, name: str, body: Json) -> str:
    kind = KINDS[name]
    rules.demand(tenant, admin, kind)
    data = body_to_resource(kind, {"schemas": [kind.schema.id, *([ACCOUNT] if name == "User" else [])], **body})
    rules.on_create(tenant, kind, data, admin)
    record = tenant.store.create(kind, data, admin.domain)
    rules.after_create(tenant, kind, record.id, data)
    return record.id


def _end(tenant: Tenant, admin: Admin, name: str, identity: str) -> None:
    kind = KINDS[name]
    rules.demand(tenant, admin, kind)
    current = tenant.store.current(kind, identity)
    if current is None:
        raise ScimProblem(404, f"there is nothing called {identity}")
    rules.before_delete(tenant, kind, identity)
    tenant.store.delete(kind, identity)
    rules.after_delete(tenant, kind, identity, current)


def _seen(tenant: Tenant, name: str) -> Iterator[tuple[str, Json]]:
    """What look-ups show by now."""
    for record in tenant.store.records[name].values():
        shown = tenant.store.seen(record)
        if shown is not None:
            yield record.id, shown[0]


def _one(tenant: Tenant, name: str, identity: str) -> Json:
    found = next((d for i, d in _seen(tenant, name) if i == identity), None)
    if found is None:
        raise ScimProblem(404, f"there is nothing called {identity}")
    return found


async def _body(request: Request, *wanted: str) -> Json:
    body = await read_json(request)
    if not isinstance(body, dict) or not all(isinstance(body.get(n), str) for n in wanted):
        raise ScimProblem(422, f"the body has to hold {', '.join(wanted) or 'an object'}")
    return body


# --- hosts ------------------------------------------------------------------------------------------------------------
def _host(identity: str, data: Json) -> Json:
    return {
        "host": identity,
        "tag": data["userName"],
        "caption": data.get("displayName", ""),
        "blocked": not data.get("active", True),
        "remark": data.get("externalId", ""),
    }


async def hosts(request: Request, tenant: Tenant, admin: Admin) -> Response:
    if request.method == "GET":
        after = request.query_params.get("after", "")
        rest = sorted((i, d) for i, d in _seen(tenant, "User") if i > after and tenant.progress(i) != "accepted")
        more = {"after": rest[PAGE - 1][0]} if len(rest) > PAGE else {}
        return JSONResponse({"hosts": [_host(i, d) for i, d in rest[:PAGE]], **more})
    body = await _body(request, "tag")
    made = _make(
        tenant,
        admin,
        "User",
        {
            "userName": body["tag"],
            "displayName": str(body.get("caption", "")),
            "active": True,
            "externalId": str(body.get("remark") or "") or None,
        },
    )
    return JSONResponse({"operation": made, "text": "it is being set up"}, 202)


async def operation(request: Request, tenant: Tenant, admin: Admin) -> Response:
    """How far a making is; it is called like what it makes."""
    identity = request.path_params["identity"]
    if tenant.store.current(KINDS["User"], identity) is None:
        raise ScimProblem(404, "there is no such operation")
    done = tenant.progress(identity) in (None, "ready")
    return JSONResponse({"state": "done" if done else "running", **({"host": identity} if done else {})})


async def host(request: Request, tenant: Tenant, admin: Admin) -> Response:
    kind, identity = KINDS["User"], request.path_params["identity"]
    if request.method == "GET":
        return JSONResponse(_host(identity, _one(tenant, "User", identity)))
    if request.method == "DELETE":
        _end(tenant, admin, "User", identity)
        return Response(status_code=204)
    rules.demand(tenant, admin, kind)
    before, body = tenant.store.current(kind, identity), await _body(request)
    if before is None:
        raise ScimProblem(404, f"there is nothing called {identity}")
    data = {
        **before,
        **({"displayName": str(body["caption"])} if "caption" in body else {}),
        **({"active": body["blocked"] is not True} if "blocked" in body else {}),
    }
    rules.on_update(tenant, kind, identity, data, before)
    tenant.store.update(kind, identity, data, admin.domain)
    return JSONResponse(_host(identity, data))


# --- keys -------------------------------------------------------------------------------------------------------------
async def keys(request: Request, tenant: Tenant, admin: Admin) -> Response:
    owner = request.path_params["identity"]
    _one(tenant, "User", owner)
    if request.method == "GET":
        theirs = ((i, d) for i, d in _seen(tenant, "Credential") if d["principal"]["value"] == owner)
        return JSONResponse(
            {
                "keys": [
                    {
                        "key": i,
                        "caption": d["name"],
                        "until": d["validUntil"],
                        "remark": d.get("externalId", ""),
                        "seen": tenant.last_used(i).get("lastUsedAt"),
                    }
                    for i, d in theirs
                ]
            }
        )
    body = await _body(request, "caption", "until")
    made = _make(
        tenant,
        admin,
        "Credential",
        {
            "principal": _link(owner),
            "name": body["caption"],
            "kind": "api-token",
            "validUntil": body["until"],
            "externalId": str(body.get("remark") or "") or None,
        },
    )
    return JSONResponse({"key": made, "text": tenant.unread.pop(made)}, 201, {"Cache-Control": "no-store"})


async def key(request: Request, tenant: Tenant, admin: Admin) -> Response:
    _end(tenant, admin, "Credential", request.path_params["key"])
    return Response(status_code=204)


# --- sites and their policies -----------------------------------------------------------------------------------------
async def sites(request: Request, tenant: Tenant, admin: Admin) -> Response:
    """Names, and what lies above: nobody says a path here."""
    by_path = {d["path"]: i for i, d in _seen(tenant, "Place")}
    return JSONResponse(
        {
            "sites": [
                {"site": i, "name": d["path"].rpartition("/")[2], "above": by_path.get(d["path"].rpartition("/")[0])}
                for i, d in _seen(tenant, "Place")
            ]
        }
    )


def _entries(tenant: Tenant, site: str) -> dict[tuple[str, str, str], str]:
    """The grants at a site: (role, host, end) and each one's id."""
    names = {i: d["name"] for i, d in tenant.store.all_current("Role")}
    return {
        (names[d["role"]["value"]], d["principal"]["value"], d.get("validUntil", NEVER).replace(NEVER, "")): i
        for i, d in tenant.store.all_current("Grant")
        if d["place"]["value"] == site
    }


def _policy(entries: dict[tuple[str, str, str], str]) -> Json:
    """Entries of one role and end are joined, and everything is sorted."""
    joined = dict[tuple[str, str], list[str]]()
    for role, who, until in sorted(entries):
        joined.setdefault((role, until), []).append(f"host:{who}")
    shown = [{"role": role, "hosts": who, **({"until": until} if until else {})} for (role, until), who in joined.items()]
    return {"entries": shown, "revision": version_of({"entries": shown}).strip('"')}


def _wanted(body: Json) -> set[tuple[str, str, str]]:
    try:
        return {
            (str(e["role"]), str(h).removeprefix("host:"), str(e.get("until") or ""))
            for e in body["entries"]
            for h in e["hosts"]
        }
    except (LookupError, TypeError, AttributeError) as problem:
        raise ScimProblem(422, "entries: each has a role and hosts") from problem


async def policy(request: Request, tenant: Tenant, admin: Admin) -> Response:
    site = request.path_params["identity"]
    _one(tenant, "Place", site)
    stands = _entries(tenant, site)
    if request.method == "GET":
        return JSONResponse(_policy(stands))
    body = await _body(request, "revision")
    if body["revision"] != _policy(stands)["revision"]:
        raise ScimProblem(412, "somebody has written it meanwhile")
    wanted, roles = _wanted(body), {d["name"]: i for i, d in tenant.store.all_current("Role")}
    for role, _, _ in wanted:
        if role not in roles:
            raise ScimProblem(422, f"there is no role {json.dumps(role)}")
    for role, who, until in sorted(wanted - set(stands)):
        _make(
            tenant,
            admin,
            "Grant",
            {
                "principal": _link(who),
                "role": _link(roles[role]),
                "place": _link(site),
                **({"validUntil": until} if until else {}),
            },
        )
    for gone in sorted(set(stands) - wanted):
        _end(tenant, admin, "Grant", stands[gone])
    return JSONResponse(_policy(_entries(tenant, site)))


async def roles(request: Request, tenant: Tenant, admin: Admin) -> Response:
    return JSONResponse(
        {
            "roles": [
                {"role": d["name"], "caption": d.get("display", ""), "may": [p["value"] for p in d.get("permissions", [])]}
                for _, d in _seen(tenant, "Role")
            ]
        }
    )


async def self_(request: Request) -> Response:
    """Whose key it is that was presented."""
    try:
        tenant = house_tenant(request)
        return JSONResponse({"host": bearer_claims(request, tenant)["sub"]})
    except OAuthProblem as problem:
        return JSONResponse({"problem": {"code": "no", "text": problem.detail}}, problem.status)


def routes() -> list[Route]:
    table: list[tuple[str, Serve, list[str]]] = [
        ("/hosts", hosts, ["GET", "POST"]),
        ("/hosts/{identity}", host, ["GET", "PATCH", "DELETE"]),
        ("/hosts/{identity}/keys", keys, ["GET", "POST"]),
        ("/hosts/{identity}/keys/{key}", key, ["DELETE"]),
        ("/operations/{identity}", operation, ["GET"]),
        ("/sites", sites, ["GET"]),
        ("/sites/{identity}/policy", policy, ["GET", "PUT"]),
        ("/roles", roles, ["GET"]),
    ]
    return [
        Route("/{tenant}/api/self", self_),
        *(Route(f"/{{tenant}}/api{path}", _guarded(serve), methods=methods) for path, serve, methods in table),
    ]
