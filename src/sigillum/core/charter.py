"""What a charter says, as values. Positions lead back to the file; they take no part in comparing."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date, datetime
from typing import Any

from .errors import Position

KEY_PAIR, API_TOKEN = "key-pair", "api-token"


@dataclass(frozen=True, slots=True)
class Identity:
    """Who the program is in its home tenant."""

    kind: str
    name: str
    display: str
    position: Position | None = field(default=None, compare=False)


@dataclass(frozen=True, slots=True)
class GrantWant:
    """A role at a place; `lasts_seconds` counts from the first enacting."""

    role: str
    at: str
    because: str = ""
    lasts_seconds: int | None = None
    start: datetime | None = None
    until: datetime | None = None
    position: Position | None = field(default=None, compare=False)

    @property
    def key(self) -> str:
        return f"{self.role}@{self.at}"


@dataclass(frozen=True, slots=True)
class CredentialWant:
    """What the identity proves itself with. `limits` narrow it to these permissions."""

    name: str
    kind: str
    lasts_seconds: int
    renew_before_seconds: int
    limits: tuple[str, ...] = ()
    keep_in: str = "file"
    algorithm: str = "Ed25519"
    public_key: Mapping[str, Any] | None = None
    consumers: tuple[str, ...] = ()
    position: Position | None = field(default=None, compare=False)

    @property
    def held_here(self) -> bool:
        return self.keep_in != "holder"


@dataclass(frozen=True, slots=True)
class ProofWant:
    """One expectation: the identity can, or cannot, use a permission at a place."""

    allowed: bool
    permission: str
    at: str
    count: int | None = None
    at_least: int | None = None
    value: Mapping[str, Any] | None = None
    position: Position | None = field(default=None, compare=False)

    def words(self) -> str:
        extra = ""
        if self.count is not None:
            extra = f", exactly {self.count}"
        elif self.at_least is not None:
            extra = f", at least {self.at_least}"
        elif self.value is not None:
            extra = ", with " + ", ".join(f"{k} = {v}" for k, v in self.value.items())
        return f"{'can' if self.allowed else 'cannot'} {self.permission} at {self.at}{extra}"


@dataclass(frozen=True, slots=True)
class Charter:
    """One integration's page."""

    name: str
    tenant: str
    stage: str
    purpose: str
    owner: str
    identity: Identity
    deputy: str = ""
    review: date | None = None
    ticket: str = ""
    grants: tuple[GrantWant, ...] = ()
    credentials: tuple[CredentialWant, ...] = ()
    proofs: tuple[ProofWant, ...] = ()
    position: Position | None = field(default=None, compare=False)

    def about(self) -> dict[str, str]:
        """What the account says about itself in its tenant."""
        return {"kind": self.identity.kind, "purpose": self.purpose, "owner": self.owner,
                "deputy": self.deputy, "stage": self.stage}
