"""The world file: a YAML description of tenants, turned into running `Tenant` objects."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.error import YAMLError

from .clock import Clock
from .keys import SigningKey
from .schemas import ACCOUNT, KINDS
from .store import Store

Json = dict[str, Any]
ALL_POWERS = ("look", "accounts", "teams", "places", "roles", "grants", "credentials", "clients", "tenant")
LIMITS = {
    "assertion_seconds": 3600, "token_seconds": 600, "keys_per_principal": 3,
    "credential_seconds": 0, "arrival_seconds": 0, "answer_items": 100,
}


@dataclass(frozen=True)
class Admin:
    """An administrator: name, powers, the provisioning domain of its externalIds, the token's hash."""

    name: str
    powers: frozenset[str]
    domain: str
    token_hash: str


@dataclass
class Client:
    """An OAuth client registration (RFC 7591)."""

    id: str
    metadata: Json
    secret_hash: str | None
    registration_hash: str


@dataclass
class Tenant:
    """One simulated tenant: its store, tokens, streams and character."""

    name: str
    described: Json
    base: str
    clock: Clock
    store: Store
    admins: list[Admin] = field(default_factory=list)
    clients: dict[str, Client] = field(default_factory=dict)
    streams: dict[str, list[Json]] = field(default_factory=dict)
    used_assertions: dict[str, datetime] = field(default_factory=dict)
    revoked: set[str] = field(default_factory=set)
    secrets: dict[str, str] = field(default_factory=dict)  # credential id -> hash of its secret
    unread: dict[str, str] = field(default_factory=dict)  # credential id -> a secret still to be handed out
    _key: SigningKey | None = None

    @property
    def scim(self) -> str:
        return self.base + "/scim/v2"

    @property
    def issuer(self) -> str:
        return self.base

    @property
    def work(self) -> str:
        return self.base + "/work"

    @property
    def key(self) -> SigningKey:
        if self._key is None:
            self._key = SigningKey()
        return self._key

    def limit(self, name: str) -> int:
        return int(self.described.get("limits", {}).get(name, LIMITS[name]))

    @property
    def arrival_seconds(self) -> float:
        """How long look-ups lag; it may be a part of a second, which the profile rounds down."""
        return float(self.described.get("limits", {}).get("arrival_seconds", LIMITS["arrival_seconds"]))

    @property
    def permissions(self) -> dict[str, Json]:
        return dict(self.described.get("permissions", {}))

    def admin_of(self, token: str) -> Admin | None:
        digest = hash_of(token)
        return next((a for a in self.admins if secrets.compare_digest(a.token_hash, digest)), None)


def hash_of(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()


def read(path: Path) -> Json:
    """Read a world file. Raises ValueError where it is not one."""
    try:
        world = YAML(typ="safe", pure=True).load(path.read_text(encoding="utf-8"))
    except YAMLError as problem:
        raise ValueError(f"{path} is not YAML: {problem}") from problem
    if not isinstance(world, dict) or not isinstance(world.get("tenants"), dict):
        raise ValueError(f"{path} is not a world file: it has no `tenants`")
    return world


def build(name: str, described: Json, base: str, clock: Clock, hand_out: Callable[[str, str, str], None]) -> Tenant:
    """Make a tenant. `hand_out(tenant, admin, token)` is told each administrator's token."""
    store = Store(clock)
    store.unique_external_ids = bool(described.get("external_id_unique", True))
    tenant = Tenant(name, described, f"{base}/{name}", clock, store)
    for admin in described.get("admins", []):
        token = str(admin.get("token") or secrets.token_urlsafe(24))
        powers = frozenset(ALL_POWERS if admin.get("powers") == "all" else admin.get("powers", ["look"]))
        tenant.admins.append(Admin(admin["name"], powers, str(admin.get("domain", "")), hash_of(token)))
        hand_out(name, admin["name"], token)
    _populate(tenant)
    store.arrival_seconds = tenant.arrival_seconds
    return tenant


def _populate(tenant: Tenant) -> None:
    described, ids = tenant.described, {}

    def add(kind: str, name: str, data: Json) -> str:
        schemas = [KINDS[kind].schema.id] + [k for k in data if k == ACCOUNT]
        record = tenant.store.create(KINDS[kind], {"schemas": schemas, **data})
        ids[kind, name] = record.id
        return record.id

    def link(kind: str, name: str) -> Json:
        return {"value": ids[kind, name]}

    for place in described.get("places", []):
        add("Place", place["path"], {k: v for k, v in {
            "path": place["path"], "kind": place.get("kind"), "display": place.get("display"),
            "testObject": place.get("test_object")}.items() if v is not None})
        if place.get("kind") == "stream":
            tenant.streams[place["path"]] = list(place.get("items", []))
    for role in described.get("roles", []):
        classes = tenant.permissions
        add("Role", role["name"], {
            "name": role["name"], "display": role.get("display", role["name"]),
            "breadth": role.get("breadth", "curated"),
            "permissions": [{"value": p, "class": classes.get(p, {}).get("class", "looks")}
                            for p in role["permissions"]]})
    for person in described.get("people", []):
        add("User", person["name"], {
            "userName": person["name"], "displayName": person.get("display", person["name"]),
            "active": person.get("active", True), ACCOUNT: {"kind": "person"}})
    for account in described.get("accounts", []):
        add("User", account["name"], {
            "userName": account["name"], "displayName": account.get("display", account["name"]),
            "active": account.get("active", True),
            ACCOUNT: {"kind": "service-account", **{k: account[k] for k in ("purpose", "owner", "stage")
                                                    if k in account}}})
    for number in range(int(described.get("crowd", 0))):  # many principals, for measuring
        add("User", f"crowd-{number}", {"userName": f"crowd-{number}", "active": True})
    for team in described.get("teams", []):
        members = [{"value": ids["User", m], "type": "User"} for m in team.get("members", [])]
        add("Group", team["name"], {"displayName": team["name"], "members": members})
    for grant in described.get("grants", []):
        kind = "User" if ("User", grant["to"]) in ids else "Group"
        add("Grant", "", {k: v for k, v in {
            "principal": {**link(kind, grant["to"]), "type": kind}, "role": link("Role", grant["role"]),
            "place": link("Place", grant["at"]), "reason": grant.get("reason"),
            "validUntil": grant.get("until")}.items() if v is not None})
