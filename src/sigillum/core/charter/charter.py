"""What a charter says, as values. Positions lead back to the file; they take no part in comparing."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from typing import TYPE_CHECKING, Any, NamedTuple

from sigillum.core.values.asked import AskedWant
from sigillum.core.values.errors import Position

from .credential_kinds import CREDENTIAL_KINDS, CredentialKind

if TYPE_CHECKING:  # few charters ask for these
    from sigillum.core.charter.wants import (
        CertificateAnswer,
        DelegationWant,
        EndlessWant,
        HandoverWant,
        SigningWant,
        SignInWant,
        TrustWant,
        WorkloadWant,
    )

SELF_SIGNED, CA = "self", "ca"  # who signs a certificate
HANDOVER = "handover"  # a keeping place: it is here until somebody gets it, and then no more
ACCOUNT, CLIENT, TEAM, FOREIGN = "service-account", "client", "team", "foreign"
SELF = "self"
ON_BEHALF, ALONE = "on-behalf", "alone"
WAYS = {ON_BEHALF: "on behalf of people", ALONE: "alone"}


class Identity(NamedTuple):
    """Who the program is in its home tenant; or which team. `location`: where the program runs; `reach`: of a team.

    Of a client: its redirect addresses (RFC 6749 §3.1.2), whether other tenants may use it, whether it keeps a secret.
    Of an account: the `area` in which it lives, or why it is installation-wide (`wide`); of one that lives elsewhere, its
    `organisation`.
    """

    kind: str
    name: str
    display: str
    location: str = ""
    reach: tuple[str, ...] | None = None
    position: Position | None = None
    redirects: tuple[str, ...] = ()
    audience: str = "tenant"
    confidential: bool = True
    area: str = ""
    wide: str = ""
    web_only: bool = False
    organisation: str = ""
    mailbox: bool = False


REACH_WORDS = {"": "", "here": " alone", "below": " for what is below", "here-and-below": " and below"}


def reach_words(reach: str) -> str:
    """How far a grant counts, behind its place."""
    return REACH_WORDS[reach]


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
    tenant: str = ""  # another than the home tenant
    reach: str = ""  # where it counts, seen from its place; not said: as its tenant's grants do

    @property
    def key(self) -> tuple[tuple[str, str], ...]:
        """What tells one wanted grant from another."""
        labels = (("label", f"{name} is {' or '.join(values)}") for name, values in self.where)
        more = (("to", self.to), ("reach", self.reach))
        return (("role", self.role), ("at", self.at), *labels, *((n, v) for n, v in more if v))

    @property
    def windowed(self) -> bool:
        return bool(self.lasts_seconds or self.start or self.until)

    def words(self) -> str:
        """The grant for reading, without its window."""
        rule = " and ".join(f"{name} is {' or '.join(values)}" for name, values in self.where)
        at = f"{'itself' if self.at == SELF else self.at}{reach_words(self.reach)}"
        return f"{self.role} at {at}{f' where {rule}' if rule else ''}{f' to {self.to}' if self.to else ''}"


class ServiceWant(NamedTuple):
    """A service that must be switched on at a place."""

    service: str
    at: str
    position: Position | None = None
    tenant: str = ""

    def words(self) -> str:
        return f"{self.service} at {self.at}"


class RoleWant(NamedTuple):
    """A custom role: a name for exactly these permissions; or for those of another role, `like` it, but for some."""

    name: str
    display: str
    permissions: tuple[str, ...]
    position: Position | None = None
    like: str = ""
    without: tuple[str, ...] = ()
    tenant: str = ""

    def of(self, roles: Mapping[str, frozenset[str]]) -> frozenset[str]:
        """Its permissions, where those of the tenant's roles are known."""
        return roles.get(self.like, frozenset()) - set(self.without) if self.like else frozenset(self.permissions)


