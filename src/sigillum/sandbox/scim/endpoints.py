"""The SCIM interface (RFC 7644): resources, searches, discovery, and the secret of a credential."""

from __future__ import annotations

import hashlib
import hmac
import json
import secrets
from collections.abc import Callable
from typing import Any

from joserfc import jwe
from joserfc.jwk import JWKRegistry
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

from sigillum.sandbox.http.answers import (
    ALL_METHODS,
    MAX_PAGE,
    MESSAGES,
    Handler,
    admin_of,
    answer,
    guarded,
    kind_of,
    read_json,
    tenant_of,
)
from sigillum.sandbox.http.errors import ScimProblem
from sigillum.sandbox.worlds.clock import moment_of
from sigillum.sandbox.worlds.world import Admin, Tenant

from . import filters, patch, rules
from .attributes import CORE, Kind, Schema
from .resources import attribute, body_to_resource, holder, show, split_urn, value_of
from .schemas import KINDS
from .store import Record, meta_of

Json = dict[str, Any]


# --- one resource -------------------------------------------------------------------------------------
def _lists(query: Json, name: str) -> list[str]:
    value = query.get(name) or []
    return [n.strip() for n in value.split(",") if n.strip()] if isinstance(value, str) else list(value)


def render(tenant: Tenant, admin: Admin, kind: Kind, record: Record, query: Json, *, fresh: bool = False) -> Json:
    """A resource as shown; `fresh` shows what was just written, otherwise what look-ups see."""
    seen = (record.data, record.changed, record.version) if fresh else tenant.store.seen(record)
    data, changed, version = seen or (None, record.changed, "")
    if data is None:
        raise ScimProblem(404, f"There is no {kind.name} {record.id}")
    full = {
        "schemas": data["schemas"],
        "id": record.id,
        **rules.computed(tenant, admin, kind, record.id, data),
        "meta": meta_of(kind, record, tenant.scim, changed, version),
    }
    attributes, excluded = _lists(query, "attributes"), _lists(query, "excludedAttributes")
    if attributes and excluded:
        raise ScimProblem(400, "attributes and excludedAttributes exclude each other", "invalidValue")
    return show(kind, full, attributes, excluded)


async def create(request: Request) -> Response:
    tenant = tenant_of(request)
    admin, kind = admin_of(request, tenant), kind_of(request)
    rules.demand(tenant, admin, kind)
    data = body_to_resource(kind, await read_json(request))
    rules.on_create(tenant, kind, data, admin)
    record = tenant.store.create(kind, data, admin.domain)
    rules.after_create(tenant, kind, record.id, data)
    shown = render(tenant, admin, kind, record, dict(request.query_params), fresh=True)
    location = f"{tenant.scim}/{kind.endpoint}/{record.id}"
    accepted = record.id in tenant.slow  # RFC 9110 §15.3.3: it is finished later, if at all
    return answer(shown, 202 if accepted else 201, {"Location": location, "ETag": record.version})


def _matches_etag(header: str, version: str) -> bool:
    return header.strip() == "*" or version in [v.strip() for v in header.split(",")]


async def one(request: Request) -> Response:
    tenant = tenant_of(request)
    admin, kind = admin_of(request, tenant), kind_of(request)
    identity = request.path_params["identity"]
    if request.method == "GET":
        record = tenant.store.look_up(kind, identity)
        if record is None:
            raise ScimProblem(404, f"There is no {kind.name} {identity}")
        shown = render(tenant, admin, kind, record, dict(request.query_params))
        version = str(shown.get("meta", {}).get("version") or record.version)
        unless = request.headers.get("if-none-match")
        if unless and _matches_etag(unless, version):
            return Response(status_code=304, headers={"ETag": version})
        return answer(shown, 200, {"ETag": version})
    rules.demand(tenant, admin, kind)
    current = tenant.store.current(kind, identity)
    if current is None:
        raise ScimProblem(404, f"There is no {kind.name} {identity}")
    record = tenant.store.records[kind.name][identity]
    wanted = request.headers.get("if-match")
    if wanted and not _matches_etag(wanted, record.version):
        raise ScimProblem(412, "The resource has changed since it was read")
    if request.method == "DELETE":
        rules.before_delete(tenant, kind, identity)
        tenant.store.delete(kind, identity)
        rules.after_delete(tenant, kind, identity, current)
        return Response(status_code=204)
    body = await read_json(request)
    change = patch.replace if request.method == "PUT" else patch.apply
    data = change(kind, current, body)
    rules.on_update(tenant, kind, identity, data, current)
    record = tenant.store.update(kind, identity, data, admin.domain)
    if kind.name == "Credential" and data.get("active"):
        tenant.unread.pop(identity, None)  # readable again only until the credential is activated
    shown = render(tenant, admin, kind, record, dict(request.query_params), fresh=True)
    return answer(shown, 200, {"ETag": record.version})


