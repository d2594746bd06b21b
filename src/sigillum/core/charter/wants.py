"""What few charters ask for: how an account signs in, and what is handed over. Loaded where one does."""

from __future__ import annotations

from datetime import date, datetime
from typing import NamedTuple

from sigillum.core.federation.subjects import Wrong
from sigillum.core.federation.trusts import Issuer, Trust
from sigillum.core.values.errors import Position


class CertificateAnswer(NamedTuple):
    """A certificate that the house's CA gave. `der`: base64; `key`: RFC 7638 thumbprint of its public key; `until`: the first
    instant at which it is over (RFC 5280 §4.1.2.5); `authority`: it may sign others; `chained`: signed by the house's CA.
    """

    der: str
    key: str
    until: datetime
    subject: str
    issuer: str
    authority: bool = False
    chained: bool = True


class EndlessWant(NamedTuple):
    """A credential without an end: who accepted that, why, and the day of review."""

    accepted_by: str
    why: str
    review: date


class ExemptWant(NamedTuple):
    """An exemption from a sign-in rule: who accepted the risk, why, and the day of review."""

    rule: str
    accepted_by: str
    why: str
    review: date


class RelaxWant(NamedTuple):
    """A tenant-wide sign-in rule that is switched off; `replaced_by` keeps everybody else protected."""

    rule: str
    accepted_by: str
    why: str
    review: date
    replaced_by: str


class RuleWant(NamedTuple):
    """A sign-in rule that the charter writes: what it demands, of everyone or `of` whom (accounts and teams by name), from
    which networks, at a screen or anywhere; who accepted it, why, and the day of review.
    """

    name: str
    demands: tuple[str, ...]
    everyone: bool
    of: tuple[str, ...]
    networks: tuple[str, ...]
    applies_to: str
    accepted_by: str
    why: str
    review: date
    position: Position | None = None


class SignInWant(NamedTuple):
    """How a program signs in: from these networks only, exempt from one rule; with a second factor, at a managed device, where
    the tenant demands that. `interactive` False: nobody may at a screen; None: nothing is said of that.
    """

    networks: tuple[str, ...] = ()
    exempt: ExemptWant | None = None
    relax: RelaxWant | None = None
    position: Position | None = None
    interactive: bool | None = None
    second_factor: bool = False
    device: bool = False  # one that the tenant manages
    rules: tuple[RuleWant, ...] = ()  # that the charter writes itself


class TrustWant(NamedTuple):
    """Tokens of an issuer that may act as the identity. `issuer`: what the workspace knows of it; `wrong`: of its subject."""

    trust: Trust
    issuer: Issuer | None = None
    wrong: tuple[Wrong, ...] = ()
    position: Position | None = None
    tenant: str = ""

    @property
    def name(self) -> str:
        return self.trust.name


class WorkloadWant(NamedTuple):
    """What runs on a cluster as the identity: `trust` names the half that its home has."""

    tenant: str
    compartment: str
    account: str
    programs: tuple[str, ...]
    groups: tuple[str, ...] = ()
    made_later: bool = False
    trust: str = ""
    position: Position | None = None

    @property
    def words(self) -> str:
        return f"{self.compartment}/{self.account}"


class SigningWant(NamedTuple):
    """The tenant signs for it; the machine to which it is attached."""

    machine: str
    position: Position | None = None


class HandoverWant(NamedTuple):
    """What is handed over, in which form, to which kind of consumer, and the object to try it on. `once`: revealed once."""

    gives: tuple[str, ...] = ()
    form: str = ""
    to: str = ""
    test: str = ""
    once: bool = False


class DelegationWant(NamedTuple):
    """A right to act for people: `all`, `team:NAME`, or their names; each scope with what it is for."""

    domain: str
    people: tuple[str, ...]
    scopes: tuple[tuple[str, str], ...]
    position: Position | None = None

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(s for s, _ in self.scopes)
