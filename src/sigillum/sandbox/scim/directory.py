"""Clients, their service principals, APIs and consents: what a tenant checks when they are written, and what they allow."""

from __future__ import annotations

import secrets
from typing import Any

from sigillum.sandbox.http.errors import ScimProblem
from sigillum.sandbox.worlds.world import Admin, Tenant

from .schemas import KINDS

Json = dict[str, Any]
WAYS = ("on-behalf", "alone")


def _invalid(detail: str) -> ScimProblem:
    return ScimProblem(400, detail, "invalidValue")


def on_create(tenant: Tenant, admin: Admin | None, name: str, data: Json) -> None:
    """Check and complete a new one of these types. Raises ScimProblem."""
    if name == "Client":
        data["clientId"] = secrets.token_hex(8)
        data.setdefault("audience", "tenant")
        data.setdefault("confidential", True)
        check_client(tenant, data)
    elif name == "ServicePrincipal":
        if client_of(tenant, data["clientId"]) is None:
            raise _invalid("clientId: there is no client with this id")
        data.setdefault("active", True)
    elif name == "Consent":
        _consent(tenant, data)
        if admin is not None:
            data["consentedBy"] = admin.name


def check_client(tenant: Tenant, data: Json) -> None:
    """Raises ScimProblem where an address or a requested permission cannot be."""
    for address in data.get("redirects", []):
        scheme, _, rest = address.partition("://")
        if not rest or "#" in address or (scheme == "http" and not rest.startswith(("127.0.0.1", "[::1]"))):
            raise _invalid("redirects: absolute https addresses without fragment, or http on the loopback")
    for asked in data.get("requests", []):
        if scope_of(tenant, asked.get("api"), asked.get("scope"), asked.get("acts")) is None:
            raise _invalid("requests: there is no such permission")


def client_of(tenant: Tenant, client_id: str) -> tuple[str, Json] | None:
    """The registration's id and data."""
    return next(((i, d) for i, d in tenant.store.by("Client", "clientId", client_id) if d["clientId"] == client_id), None)


def principal_of(tenant: Tenant, client_id: str) -> str | None:
    """The id of a client's service principal, where it has one."""
    return next((i for i, d in tenant.store.by("ServicePrincipal", "clientId", client_id) if d["clientId"] == client_id), None)


def registration_of(tenant: Tenant, principal: str) -> str | None:
    """The id of the registration behind a service principal."""
    found = tenant.store.current(KINDS["ServicePrincipal"], principal)
    client = client_of(tenant, found["clientId"]) if found else None
    return client[0] if client else None


def scope_of(tenant: Tenant, api: Any, scope: Any, acts: Any) -> Json | None:
    """A scope of an API that can be used in this way of acting."""
    for _, found in tenant.store.by("Api", "name", str(api)):
        for one in found.get("scopes", []):
            if one["value"] == scope and acts in one.get("acts", WAYS):
                return dict(one)
    return None


def _consent(tenant: Tenant, data: Json) -> None:
    data.setdefault("acts", "alone")
    principal = tenant.store.current(KINDS["ServicePrincipal"], data["principal"]["value"])
    assert principal is not None
    client = client_of(tenant, principal["clientId"])
    scope = scope_of(tenant, data["api"], data["scope"], data["acts"])
    wanted = {"api": data["api"], "scope": data["scope"], "acts": data["acts"]}
    if scope is None or client is None or wanted not in client[1].get("requests", []):
        raise _invalid("scope: the client does not ask for that")
    for path in data.get("only", []):
        place = next((p for _, p in tenant.store.by("Place", "path", path) if p["path"] == path), None)
        if place is None or place.get("kind") != scope.get("narrowedTo"):
            raise _invalid(f"only: {path} is nothing that this scope can be narrowed to")


def consented(tenant: Tenant, principal: str, permission: str, path: str, acts: str) -> bool:
    """Does a client ask for this permission in this way, and did somebody consent to it for this place?"""
    data = tenant.store.current(KINDS["ServicePrincipal"], principal)
    client = client_of(tenant, data["clientId"]) if data else None
    api = tenant.permissions.get(permission, {}).get("api")
    if client is None or {"api": api, "scope": permission, "acts": acts} not in client[1].get("requests", []):
        return False
    return any(
        c["principal"]["value"] == principal
        and c["api"] == api
        and c["scope"] == permission
        and c["acts"] == acts
        and (not c.get("only") or path in c["only"])
        for _, c in tenant.store.felt_by("Consent", "principal.value", principal)
    )


def after_delete(tenant: Tenant, name: str, identity: str, data: Json) -> None:
    """A registration takes its service principal along, and that one its consents."""
    if name == "Client":
        for found, principal in list(tenant.store.by("ServicePrincipal", "clientId", data["clientId"])):
            tenant.store.delete(KINDS["ServicePrincipal"], found)
            after_delete(tenant, "ServicePrincipal", found, principal)
    if name in ("Client", "ServicePrincipal"):
        for other in ("Consent", "Grant", "Credential"):
            for found, held in list(tenant.store.by(other, "principal.value", identity)):
                if held["principal"]["value"] == identity:
                    tenant.store.delete(KINDS[other], found)
