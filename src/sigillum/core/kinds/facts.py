"""What is known of a tenant: queries, facts (present, absent, unknown), snapshots."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, NamedTuple


class Thing(NamedTuple):
    """One resource of a tenant, in our words. `fields` are what the kind has (see `tenants.mapping`)."""

    kind: str
    id: str
    fields: Mapping[str, Any]
    version: str = ""
    external_id: str = ""

    def get(self, name: str) -> Any:
        return self.fields.get(name)


class Query(NamedTuple):
    """All things of a kind whose field has this value: `account.name`, `grant.principal` ..."""

    kind: str
    field: str
    value: str


class Fact(NamedTuple):
    """The answer to a query. Not known: `unknown` says why, and nothing may be concluded from it."""

    things: tuple[Thing, ...] = ()
    unknown: str = ""

    @property
    def known(self) -> bool:
        return not self.unknown

    @property
    def first(self) -> Thing | None:
        return self.things[0] if self.things else None


class Operation(NamedTuple):
    """How a permission is used through a tenant's working interface."""

    permission: str
    class_: str
    method: str
    template: str
    service: str = ""  # must be switched on at the place or above
    located: bool = False  # principal and place must have one location
    needs: tuple[str, ...] = ()  # permission@kind, at the nearest enclosing place of that kind
    api: str = ""  # a client needs consent to this scope of that API


class Precondition(NamedTuple):
    """What has to be so before a kind of thing can be made at all: a verified organisation, an owner, a native account."""

    what: str
    kinds: tuple[str, ...]  # of ours; none: whatever is made
    met: bool
    about: str = ""


@dataclass(frozen=True, slots=True)
class Profile:
    """What a tenant says of itself. None: it does not say."""

    name: str = ""
    title: str = ""
    stage: str = ""
    issuer: str = ""
    decisions: str = ""
    work: str = ""
    external_id_unique: bool | None = None
    born_inactive: bool | None = None
    secret_delivery: str = ""
    assertion_seconds: int | None = None
    token_seconds: int | None = None
    keys_per_principal: int | None = None
    credential_seconds: int | None = None
    arrival_seconds: int | None = None
    answer_items: int | None = None
    felt_seconds: int | None = None
    windows_on_broad: bool = True
    windows_on_everyone: bool = True
    accounts_live_in: str = ""  # kind of place in which an account lives, unless it is installation-wide
    accounts_drafted: bool = False  # an account is born inactive, and takes roles after it was switched on
    limits_compulsory: bool = False  # an API token must be narrowed
    credential_kinds: tuple[str, ...] = ()  # none said: whichever
    organisations: tuple[str, ...] = ()  # issuers whose clients can be foreign principals here
    operations: Mapping[str, Operation] = field(default_factory=dict)
    administrator: str = ""
    powers: frozenset[str] | None = None
    kinds: frozenset[str] = frozenset()
    preconditions: tuple[Precondition, ...] = ()
    warnings: tuple[str, ...] = ()  # worth knowing of its facts: old ones


@dataclass(slots=True)
class Snapshot:
    """Facts of one tenant with its own `now`; grows while rounds of queries are answered."""

    tenant: str
    now: datetime
    profile: Profile
    facts: dict[Query, Fact] = field(default_factory=dict)

    def fact(self, kind: str, name: str, value: str) -> Fact:
        """The fact asked for; one that was never asked is unknown."""
        return self.facts.get(Query(kind, name, value), Fact(unknown="it was not asked"))

    def missing(self, queries: Iterable[Query]) -> list[Query]:
        return [q for q in dict.fromkeys(queries) if q not in self.facts]