async def secret(request: Request) -> Response:
    """POST /Credentials/{id}/secret: the tenant-made secret, sealed to a key sent along, or once."""
    tenant = tenant_of(request)
    admin = admin_of(request, tenant)
    rules.demand(tenant, admin, KINDS["Credential"])
    identity = request.path_params["identity"]
    if tenant.store.current(KINDS["Credential"], identity) is None:
        raise ScimProblem(404, f"There is no Credential {identity}")
    value = tenant.unread.get(identity)
    if value is None:
        raise ScimProblem(409, "The secret cannot be read any more")
    body = await read_json(request) if await request.body() else {}
    headers = {"Cache-Control": "no-store"}
    if tenant.described.get("secret_delivery", "sealed") == "once":
        tenant.unread.pop(identity)
        return answer({"secret": value}, 200, headers)
    key = JWKRegistry.import_key(rules.public_key_of(value_of(body, "sealTo")))
    sealed = jwe.encrypt_compact({"alg": "ECDH-ES", "enc": "A256GCM"}, value, key)
    return answer({"sealed": sealed}, 200, headers)


# --- lists --------------------------------------------------------------------------------------------
def _number(query: Json, name: str, default: int) -> int:
    try:
        return int(query.get(name, default))
    except (TypeError, ValueError) as problem:
        raise ScimProblem(400, f"{name} must be a whole number", "invalidValue") from problem


def _sort_key(kind: Kind, path: str) -> Callable[[tuple[Kind, Json]], tuple[int, str, Any]]:
    urn, rest = split_urn(kind, path)
    name, _, sub = rest.partition(".")
    attr = attribute(kind, urn, name)

    def key(pair: tuple[Kind, Json]) -> tuple[int, str, Any]:
        value = value_of(holder(pair[0], pair[1], urn), name)
        if isinstance(value, list):
            value = next((v for v in value if isinstance(v, dict) and v.get("primary")), value[0] if value else None)
        if isinstance(value, dict):
            value = value_of(value, sub or "value")
        if value is None:
            return (1, "", "")
        if attr is not None and attr.type == "dateTime":
            return (0, "", moment_of(value))
        if isinstance(value, str):
            return (0, "text", value if attr and attr.exact else value.lower())
        return (0, "number", value) if isinstance(value, (int, float)) else (0, "other", str(value))

    return key


_CURSORS = secrets.token_bytes(32)


def _mark(begin: int, query: Json) -> str:
    """What tells a cursor of ours, for this very search, from a forged one (RFC 9865 §2)."""
    search = json.dumps([begin, *(str(query.get(n)) for n in ("filter", "sortBy", "sortOrder"))])
    return hmac.new(_CURSORS, search.encode(), "sha256").hexdigest()[:32]


def _page(found: list[Any], query: Json) -> tuple[list[Any], Json]:
    """Cut a page by index (RFC 7644 §3.4.2.4) or cursor (RFC 9865); with the members that describe it."""
    count = max(0, min(_number(query, "count", MAX_PAGE), MAX_PAGE))
    if "cursor" in query:
        begin = 0
        if query["cursor"]:
            text, _, mark = str(query["cursor"]).partition(".")
            ours = _mark(int(text), query) if text.isascii() and text.isdigit() and len(text) < 10 else ""
            if not ours or not hmac.compare_digest(mark.encode(), ours.encode()):
                raise ScimProblem(400, "The cursor is not one of ours", "invalidCursor")
            begin = int(text)
        page, extra = found[begin : begin + count], {}
        if count and begin + count < len(found):
            extra["nextCursor"] = f"{begin + count}.{_mark(begin + count, query)}"
        return page, extra
    start = max(1, _number(query, "startIndex", 1))
    return found[start - 1 : start - 1 + count], {"startIndex": start}


def search(tenant: Tenant, admin: Admin, kinds: list[Kind], query: Json) -> Json:
    text = query.get("filter")
    tree = filters.parse(str(text)) if text else None
    found: list[tuple[Kind, Record, Json]] = []
    for kind in kinds:
        for record in tenant.store.candidates(kind, tree):
            if tree is None and not query.get("sortBy"):
                found.append((kind, record, {}))
                continue
            full = render(tenant, admin, kind, record, {})
            if tree is None or filters.matches(tree, kind, full):
                found.append((kind, record, full))
    if query.get("sortBy"):
        key = _sort_key(kinds[0], str(query["sortBy"]))
        descending = str(query.get("sortOrder", "ascending")).lower() == "descending"
        found.sort(key=lambda f: key((f[0], f[2])), reverse=descending)
    page, extra = _page(found, query)
    resources = [render(tenant, admin, kind, record, query) for kind, record, _ in page]
    return {
        "schemas": [MESSAGES + "ListResponse"],
        "totalResults": len(found),
        **extra,
        "itemsPerPage": len(resources),
        "Resources": resources,
    }