class PermissionWant(NamedTuple):
    """One OAuth scope of an API, used on behalf of people or alone; `only`: the places it is narrowed to."""

    api: str
    scope: str
    acts: str
    only: tuple[str, ...] = ()
    position: Position | None = None

    def words(self) -> str:
        only = f", only {', '.join(self.only)}" if self.only else ""
        return f"{self.scope} of {self.api}, {WAYS[self.acts]}{only}"


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
    source: str = ""  # of a password: a reference to one that was chosen; none: it is made here
    signed_by: str = SELF_SIGNED  # of a certificate
    answer: CertificateAnswer | None = None  # what the house's CA answered
    endless: EndlessWant | None = None  # it has no end, and somebody accepted that; `lasts_seconds` means nothing then
    purpose: str = ""
    at: str = ""  # the place for which it is, where its tenant wants one

    @property
    def is_a(self) -> CredentialKind:
        """What its kind says of it."""
        return CREDENTIAL_KINDS[self.kind]

    @property
    def place(self) -> str:
        """Where it is kept as long as it is here: what is handed over stands in a file until then."""
        return "file" if self.keep_in == HANDOVER else self.keep_in

    @property
    def held_here(self) -> bool:
        return self.keep_in != "holder"

    def leaves(self, permission: str, place: str) -> bool:
        """Can a permission at a place be used with it, as far as it is narrowed?"""
        return (not self.limits or permission in self.limits) and self.at in ("", place)


class SignInTry(NamedTuple):
    """How somebody signs in: as whom (none: the identity), from which address, at a screen, with a second factor; or as which
    outside subject, by a trust, of whose subject `wrong` tells.
    """

    who: str = ""
    address: str = ""
    interactive: bool = False
    second_factor: bool = False
    trust: str = ""
    subject: str = ""
    wrong: tuple[Any, ...] = ()

    @property
    def outside(self) -> bool:
        """Is it somebody from outside, by one trust or (of whom none lets in) by any?"""
        return bool(self.trust or self.subject)

    def words(self) -> str:
        parts = [
            f"as {self.who}" if self.who else "",
            f"from {self.address}" if self.address else "",
            "interactively" if self.interactive else "",
            "with a second factor" if self.second_factor else "",
            f"from outside as {self.subject}, by {f'the trust {self.trust}' if self.trust else 'any trust'}"
            if self.outside
            else "",
        ]
        return " ".join(p for p in parts if p)


