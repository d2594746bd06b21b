"""What a comparison may look at, read only, of one tenant; and asking for more of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, NamedTuple, Protocol

from sigillum.core.charter.charter import Charter, ProofWant
from sigillum.core.charter.rules import HouseRules
from sigillum.core.kinds.kind import Fact, K, Kind, Query
from sigillum.core.kinds.profile import Profile
from sigillum.core.kinds.snapshot import Snapshot
from sigillum.core.records.history import History
from sigillum.core.values.marks import Mark
from sigillum.core.values.times import parse_instant

UNKNOWN_ARRIVAL_SECONDS = 600  # patience with a tenant that does not say how long changes take
ARRIVAL_SLACK_SECONDS = 5


def arrival_seconds(profile: Profile) -> int:
    """How long a change may take until look-ups show it."""
    announced = profile.arrival_seconds
    return (UNKNOWN_ARRIVAL_SECONDS if announced is None else announced) + ARRIVAL_SLACK_SECONDS


class Books(Protocol):
    """What the ledger says beside this charter's own history."""

    def owner(self, tenant: str, kind: Kind[Any], identity: str) -> str:
        """Which charter or loan made a thing, in words; empty where none did."""
        ...

    def lent(self, mark: str) -> bool:
        """Is this the externalId of a loan's grant?"""
        ...

    def lends(self, tenant: str, identity: str) -> str:
        """The number of the open loan whose grant has this id; empty where none has."""
        ...

    def has_charter(self, name: str) -> bool:
        """Does the workspace have a charter of this name?"""
        ...

    def joins(self, tenant: str, identity: str, team: str) -> bool:
        """Does the charter that made a principal ask for a place in this team? One that cannot be read may."""
        ...

    def takes_in(self, tenant: str, team: str, member: str) -> bool:
        """Does the charter that made a team ask for this member? One that cannot be read may."""
        ...

    def expected(self, tenant: str, identity: str) -> Expected | None:
        """What the charter that made a principal says it cannot do there; None where none did."""
        ...


class Expected(NamedTuple):
    """The expectations `cannot` of a charter, in one tenant, and the limits of its credentials; `unread`: why its file tells
    none.
    """

    charter: str
    proofs: tuple[ProofWant, ...] = ()
    limits: tuple[tuple[str, ...], ...] = ()
    unread: str = ""


class Choices(NamedTuple):
    """What a person allowed beforehand."""

    adopt: bool = False
    end_extra: bool = False
    switch_on: bool = False  # also what somebody else switched off
    kept_in: frozenset[str] = frozenset()  # tenants in which nothing is ended now
    revive: bool = False  # also what was retired
    lost: bool = False  # what was kept and is not here is kept nowhere else


@dataclass(frozen=True, slots=True)
class Seen:
    """Everything of one tenant that a facet may look at. `charter`: what of it concerns this tenant; `whole`: all of it."""

    snapshot: Snapshot
    charter: Charter
    whole: Charter
    history: History
    rules: HouseRules
    held: Mapping[tuple[str, int], str]  # credential, generation -> thumbprint of the key kept here, or "secret"
    choices: Choices
    books: Books
    incomplete: frozenset[tuple[str, int]] = frozenset()  # of what is held here: not yet completed with whose it is

    @property
    def tenant(self) -> str:
        return self.snapshot.tenant

    @property
    def now(self) -> datetime:
        return self.snapshot.now

    @property
    def profile(self) -> Profile:
        return self.snapshot.profile

    @property
    def away(self) -> bool:
        """Is this another tenant than the identity's home?"""
        return self.tenant != self.whole.tenant

    def ask(self, query: Query[K]) -> Fact[K]:
        """A fact; a miss is noted, and is asked in the next round."""
        return self.snapshot.ask(query)

    def carried(self, kind: Kind[Any]) -> frozenset[str] | None:
        """The fields that this tenant has of a kind; None: it has no such kind."""
        return self.profile.carried(kind)

    def mark(self, facet: str, *key: tuple[str, str]) -> Mark:
        return Mark(facet, self.tenant, key)

    @property
    def arrival_seconds(self) -> int:
        return arrival_seconds(self.profile)

    def arriving(self, since: str) -> bool:
        """Was it changed so recently, by the tenant's time, that look-ups may not show it yet?"""
        return bool(since) and self.now < parse_instant(since) + timedelta(seconds=self.arrival_seconds)
