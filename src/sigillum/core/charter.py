"""What a charter says, as values. Positions lead back to the file; they take no part in comparing."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date, datetime
from typing import Any, NamedTuple

from .errors import Position

KEY_PAIR, API_TOKEN = "key-pair", "api-token"
TEAM, SELF = "team", "self"


class Identity(NamedTuple):
    """Who the program is in its home tenant; or which team. `location`: where the program runs; `reach`: of a team."""

    kind: str
    name: str
    display: str
    location: str = ""
    reach: tuple[str, ...] = ()
    position: Position | None = None


class GrantWant(NamedTuple):
    """A role at a place; `lasts_seconds` counts from the first enacting.

    `at` may be SELF: the identity itself is the place. `to` is who else holds it there. `where` is a label rule.
    """

    role: str
    at: str
    because: str = ""
    lasts_seconds: int | None = None
    start: datetime | None = None
    until: datetime | None = None
    where: tuple[tuple[str, tuple[str, ...]], ...] = ()
    to: str = ""
    position: Position | None = None

    @property
    def key(self) -> str:
        """What tells one wanted grant from another."""
        rule = ",".join(f"{name}={'|'.join(values)}" for name, values in self.where)
        return f"{self.role}@{self.at}{f'?{rule}' if rule else ''}{f'>{self.to}' if self.to else ''}"

    @property
    def windowed(self) -> bool:
        return bool(self.lasts_seconds or self.start or self.until)

    def words(self) -> str:
        """The grant for reading, without its window."""
        rule = " and ".join(f"{name} is {' or '.join(values)}" for name, values in self.where)
        at = "itself" if self.at == SELF else self.at
        return f"{self.role} at {at}{f' where {rule}' if rule else ''}{f' to {self.to}' if self.to else ''}"


class ServiceWant(NamedTuple):
    """A service that must be switched on at a place."""

    service: str
    at: str
    position: Position | None = None

    @property
    def key(self) -> str:
        return f"{self.service}@{self.at}"


class RoleWant(NamedTuple):
    """A custom role: a name for exactly these permissions."""

    name: str
    display: str
    permissions: tuple[str, ...]
    position: Position | None = None


class MemberWant(NamedTuple):
    """A team to be in, or (in a team's charter) a member to have."""

    name: str
    position: Position | None = None


class CredentialWant(NamedTuple):
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
    position: Position | None = None

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
    services: tuple[ServiceWant, ...] = ()
    roles: tuple[RoleWant, ...] = ()
    member_of: tuple[MemberWant, ...] = ()
    members: tuple[MemberWant, ...] = ()
    grants: tuple[GrantWant, ...] = ()
    credentials: tuple[CredentialWant, ...] = ()
    proofs: tuple[ProofWant, ...] = ()
    position: Position | None = field(default=None, compare=False)

    like: str = ""

    @property
    def is_team(self) -> bool:
        return self.identity.kind == TEAM

    def about(self) -> dict[str, str]:
        """What the account or team says about itself in its tenant."""
        common = {"purpose": self.purpose, "owner": self.owner, "deputy": self.deputy, "stage": self.stage}
        if self.is_team:
            return common
        return {"kind": self.identity.kind, **common, "location": self.identity.location}

    @property
    def areas(self) -> tuple[str, ...]:
        """The areas in which the grants lie: the places one below the root, or the root itself."""
        return tuple(dict.fromkeys("/".join(g.at.split("/")[:2]) for g in self.grants))

    @property
    def reach(self) -> tuple[str, ...]:
        """How far a team's grants count: what is said, or the one area where they lie."""
        return self.identity.reach or self.areas[:1]
