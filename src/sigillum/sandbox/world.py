"""The world file: a YAML description of tenants, turned into running `Tenant` objects."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.error import YAMLError

from .attributes import ACCOUNT, TEAM, Kind
from .clock import Clock, moment_of, stamp
from .keys import SigningKey
from .schemas import KINDS
from .store import Store

Json = dict[str, Any]
MOST_CHARACTERS = 2_000_000
LONG_AGO = timedelta(days=30)
HOLDS_ITEMS = ("stream", "board", "dataset")
ALL_POWERS = ("look", "accounts", "teams", "places", "roles", "grants", "credentials", "clients", "consents", "rules",
              "licences", "tenant")
LIMITS = {
    "assertion_seconds": 3600, "token_seconds": 600, "keys_per_principal": 3,
    "credential_seconds": 0, "arrival_seconds": 0, "answer_items": 100, "felt_seconds": 0,
    "accepted_late_seconds": 0, "ended_still_taken_seconds": 0,
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

    @property
    def method(self) -> str:
        """The only way in which it authenticates (RFC 7591 §2)."""
        return str(self.metadata["token_endpoint_auth_method"])


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
    slow: dict[str, tuple[datetime, str]] = field(default_factory=dict)  # id -> when its making ends, and how
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

    def progress(self, identity: str) -> str | None:
        """Of something that is made slowly: accepted, ready or failed."""
        if identity not in self.slow:
            return None
        done_at, how = self.slow[identity]
        return how if self.clock.now() >= done_at else "accepted"

    @property
    def permissions(self) -> dict[str, Json]:
        return dict(self.described.get("permissions", {}))

    @property
    def kinds(self) -> dict[str, Kind]:
        """The resource types that this tenant serves."""
        return {n: k for n, k in KINDS.items() if n not in self.described.get("without", ())}

    @property
    def organisations(self) -> list[str]:
        """Issuers whose clients can be foreign principals here; the world names them as tenants of its own."""
        own = self.base.rpartition("/")[0]
        return [n if "://" in n else f"{own}/{n}" for n in self.described.get("organisations", [])]

    def admin_of(self, token: str) -> Admin | None:
        digest = hash_of(token)
        return next((a for a in self.admins if secrets.compare_digest(a.token_hash, digest)), None)


def hash_of(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()


def read(path: Path) -> Json:
    """Read a world file. Raises ValueError where it is not one."""
    try:
        text = path.read_text(encoding="utf-8")
        if len(text) > MOST_CHARACTERS:
            raise ValueError(f"{path} is larger than {MOST_CHARACTERS} characters")
        world = YAML(typ="safe", pure=True).load(text)
    except (YAMLError, RecursionError, AttributeError, TypeError, KeyError) as problem:
        raise ValueError(f"{path} is not YAML: {problem}") from problem
    if not isinstance(world, dict) or not isinstance(world.get("tenants"), dict):
        raise ValueError(f"{path} is not a world file: it has no `tenants`")
    return world


def wrong(name: str, problem: Exception) -> ValueError:
    """What is told of a tenant that cannot be made from its description."""
    return ValueError(f"the tenant {name!r} is not described as a world file should: {type(problem).__name__}: {problem}")


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
    store.felt_seconds = tenant.limit("felt_seconds")
    return tenant


class _Populating:
    """Fills a new tenant; what stands at the beginning was made long before, unless it says when."""

    def __init__(self, tenant: Tenant) -> None:
        self.tenant, self.ids = tenant, dict[tuple[str, str], str]()
        self.before = tenant.clock.now() - LONG_AGO

    def add(self, kind: str, name: str, data: Json, made: str | None = None) -> str:
        schemas = [KINDS[kind].schema.id] + [k for k in data if k in (ACCOUNT, TEAM)]
        given = {k: v for k, v in data.items() if v is not None}
        record = self.tenant.store.create(KINDS[kind], {"schemas": schemas, **given})
        record.created = record.changed = moment_of(made) if made else self.before
        record.past[0] = (record.created, record.past[0][1], record.created, record.version)
        self.ids[kind, name] = record.id
        return record.id

    def user(self, name: str, kind: str, about: Json) -> None:
        words = {"second_factor": "secondFactor"}
        told = {words.get(k, k): about[k] for k in (
            "purpose", "owner", "stage", "organisation", "location", "subject", "methods", "second_factor") if k in about}
        self.add("User", name, {"userName": name, "displayName": about.get("display", name),
                                "active": about.get("active", True), ACCOUNT: {"kind": kind, **told}})

    def member(self, name: str) -> Json:
        kind = next(k for k in ("User", "ServicePrincipal", "Group") if (k, name) in self.ids)
        return {"value": self.ids[kind, name], "type": kind}

    def team(self, described: Json) -> None:
        """A team; of `joined` members it is known since when they are in."""
        about: Json = {k: described[k] for k in ("purpose", "owner", "stage", "reach", "everyone") if k in described}
        members = [self.member(m) for m in described.get("members", [])]
        fresh = sorted(described.get("joined", []), key=lambda j: j["at"])
        identity = self.add("Group", described["name"], {
            "displayName": described["name"], "members": members, **({TEAM: about} if about or fresh else {})})
        record = self.tenant.store.records["Group"][identity]
        for one in fresh:
            members = [*members, self.member(one["member"])]
            joined = [*about.get("joined", []), {"value": members[-1]["value"], "since": one["at"]}]
            about = {**about, "joined": joined}
            record.data = {**(record.data or {}), "members": members, TEAM: about}
            record.past.append((moment_of(one["at"]), record.data, moment_of(one["at"]), record.version))
        self.tenant.store.note(KINDS["Group"], identity, record.data or {})

    def role(self, role: Json) -> None:
        classes = self.tenant.permissions
        self.add("Role", role["name"], {
            "name": role["name"], "display": role.get("display", role["name"]),
            "breadth": role.get("breadth", "curated"), "grantableAt": role.get("grantable_at"),
            "permissions": [{"value": p, "class": classes.get(p, {}).get("class", "looks")}
                            for p in role["permissions"]]})

    def place(self, place: Json) -> None:
        self.add("Place", place["path"], {
            "path": place["path"], "kind": place.get("kind"), "display": place.get("display"),
            "testObject": place.get("test_object"), "location": place.get("location"), "labels": labels(place.get("labels")),
            "services": [{"value": s} for s in place.get("services", [])] or None}, place.get("made"))
        if place.get("kind") in HOLDS_ITEMS or "items" in place:
            self.tenant.streams[place["path"]] = list(place.get("items", []))

    def grant(self, grant: Json) -> None:
        at = str(grant["at"])
        place = {"value": self.ids["User", at[1:]], "type": "User"} if at.startswith("@") else \
            {"value": self.ids["Place", at]}
        self.add("Grant", "", {
            "principal": self.member(grant["to"]), "role": {"value": self.ids["Role", grant["role"]]}, "place": place,
            "reason": grant.get("reason"), "validFrom": grant.get("from"), "validUntil": grant.get("until"),
            "labels": labels(grant.get("where"))}, grant.get("made"))

    def client(self, client: Json) -> None:
        """A registration with its service principal, and what was consented."""
        asked = [{"api": p["api"], "scope": p["scope"], "acts": p["acts"]} for p in client.get("permissions", [])]
        identity = self.add("Client", client["name"], {
            "name": client["name"], "clientId": secrets.token_hex(8), "audience": "tenant", "confidential": True,
            "requests": asked or None, **{k: client[k] for k in ("owner", "purpose", "redirects") if k in client}})
        record = self.tenant.store.records["Client"][identity].data or {}
        principal = self.add("ServicePrincipal", client["name"], {
            "clientId": record["clientId"], "displayName": client["name"], "active": True})
        for one in client.get("permissions", []):
            if one.get("consented_by"):
                self.add("Consent", "", {
                    "principal": {"value": principal}, "api": one["api"], "scope": one["scope"], "acts": one["acts"],
                    "only": one.get("only"), "consentedBy": one["consented_by"]})

    def api(self, api: Json) -> None:
        self.add("Api", api["name"], {
            "name": api["name"], "display": api.get("display"), "scopes": [
                {"value": s["scope"], "display": s.get("display"), "class": s.get("class", "looks"),
                 "acts": s.get("acts", ["on-behalf", "alone"]),
                 **({"narrowedTo": s["narrowed_to"]} if "narrowed_to" in s else {}),
                 **({"always": True} if s.get("always") else {})} for s in api["scopes"]]})

    def sign_in_rule(self, rule: Json) -> None:
        words = {"applies_to": "appliesTo"}
        self.add("SignInRule", rule["name"], {
            "enabled": True, **{words.get(k, k): v for k, v in rule.items() if k not in ("targets", "exempt")},
            "targets": [self.member(t) for t in rule.get("targets", [])] or None,
            "exempt": [{"value": self.ids["User", e], "acceptedBy": "nils.brack", "review": "2027-06-01"}
                       for e in rule.get("exempt", [])] or None})

    def licence(self, licence: Json) -> None:
        self.add("Licence", licence["name"], {
            **licence, "holders": [{"value": self.ids["User", h]} for h in licence.get("holders", [])] or None})

    def credential(self, credential: Json) -> None:
        self.add("Credential", credential["name"], {
            "principal": {"value": self.ids["User", credential["of"]]}, "name": credential["name"], "kind": "key-pair",
            "limits": credential.get("limits") or None, "active": credential.get("active", True),
            "validFrom": credential.get("from"),
            "validUntil": credential.get("until") or stamp(self.tenant.clock.now() + LONG_AGO)})


def labels(described: Json | None) -> list[Json] | None:
    """`{stage: [dev, test]}` as a list of names and values."""
    return [{"name": n, "value": v} for n, values in (described or {}).items()
            for v in (values if isinstance(values, list) else [values])] or None


def _populate(tenant: Tenant) -> None:
    described, fill = tenant.described, _Populating(tenant)
    for place in described.get("places", []):
        fill.place(place)
    for role in described.get("roles", []):
        fill.role(role)
    for word, kind in (("people", "person"), ("accounts", "service-account"), ("foreign", "foreign")):
        for about in described.get(word, []):
            fill.user(about["name"], kind, about)
    for number in range(int(described.get("crowd", 0))):  # many principals, for measuring
        fill.add("User", f"crowd-{number}", {"userName": f"crowd-{number}", "active": True})
    for team in described.get("teams", []):
        fill.team(team)
    for api in described.get("apis", []):
        fill.api(api)
    for client in described.get("clients", []):
        fill.client(client)
    for rule in described.get("sign_in_rules", []):
        fill.sign_in_rule(rule)
    for licence in described.get("licences", []):
        fill.licence(licence)
    for grant in described.get("grants", []):
        fill.grant(grant)
    for credential in described.get("credentials", []):
        fill.credential(credential)