async def collection(request: Request) -> Response:
    if request.method == "POST":
        return await create(request)
    tenant = tenant_of(request)
    admin, kind = admin_of(request, tenant), kind_of(request)
    return answer(search(tenant, admin, [kind], dict(request.query_params)))


async def post_search(request: Request) -> Response:
    tenant = tenant_of(request)
    admin = admin_of(request, tenant)
    body = await read_json(request)
    if not isinstance(body, dict) or MESSAGES + "SearchRequest" not in (value_of(body, "schemas") or []):
        raise ScimProblem(400, "A SearchRequest is needed", "invalidSyntax")
    kinds = [kind_of(request)] if "endpoint" in request.path_params else list(tenant.kinds.values())
    return answer(search(tenant, admin, kinds, body))


async def everything(request: Request) -> Response:
    tenant = tenant_of(request)
    admin = admin_of(request, tenant)
    return answer(search(tenant, admin, list(tenant.kinds.values()), dict(request.query_params)))


# --- discovery (RFC 7644 §4) ----------------------------------------------------------------------------
def _described(tenant: Tenant, what: str, item: Kind | Schema) -> Json:
    key = item.name if isinstance(item, Kind) else item.id
    return {**item.describe(), "meta": {"resourceType": what, "location": f"{tenant.scim}/{what}s/{key}"}}


def _config(tenant: Tenant) -> Json:
    yes, no = {"supported": True}, {"supported": False}
    return {
        "schemas": [CORE + "ServiceProviderConfig"],
        "patch": yes,
        "sort": yes,
        "etag": yes,
        "changePassword": no,
        "bulk": {**no, "maxOperations": 0, "maxPayloadSize": 0},
        "filter": {**yes, "maxResults": MAX_PAGE},
        "pagination": {
            "cursor": True,
            "index": True,
            "defaultPaginationMethod": "index",
            "defaultPageSize": MAX_PAGE,
            "maxPageSize": MAX_PAGE,
            "cursorTimeout": 3600,
        },
        "authenticationSchemes": [
            {
                "type": "oauthbearertoken",
                "name": "Bearer token",
                "primary": True,
                "description": "An administrator's bearer token (RFC 6750)",
            }
        ],
        "meta": {"resourceType": "ServiceProviderConfig", "location": tenant.scim + "/ServiceProviderConfig"},
    }


def _served_schemas(tenant: Tenant) -> dict[str, Schema]:
    return {s.id: s for k in tenant.kinds.values() for s in k.schemas()}


async def discovery(request: Request) -> Response:
    tenant = tenant_of(request)
    admin_of(request, tenant)
    if request.method != "GET":
        raise ScimProblem(405, "Discovery can only be read", allow="GET")
    what, key = request.path_params["what"], request.path_params.get("key")
    if "filter" in request.query_params:
        raise ScimProblem(403, "Discovery cannot be filtered")
    if what == "ServiceProviderConfig":
        return answer(_config(tenant))
    items: dict[str, Kind | Schema] = {**tenant.kinds} if what == "ResourceTypes" else {**_served_schemas(tenant)}
    if key is not None:
        if key not in items:
            raise ScimProblem(404, f"There is no {what.rstrip('s')} {key}")
        return answer(_described(tenant, what[:-1], items[key]))
    shown = [_described(tenant, what[:-1], item) for item in items.values()]
    body = {
        "schemas": [MESSAGES + "ListResponse"],
        "totalResults": len(shown),
        "startIndex": 1,
        "itemsPerPage": len(shown),
        "Resources": shown,
    }
    version = f'"{hashlib.sha256(json.dumps(body).encode()).hexdigest()[:16]}"'
    known = [v.strip().removeprefix("W/") for v in request.headers.get("if-none-match", "").split(",")]
    return answer(None if version in known else body, 304 if version in known else 200, {"ETag": version})


async def me(request: Request) -> Response:
    admin_of(request, tenant_of(request))
    raise ScimProblem(501, "An administrator's token stands for no User here")


async def unknown(request: Request) -> Response:
    admin_of(request, tenant_of(request))
    raise ScimProblem(404, "There is no such endpoint")


def routes() -> list[Route]:
    base = "/{tenant}/scim/v2"
    table: list[tuple[str, Handler, list[str]]] = [
        ("/{what:scim_discovery}", discovery, ALL_METHODS),
        ("/{what:scim_discovery}/{key}", discovery, ALL_METHODS),
        ("/Me", me, ALL_METHODS),
        ("/.search", post_search, ["POST"]),
        ("/{endpoint}/.search", post_search, ["POST"]),
        ("/Credentials/{identity}/secret", secret, ["POST"]),
        ("/{endpoint}", collection, ["GET", "POST"]),
        ("/{endpoint}/{identity}", one, ["GET", "PUT", "PATCH", "DELETE"]),
        ("", everything, ["GET"]),
        ("/", everything, ["GET"]),
        ("/{rest:path}", unknown, ALL_METHODS),
    ]
    return [Route(base + path, guarded(handler), methods=methods) for path, handler, methods in table]
