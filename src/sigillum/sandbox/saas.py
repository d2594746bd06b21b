"""What SaaS tenants check: accounts that live in an area or are drafted first, passwords, tokens that must be narrowed."""

from __future__ import annotations

from typing import Any

from .errors import ScimProblem
from .schemas import ACCOUNT, KINDS
from .world import Tenant

Json = dict[str, Any]
SHORTEST_PASSWORD = 14


def _invalid(detail: str) -> ScimProblem:
    return ScimProblem(400, detail, "invalidValue")


def _place(tenant: Tenant, path: str) -> Json | None:
    return next((p for _, p in tenant.store.by("Place", "path", path) if p["path"] == path), None)


def on_account(tenant: Tenant, data: Json) -> None:
    """An account lives in an area of the kind that the tenant says, or it is installation-wide."""
    data["active"] = False if tenant.described.get("accounts_drafted") else data.get("active", True)
    kind, area = tenant.described.get("accounts_live_in"), (data.get(ACCOUNT) or {}).get("area")
    if area is not None and (kind is None or (_place(tenant, area) or {}).get("kind") != kind):
        raise _invalid(f"area: {area} is no {kind or 'place in which accounts live'} here")


def on_grant(tenant: Tenant, data: Json) -> None:
    """A draft takes no roles, and an area's account none outside its area."""
    account = tenant.store.current(KINDS["User"], data["principal"]["value"])
    if account is None:
        return
    if tenant.described.get("accounts_drafted") and not account.get("active"):
        raise _invalid("principal: save the account first")
    area = (account.get(ACCOUNT) or {}).get("area")
    place = tenant.store.current(KINDS["Place"], data["place"]["value"]) or {}
    if area and not f"{place.get('path')}/".startswith(area + "/"):
        raise _invalid("principal: the account lives in another area")


def on_credential(tenant: Tenant, data: Json) -> None:
    """Which kinds there are here; an API token may have to be narrowed, and to say when it ends."""
    kind = data.get("kind", "key-pair")
    if kind not in tenant.described.get("credential_kinds", ("key-pair", "api-token", "shared-secret", "password")):
        raise _invalid(f"kind: there is no {kind} here")
    if kind == "api-token" and tenant.described.get("limits_compulsory"):
        if not data.get("limits"):
            raise _invalid("limits: a token must be narrowed here")
        if "validUntil" not in data:
            raise _invalid("validUntil: a token must end here")


def on_password(tenant: Tenant, data: Json) -> None:
    """A password is chosen by who sends it; unless told otherwise it is mailed, and to be changed at the first sign-in."""
    password = data.get("password", "")
    if len(password) < SHORTEST_PASSWORD or password.isalnum():
        raise _invalid(f"password: {SHORTEST_PASSWORD} characters or more, and not letters and digits only")
    data.pop("publicKey", None)
    data.setdefault("mustChange", True)
    data.setdefault("mailed", True)