@dataclass(frozen=True, slots=True)
class ProofWant:
    """One expectation: the identity can, or cannot, use a permission at a place; `person`: acting on whose behalf.

    `credential`: tried with that one only; `during`: a role in whose window it holds, and not after; `follow`: a field of what
    is read, whose places must be readable, too; `sign_in`: it is about getting in; `program`: it is about as whom that runs.
    """

    allowed: bool
    permission: str
    at: str
    count: int | None = None
    at_least: int | None = None
    value: Mapping[str, Any] | None = None
    position: Position | None = field(default=None, compare=False)
    person: str = ""
    tenant: str = ""
    credential: str = ""
    during: str = ""
    follow: str = ""
    sign_in: SignInTry | None = None
    program: str = ""

    def words(self) -> str:
        can = "can" if self.allowed else "cannot"
        if self.sign_in is not None:
            return f"{can} sign in {self.sign_in.words()}".rstrip()
        if self.program:
            return f"{self.program} runs as it in {self.tenant}"
        extra = ""
        if self.count is not None:
            extra = f", exactly {self.count}"
        elif self.at_least is not None:
            extra = f", at least {self.at_least}"
        elif self.value is not None:
            extra = ", with " + ", ".join(f"{k} = {v}" for k, v in self.value.items())
        where = f"{self.at}{f' in {self.tenant}' if self.tenant else ''}{f' on behalf of {self.person}' if self.person else ''}"
        extra += f", and what its {self.follow} names" if self.follow else ""
        extra += f", while {self.during} lasts" if self.during and self.allowed else ""
        extra += f", since {self.during} does not last" if self.during and not self.allowed else ""
        return f"{can} {self.permission} at {where}{extra}{f', with {self.credential}' if self.credential else ''}"


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
    billing: str = ""  # the account that is to pay
    services: tuple[ServiceWant, ...] = ()
    roles: tuple[RoleWant, ...] = ()
    member_of: tuple[MemberWant, ...] = ()
    members: tuple[MemberWant, ...] = ()
    grants: tuple[GrantWant, ...] = ()
    permissions: tuple[PermissionWant, ...] = ()
    credentials: tuple[CredentialWant, ...] = ()
    trusts: tuple[TrustWant, ...] = ()
    delegation: DelegationWant | None = None
    workload: WorkloadWant | None = None
    signing: SigningWant | None = None
    proofs: tuple[ProofWant, ...] = ()
    sign_ins: tuple[ProofWant, ...] = ()  # expectations about getting in
    delegated: tuple[ProofWant, ...] = ()  # and about acting for people by a delegation
    asked: tuple[AskedWant, ...] = ()  # what it still waits for, of whom
    handover: HandoverWant | None = None
    sign_in: SignInWant | None = None
    licence: str = ""
    position: Position | None = field(default=None, compare=False)
    like: str = ""
    more: Mapping[str, Any] = field(default_factory=dict)  # sections of facets that are not ours

    @property
    def expectations(self) -> tuple[ProofWant, ...]:
        """All proofs, about places and about getting in."""
        return (*self.proofs, *self.sign_ins, *self.delegated, *self.runs)

    @property
    def runs(self) -> tuple[ProofWant, ...]:
        """That what is to run as it does."""
        want = self.workload
        return tuple(ProofWant(True, "run", "", tenant=want.tenant, program=p) for p in want.programs) if want else ()

    @property
    def is_team(self) -> bool:
        return self.identity.kind == TEAM

    @property
    def is_client(self) -> bool:
        return self.identity.kind == CLIENT

    @property
    def elsewhere(self) -> tuple[str, ...]:
        """The other tenants that entries of it name."""
        named = [e.tenant for entries in (self.services, self.roles, self.grants, self.proofs, self.trusts) for e in entries]
        named += [self.workload.tenant] if self.workload is not None else []
        return tuple(dict.fromkeys(t for t in named if t and t != self.tenant))

    def part(self, tenant: str) -> Charter:
        """What of it concerns one tenant; away from home the identity is a foreign principal, and signs in from home."""
        home = tenant == self.tenant
        if home and not self.elsewhere:
            return self

        def here(entry: GrantWant | ServiceWant | RoleWant | ProofWant | TrustWant) -> bool:
            return (entry.tenant or self.tenant) == tenant

        kept = replace(
            self,
            services=tuple(filter(here, self.services)),
            roles=tuple(filter(here, self.roles)),
            grants=tuple(filter(here, self.grants)),
            proofs=tuple(filter(here, self.proofs)),
            trusts=tuple(filter(here, self.trusts)),
        )
        if home:
            return kept
        return replace(
            kept,
            tenant=tenant,
            member_of=(),
            members=(),
            permissions=(),
            credentials=(),
            sign_ins=(),
            delegated=(),
            delegation=None,
            signing=None,
            sign_in=None,
            licence="",
            identity=Identity(FOREIGN, self.identity.name, self.identity.display, position=self.identity.position),
        )

    def about(self) -> dict[str, str]:
        """What the account or team says about itself in its tenant."""
        common = {"purpose": self.purpose, "owner": self.owner, "deputy": self.deputy, "stage": self.stage}
        if self.is_team or self.is_client:
            return common
        identity = self.identity
        return {
            "type": identity.kind,
            **common,
            "location": identity.location,
            "area": identity.area,
            "organisation": identity.organisation,
        }

    @property
    def areas(self) -> tuple[str, ...]:
        """The areas in which the grants lie: the places one below the root, or the root itself."""
        return tuple(dict.fromkeys("/".join(g.at.split("/")[:2]) for g in self.grants))

    @property
    def reach(self) -> tuple[str, ...]:
        """How far a team's grants count: what is said, or the one area where they lie."""
        return self.identity.reach if self.identity.reach is not None else self.areas[:1]
