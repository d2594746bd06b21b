"""The world file's model: every key that it may have, with its form. What its parts say of each other is in `worldcheck`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BeforeValidator, Field

from sigillum.reading.models import Instant, Section, by_pattern, text_schema

from .words import (
    CALL,
    POWERS,
    Class,
    Count,
    Crowd,
    Host,
    Json,
    Labels,
    LocalAccount,
    Machine,
    MachineGroup,
    Named,
    Needed,
    Network,
    PlacePath,
    Seconds,
    Text,
    Workload,
    known_powers,
)

__all__ = ["POWERS", "World"]


class Admin(Section):
    """An administrator; the token is made anew at each start, unless one is written here."""

    name: Text
    powers: Annotated[Literal["all"] | list[str], BeforeValidator(known_powers)] = ["look"]
    token: Text | None = None
    domain: str = Field("", description="The provisioning domain of its externalIds (RFC 7643 §3.1)")


class Limits(Section):
    """What the tenant announces and enforces, in seconds and numbers; 0: none."""

    assertion_seconds: Count = Field(3600, description="The longest life of an assertion")
    token_seconds: Count = Field(600, description="How long an access token lives")
    keys_per_principal: Count = Field(3, description="Credentials that one principal may have")
    credential_seconds: Count = Field(0, description="The longest life of a credential")
    arrival_seconds: Seconds = Field(0, description="Look-ups lag so long")
    felt_seconds: Count = Field(0, description="Decisions follow a change so much later")
    answer_items: Count = Field(100, description="What one call of the working interface gives at most")
    accepted_late_seconds: Count = Field(0, description="A new key is taken only so long after it was made")
    ended_still_taken_seconds: Count = Field(0, description="An ended key is taken for so long")


class Permission(Section):
    """One permission, its class, and the call of the working interface that takes it."""

    class_: Class = Field("looks", alias="class")
    call: Annotated[str, by_pattern(CALL, "call", "a call", "write it like `POST /streams/{place}`"), text_schema()]
    service: Text | None = Field(None, description="Must be on at the place or above it")
    api: Text | None = Field(None, description="A client needs consent to this scope of that API")
    licence: Text | None = Field(None, description="The licence that the principal has to hold")
    located: bool = Field(False, description="True: principal and place must have one location")
    needs: list[Needed] = []
    takes: list[
        Literal["key-pair", "certificate", "api-token", "shared-secret", "password", "trust", "delegation", "signing"]
    ] = Field([], description="With which kinds of sign-in it is taken; none: all")
    checked: str | None = Field(None, description="The day on which that was looked at last")


class Price(Section):
    """What a service or a licence costs."""

    of: Text
    price: Text = Field(description="In words, like 12 EUR a month")
    size: Text | None = None
    free_in: list[Text] = Field([], description="Locations in which it is free")
    checked: Text | None = Field(None, description="The day on which it was looked at last")


class Role(Section):
    """A named set of permissions."""

    name: Text
    display: str = ""
    breadth: Literal["broad", "curated"] = "curated"
    permissions: list[str]
    grantable_at: list[str] = Field([], description="Kinds of places; none: any. `principal`: a principal as the place")


class Place(Section):
    """A node of the resource tree; the places above it stand before it."""

    path: PlacePath
    kind: str | None = Field(None, description="project, stream ...; a stream, board or dataset holds items")
    display: str | None = None
    test_object: bool | None = Field(None, description="May be changed by a trial without harm")
    location: str | None = None
    billing: str | None = Field(None, description="The billing account that pays for it and for what is below")
    services: list[str] = Field([], description="Switched on here")
    labels: Labels = {}
    items: list[Json] | None = Field(None, description="What the working interface gives here")
    made: Instant | None = None


class Account(Section):
    """A person, a service account or a foreign principal."""

    name: Text
    display: str = ""
    active: bool = True
    purpose: str = ""
    owner: str = ""
    deputy: str = ""
    email: Text | None = Field(None, description="Its address")
    stage: str = ""
    made: Instant | None = None
    organisation: str = ""
    location: str = ""
    subject: str = Field("", description="Of a foreign principal: its client id at home")
    methods: list[str] = Field([], description="Registered ways of proving a second factor")
    second_factor: Literal["asked", "waived"] = "asked"


class Joined(Section):
    """A member that has not been in the team for long."""

    member: Text
    at: Instant


class Team(Section):
    """A team, its members, and how far it reaches."""

    name: Text
    members: list[str] = []
    joined: list[Joined] = []
    purpose: str = ""
    owner: str = ""
    deputy: str = ""
    stage: str = ""
    reach: list[str] = Field([], description="Places in which its grants count; none: everywhere")
    everyone: bool = Field(False, description="Every principal is in it")


class Scope(Section):
    """One scope of an API."""

    scope: Text
    display: str | None = None
    class_: Class = Field("looks", alias="class")
    acts: list[Literal["on-behalf", "alone"]] = ["on-behalf", "alone"]
    narrowed_to: str | None = Field(None, description="The kind of place to which a consent can be narrowed")
    always: bool = Field(False, description="Nobody has to consent to it")


class Api(Section):
    """An API with its scopes."""

    name: Text
    display: str | None = None
    scopes: list[Scope]


class Consented(Section):
    """What a client asks for, and who consented."""

    api: Text
    scope: Text
    acts: Literal["on-behalf", "alone"]
    only: list[str] | None = None
    consented_by: str | None = None


class Client(Section):
    """A registration that stands already, with its service principal."""

    name: Text
    owner: str = ""
    purpose: str = ""
    redirects: list[str] = []
    permissions: list[Consented] = []


class Rule(Section):
    """A sign-in rule: what is demanded, and of whom."""

    name: Text
    enabled: bool = True
    everyone: bool = Field(False, description="The tenant-wide default")
    targets: list[str] = []
    exempt: list[str] = []
    narrowable: bool = Field(True, description="False: it knows no exemptions")
    applies_to: Literal["any", "interactive", "non-interactive"] = "any"
    demands: list[Literal["second-factor", "device"]] = []
    networks: list[Network] = []
    blocks: bool = False


class Licence(Section):
    """What has to be held to use something."""

    name: Text
    display: str | None = None
    kind: Literal["per-user", "capacity"] = "per-user"
    total: Count = 0
    mailbox: bool = Field(False, description="It includes a mailbox")
    holders: list[str] = []


class Grant(Section):
    """A role that somebody holds already."""

    to: Text
    role: Text
    at: Text = Field(description="A place, or `@NAME`: a principal as the place")
    reason: str | None = None
    start: Instant | None = Field(None, alias="from")
    until: Instant | None = None
    where: Labels = {}
    made: Instant | None = None


class Delegation(Section):
    """A right to act for people that stands already."""

    to: Text = Field(description="A client or an account")
    domain: Text
    people: list[Text] = Field(description="all, user names, or team: and the name of a team")
    scopes: list[Text]


class Credential(Section):
    """A credential that stands already; nobody here has the secret to it."""

    of: Text
    name: Text
    kind: Literal["key-pair", "certificate", "api-token", "shared-secret", "password"] = "key-pair"
    limits: list[str] = []
    active: bool = True
    made: Instant | None = None
    last_used: Instant | None = Field(None, description="When it was used before the sandbox began")
    last_used_from: str = Field("", description="From which address that was")
    start: Instant | None = Field(None, alias="from")
    until: Instant | None = None


class Slow(Section):
    """Of one resource type: creations are accepted, and finished later or never."""

    seconds: Seconds
    fails: bool = False


class Precondition(Section):
    """What has to be so before some types can be made."""

    what: Literal["verified-organisation", "owner", "native-account"]
    types: list[str] = []
    met: bool = False
    about: str = ""


class Tenant(Section):
    """One simulated tenant."""

    title: str = ""
    stage: str = "test"
    admins: list[Admin]
    limits: Limits | None = None
    permissions: dict[str, Permission] = {}
    roles: list[Role] = []
    places: list[Place] = []
    people: list[Account] = []
    accounts: list[Account] = []
    foreign: list[Account] = []
    crowd: Crowd = Field(0, description="So many accounts more, for measuring")
    teams: list[Team] = []
    apis: list[Api] = []
    clients: list[Client] = []
    sign_in_rules: list[Rule] = []
    licences: list[Licence] = []
    grants: list[Grant] = []
    delegations: list[Delegation] = []
    credentials: list[Credential] = []
    without: list[str] = Field([], description="Resource types that it does not have")
    organisations: list[str] = Field([], description="Tenants here, or issuers, whose clients can be foreign principals")
    external_id_unique: bool = True
    born_inactive: bool = Field(True, description="A credential can be made inactive and activated later")
    secret_delivery: Literal["sealed", "once"] = "sealed"
    last_used: Literal["second", "day", "none"] = Field("second", description="How exactly it tells when a credential was used")
    ended_count: bool = Field(False, description="Credentials that ended by themselves count among those of a principal")
    repeated_keys: bool = Field(False, description="A principal's key can be registered once more, with its own end")
    speaks: Literal["standard", "own"] = Field("standard", description="own: it has an interface of its own, and no other")
    passwords_last_days: Count = Field(0, description="A password ends by itself after so many days, unless switched off")
    checks_keys: bool = Field(False, description="A public key that cannot be used is refused")
    windows_on_broad: bool = Field(True, description="False: a broad role takes no time limit")
    windows_on_everyone: bool = True
    locations: list[Text] = Field([], description="In a row, neighbours beside each other")
    prices: list[Price] = []
    acting: str | None = Field(None, description="The permission by which somebody acts as a principal")
    accounts_live_in: str | None = Field(None, description="The kind of place in which accounts live")
    accounts_drafted: bool = Field(False, description="Accounts are born as drafts")
    credential_kinds: list[Literal["key-pair", "certificate", "api-token", "shared-secret", "password"]] | None = None
    assertion_algorithms: list[Literal["Ed25519", "EdDSA", "ES256", "RS256"]] | None = Field(
        None, description="By which assertions may be signed; none: by all of them"
    )
    limits_compulsory: bool = Field(False, description="A token must be narrowed, and end")
    tokens_outlive: bool = Field(False, description="Access tokens of somebody who was deleted go on until their end")
    registrations_rotate: bool = Field(False, description="An update of a registration gives a new token and secret (RFC 7592)")
    bearer_grant_authenticates: bool = Field(False, description="The JWT bearer grant wants client authentication, too")
    preconditions: list[Precondition] = []
    machines: list[Machine] = Field([], description="Machines and workloads whose tokens it issues")
    addresses: Text | None = Field(None, description="The domain of the addresses that its service accounts get")
    directory: list[Text] = Field([], description="Permissions to look after the directory itself")
    signing: list[Text] = Field([], description="Permissions that it takes, over an account, to have the tenant sign for it")
    hosts: list[Host] = []
    local_accounts: list[LocalAccount] = Field([], description="Of a cluster")
    workloads: list[Workload] = []
    machine_groups: list[MachineGroup] = []
    slow: dict[str, Slow] = {}


class World(Section):
    """A world file."""

    world: str = ""
    tenants: dict[Named, Tenant]
