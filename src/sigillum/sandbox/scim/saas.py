"""What tenants check of accounts, passwords, tokens, sign-in rules and licences when they are written."""

from __future__ import annotations

import ipaddress
from typing import Any

from sigillum.sandbox.http.errors import ScimProblem
from sigillum.sandbox.worlds.world import Tenant

from .attributes import ACCOUNT
from .schemas import KINDS

Json = dict[str, Any]
SHORTEST_PASSWORD = 14


def _invalid(detail: str) -> ScimProblem:
    return ScimProblem(400, detail, "invalidValue")


def _place(tenant: Tenant, path: str) -> Json | None:
    return next((p for _, p in tenant.store.by("Place", "path", path) if p["path"] == path), None)


def on_account(tenant: Tenant, data: Json) -> None:
    """An account lives in an area of the kind that the tenant says, or it is installation-wide."""
    data["active"] = False if tenant.described.get("accounts_drafted") else data.get("active", True)
    if tenant.described.get("addresses") and (data.get(ACCOUNT) or {}).get("kind") == "service-account":
        data["emails"] = [{"value": f"{data['userName']}@{tenant.described['addresses']}", "primary": True}]
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
    known = ("key-pair", "certificate", "api-token", "shared-secret", "password")
    if kind not in tenant.described.get("credential_kinds", known):
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


def check_rule(tenant: Tenant, data: Json) -> None:
    """Raises ScimProblem for networks that are none, and for exemptions that nobody accepted."""
    for network in data.get("networks", []):
        try:
            ipaddress.ip_network(network)
        except ValueError as problem:
            raise _invalid(f"networks: {network} is no network") from problem
    for exempted in data.get("exempt", []):
        if tenant.store.current(KINDS["User"], exempted.get("value", "")) is None:
            raise _invalid("exempt: there is no such account")
        if not exempted.get("acceptedBy") or not exempted.get("review"):
            raise _invalid("exempt: somebody has to accept the risk, until a day of review")
    if data.get("exempt") and not data.get("narrowable", True):
        raise _invalid("exempt: this rule knows no exemptions; it is on or off")


def check_licence(tenant: Tenant, data: Json) -> None:
    """Raises ScimProblem where more hold it than there are."""
    if data.get("kind") == "per-user" and len(data.get("holders", [])) > data.get("total", 0):
        raise _invalid("holders: no licence is free")


def check_account(tenant: Tenant, identity: str | None, data: Json) -> None:
    """A mailbox needs a licence that includes one."""
    if (data.get(ACCOUNT) or {}).get("mailbox") and not any(
        licence.get("mailbox")
        and (licence.get("kind") != "per-user" or any(h["value"] == identity for h in licence.get("holders", [])))
        for _, licence in tenant.store.all_current("Licence")
    ):
        raise _invalid("mailbox: no licence of this account includes one")
