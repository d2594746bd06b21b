"""The world file: a YAML description of tenants, turned into running `Tenant` objects."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from sigillum.sandbox.oauth.keys import SigningKey
from sigillum.sandbox.scim.attributes import Kind
from sigillum.sandbox.scim.schemas import KINDS
from sigillum.sandbox.scim.store import Store

from .clock import Clock, stamp

Json = dict[str, Any]
CLUSTER = ("LocalAccount", "Workload", "MachineGroup")  # types that only a cluster has
HOLDS_ITEMS = ("stream", "board", "dataset")
LIMITS = {
    "assertion_seconds": 3600,
    "token_seconds": 600,
    "keys_per_principal": 3,
    "credential_seconds": 0,
    "arrival_seconds": 0,
    "answer_items": 100,
    "felt_seconds": 0,
    "accepted_late_seconds": 0,
    "ended_still_taken_seconds": 0,
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
    used: dict[str, tuple[datetime, str]] = field(default_factory=dict)  # credential id -> when and from where, last
    slow: dict[str, tuple[datetime, str]] = field(default_factory=dict)  # id -> when its making ends, and how
    made: dict[tuple[str, str], tuple[str, Json]] = field(default_factory=dict)  # type, name -> id and data, as the world says
    vault: dict[str, list[Json]] = field(default_factory=dict)  # path of a secret -> its versions, the newest last
    reads: list[Json] = field(default_factory=list)  # who read which version of which secret, and when
    signing_key: SigningKey | None = None
    new_key: Callable[[], SigningKey] = SigningKey
    signers: dict[str, SigningKey] = field(default_factory=dict)  # account -> the key with which it is signed for that

    @property
    def scim(self) -> str:
        return self.base + "/scim/v2"

    @property
    def address(self) -> str:
        """Where its administration begins."""
        return self.base if self.described.get("speaks") == "own" else self.scim

    @property
    def issuer(self) -> str:
        return self.base

    @property
    def work(self) -> str:
        return self.base + "/work"

    @property
    def key(self) -> SigningKey:
        if self.signing_key is None:
            self.signing_key = self.new_key()
        return self.signing_key

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

    def begin_slowly(self, kind: str, identity: str, seconds: float | None = None) -> None:
        """Something of this type is accepted now, and finished as much later as is described; `seconds`: else."""
        slow = self.described.get("slow", {}).get(kind) or ({"seconds": seconds} if seconds is not None else None)
        if slow:
            self.slow[identity] = (
                self.clock.now() + timedelta(seconds=slow["seconds"]),
                "failed" if slow.get("fails") else "ready",
            )

    def use(self, credential: str | None, address: str) -> None:
        """Note that somebody proved itself with a credential."""
        if credential:
            self.used[credential] = (self.clock.now(), address)

    def last_used(self, credential: str) -> Json:
        """What is shown of that: by the second or by the day; nothing where this tenant does not tell."""
        grain, known = self.described.get("last_used", "second"), self.used.get(credential)
        if grain == "none" or known is None:
            return {}
        at, address = known
        day = at.replace(hour=0, minute=0, second=0, microsecond=0)
        return {"lastUsedAt": stamp(day if grain == "day" else at.replace(microsecond=0)), "lastUsedFrom": address}

    @property
    def permissions(self) -> dict[str, Json]:
        return dict(self.described.get("permissions", {}))

    @property
    def kinds(self) -> dict[str, Kind]:
        """The resource types that this tenant serves."""
        cluster = any(self.described.get(n) for n in ("machine_groups", "local_accounts", "workloads"))
        hosts = () if self.described.get("hosts") else ("Machine",)
        left_out = {*self.described.get("without", ()), *(() if cluster else CLUSTER), *hosts}
        return {n: k for n, k in KINDS.items() if n not in left_out}

    @property
    def organisations(self) -> list[str]:
        """Issuers whose clients can be foreign principals here; the world names them as tenants of its own."""
        own = self.base.rpartition("/")[0]
        return [n if "://" in n else f"{own}/{n}" for n in self.described.get("organisations", [])]

    def follow(self, described: Json) -> None:
        """Be what this description says; what stands in the tenant stays."""
        self.described = described
        self.store.unique_external_ids = bool(described.get("external_id_unique", True))
        self.store.arrival_seconds, self.store.felt_seconds = self.arrival_seconds, self.limit("felt_seconds")

    def admin_of(self, token: str) -> Admin | None:
        digest = hash_of(token)
        return next((a for a in self.admins if secrets.compare_digest(a.token_hash, digest)), None)


def hash_of(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()


def wrong(name: str, problem: Exception) -> ValueError:
    """What is told of a tenant that cannot be made from its description."""
    return ValueError(f"the tenant {name!r} is not described as a world file should: {type(problem).__name__}: {problem}")
