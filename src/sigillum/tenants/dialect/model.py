"""A dialect file's model: every key that it may have, with its form. What its parts say of each other is in `check`."""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, ConfigDict, Field, model_validator
from pydantic_core import PydanticCustomError

from sigillum.core.values import times
from sigillum.protocols.headers import fault_of
from sigillum.reading.models import (
    WHOLE,
    Day,
    Duration,
    OrOne,
    OrText,
    Section,
    duration,
    says,
    several,
    text_schema,
    wrong,
)

from .call_model import (
    AnswerSection,
    CallSection,
    ChangeSection,
    Class,
    Ends,
    KindName,
    ListSection,
    Makes,
    Named,
    OneSection,
    Permission,
    Pointer,
    Scalar,
    Shown,
    Spot,
    ToldSection,
)


class MembersSection(Section):
    """How an entry comes into a list of a thing, and out of it: by a call each, or by writing the thing with its list."""

    all: ListSection | None = Field(None, description="The call that lists them, where the thing itself does not show them")
    each: Pointer = Field("/id", description="Of that list: where the id stands in each entry")
    add: CallSection | None = None
    take: CallSection | None = None
    read: CallSection | None = None
    write: CallSection | None = Field(
        None, description="Its body knows {document}, what was read with the list in it, and {entries}, the list alone"
    )
    entries: Pointer = Field("", description="Where the list is in what was read")
    entry: Any = Field("{value}", description="What stands in it for one")

    model_config = says({"oneOf": [{"required": ["add", "take"]}, {"required": ["read", "write"]}]})

    @model_validator(mode="after")
    def _one(self) -> MembersSection:
        given = [n for n in ("add", "take", "read", "write") if getattr(self, n) is not None]
        if given not in (["add", "take"], ["read", "write"]):
            raise wrong(
                "lists", "it is not said how an entry comes in and goes out", "write `add` and `take`, or `read` and `write`"
            )
        return self


class DocumentSection(Section):
    """Things that are entries of one document."""

    of: KindName = Field("place", description="There is one document at each of these")
    read: CallSection
    write: CallSection = Field(description="Its body knows {document}")
    revision: Pointer | None = Field(None, description="Where the revision stands in the document; none: the ETag is named")
    unguarded: str | None = Field(None, description="Why it is written without a revision, which may overwrite others")
    late: Duration = Field(0, description="Where the revision is made of the content: how late a request can still arrive")
    entries: Pointer
    members: Pointer | None = Field(None, description="Of entries that stand for several members: where the list of them is")
    entry: Any = Field(description="A new entry: a mapping with {member} where it has members, or a text")


class ThingSection(Section):
    """How one kind of thing is found, made, changed and ended."""

    id: Shown | list[str] = Field(description="Where its id stands; or of which fields it is made")
    shows: dict[str, Shown] = Field(default_factory=dict)
    omits: list[str] = Field(default_factory=list, description="Fields that an answer leaves out where they are empty")
    all: ListSection | None = None
    also: list[ListSection] = Field(default_factory=list, description="Further lists of the same kind")
    one: OneSection | None = None
    find: dict[str, ListSection] = Field(default_factory=dict, description="Calls that find by one field")
    make: Makes = Field(default_factory=list, description="One call, or several of which the first that fits is made")
    change: list[ChangeSection] = Field(default_factory=list)
    end: Ends = Field(default_factory=list, description="One call, or several of which the first that fits is made")
    lists: dict[str, MembersSection] = Field(default_factory=dict)
    document: DocumentSection | None = None
    gone: ToldSection | None = Field(None, description="Of one that is still shown after its end: how that is told")
    by: dict[str, Pointer] = Field(
        default_factory=dict, description="Of grants: values that tell the role, as `roles` has them"
    )
    level: bool = Field(False, description="Of grants: a principal has one role at a place, and the making sets it")
    parent: Pointer | None = Field(None, description="Of places: where the id of the place above stands")
    secret: CallSection | None = Field(None, description="Of credentials: the call that gives the secret, once")
    secret_at: Pointer = ""

    model_config = ConfigDict(extra="forbid", strict=True, frozen=True, populate_by_name=True, defer_build=True)


class TokenSection(CallSection):
    """A call that gives a token, which is then presented."""

    token: Spot


class SignsSection(Section):
    """A signed assertion (RFC 7523): what it says beside `iat`, `exp` and `jti`. It is made anew each time."""

    claims: dict[str, Scalar]
    header: dict[str, str] = Field(default_factory=dict)
    algorithm: Literal["Ed25519", "EdDSA", "ES256", "RS256"]
    lives: Duration = Field(60, description="How long it holds")


class WaySection(Section):
    """How somebody proves who they are: one of these."""

    basic: str | None = Field(None, description="The name beside the password (RFC 7617)")
    header: str | None = Field(None, description="The header that holds it")
    value: str = Field("Bearer {secret}", description="What stands in the header")
    first: TokenSection | None = Field(
        None, description="A call that gives what is presented, as {token}; {doing} is looks or changes"
    )
    signs: SignsSection | None = Field(None, description="The secret is a private key (PEM or JWK), and signs {assertion}")
    at: list[str] = Field(default_factory=list, description="Of an identity: the kinds of place for which it is; none: all")

    @model_validator(mode="after")
    def _one(self) -> WaySection:
        if (self.basic is None) == (self.header is None):
            raise wrong("way-in", "just one way has to be named", "write `basic: '{admin}'`, or `header: Authorization`")
        if self.header is not None and (fault := fault_of(self.header, re.sub(r"\{[^{}]*\}", "", self.value))):
            raise wrong("header", *fault)
        return self


class WaysSection(Section):
    administrator: WaySection
    identity: dict[
        Literal["password", "api-token", "key-pair"], Annotated[list[WaySection], BeforeValidator(several), OrOne()]
    ] = Field(
        default_factory=dict, description="By kinds of credential: one way, or several for the kinds of place that they name"
    )


class PermissionSection(Section):
    """One permission: its class, and the call that tries it without harm."""

    class_: Class = Field(alias="class")
    at: list[str] = Field(default_factory=list, description="The kinds of place at which it means something; none: all")
    try_: CallSection | None = Field(None, alias="try", description="As the identity; it knows {place} and the place's values")
    before: list[CallSection] = Field(default_factory=list, description="What the administrator has to make first for it")
    after: list[CallSection] = Field(default_factory=list, description="What ends that again")


class RoleSection(Section):
    """A role that the interface does not list."""

    name: str
    display: str = ""
    permissions: list[str]
    at: list[str] = Field(default_factory=list, description="The kinds of place at which it can be granted; none: all")
    values: dict[str, Scalar] = Field(
        default_factory=dict, description="By what a grant of it is told, where it has no name there"
    )


class PlaceSection(Section):
    """A place that the interface does not list."""

    path: str
    kind: str = "place"


class DecideSection(CallSection):
    """The tenant's own decision, asked for {principal}, {permission} and {place}."""

    allows: ToldSection | None = None
    by: Literal["identity", "administrator"] = "identity"


class WhoSection(CallSection):
    """As whom somebody is signed in."""

    at: Pointer
    field: str = Field("id", description="What stands there: a field of the account")


class StoreSection(Section):
    """Secrets by their paths, of which the first part is {container} and the rest {name}."""

    read: CallSection
    value: Pointer = Field(description="Where the text stands in the answer of `read`")
    write: CallSection = Field(description="It knows {content}")
    end: CallSection
    joins: str = Field(".", description="What stands between a name and the number of its generation")
    versions: ListSection | None = Field(None, description="The versions of one secret")
    version: Pointer = Field("", description="Where its number or name stands in an entry of `versions`")
    newest: Literal["first", "last"] = Field("last", description="Where the one that readers get stands among them")
    end_version: CallSection | None = Field(None, description="It knows {version}; what no reader gets any more is destroyed")

    model_config = says({"dependentRequired": {"versions": ["end_version"], "end_version": ["versions"]}})

    @model_validator(mode="after")
    def _both(self) -> StoreSection:
        if (self.versions is None) != (self.end_version is None):
            raise wrong("store", "old versions are listed and ended, or neither", "write both `versions` and `end_version`")
        return self


def _arrival(value: Any) -> Any:
    if value in ("at-once", "unknown"):
        return value
    try:
        return duration(value)
    except PydanticCustomError:
        raise wrong(
            "arrival",
            "it is not said how long a change takes until look-ups show it",
            "write at-once, unknown, or a time like 30s",
        ) from None


Arrival = Annotated[
    Any, BeforeValidator(_arrival), text_schema(pattern=f"^(at-once|unknown|{times.DURATION.replace(WHOLE, '')})$")
]


class MarkSection(Section):
    """The form of our mark, where a tenant has room for another one than usual."""

    alphabet: Annotated[str, Field(min_length=2, max_length=95)] = Field(description="Its characters, each once")
    length: Annotated[int, Field(ge=1, le=64)]

    @model_validator(mode="after")
    def _enough(self) -> MarkSection:
        if len(set(self.alphabet)) != len(self.alphabet) or not self.alphabet.isascii() or not self.alphabet.isprintable():
            raise wrong("mark", "an alphabet has each of its characters once", "write it like abcdef0123456789")
        if not 2**MARK_BITS <= len(self.alphabet) ** self.length <= 2**256:
            raise wrong("mark", "a mark of that form is not told from others", f"make it longer: {MARK_BITS} bits or more")
        return self


MARK_BITS = 48


class SaysSection(Section):
    """What its reference says of it, and no answer does."""

    title: str = ""
    stage: str = ""
    arrival: Arrival = Field(
        description="How long a change may take until look-ups show it: at-once, unknown, or a time like 30s"
    )
    tokens_live: Duration | None = None
    tokens_die_with: Annotated[
        list[Literal["password", "api-token", "key-pair"]],
        BeforeValidator(lambda v: [v] if isinstance(v, str) else v),
        OrText(enum=["password", "api-token", "key-pair"]),
    ] = Field(default_factory=list, description="The kinds of credential with whose end the tokens end that were got with it")
    credentials_live: Duration | None = Field(None, description="How long a credential lives at most")
    credential_grain: Duration = Field(1, description="Ends of credentials fall onto whole ones of these, like 1d")
    credentials: int | None = Field(None, description="How many a principal may have")
    ended_count: bool = False
    limits: Literal["permissions", "roles"] = Field(
        "permissions", description="What a credential is narrowed to there; of roles, those of its principal within them"
    )
    born_inactive: bool = False
    repeated_keys: bool = False
    kinds: list[Literal["password", "api-token", "key-pair"]] = Field(default_factory=list)
    accounts_live_in: str | None = Field(None, description="The kind of place in which accounts live; its path is their `area`")
    last_used: Literal["second", "day", "none"] | None = None
    grants_reach: Literal["here", "below", "here-and-below"] = Field(
        "here-and-below", description="Where a grant counts, seen from its place; one that differs shows `reach` itself"
    )
    without: list[KindName] = Field(default_factory=list, description="Kinds that do not exist there at all")
    assertion_algorithms: list[Literal["Ed25519", "EdDSA", "ES256", "RS256"]] = Field(default_factory=list)
    mark: MarkSection | None = Field(None, description="The form of our mark there; none: 28 letters, digits, - and _")
    names_unique: Literal["tenant", "area"] = Field("tenant", description="Within what an account's name is taken")
    grant_grain: Duration = Field(1, description="Ends of grants fall onto whole ones of these, like 1d")
    marks_unique: bool = Field(False, description="A second thing of the same mark is refused")


class DialectFile(Section):
    """All of a dialect file."""

    dialect: Named
    about: str = Field("", description="What it describes: product and version, where that was read, and when")
    version: str = Field("", description="Of the description itself")
    proved: Day | None = Field(None, description="The day on which it was proved last at the real thing")
    ways_in: WaysSection
    says: SaysSection
    words: dict[str, dict[str, Scalar]] = Field(default_factory=dict, description="Tables: their word, and ours")
    answers: list[AnswerSection] = Field(default_factory=list, description="What answers of all calls mean")
    things: dict[KindName, ThingSection]
    roles: list[RoleSection] = Field(default_factory=list)
    places: list[PlaceSection] = Field(default_factory=list)
    trial_places: list[str] = Field(default_factory=list, description="Places that are marked for trials")
    permissions: dict[Permission, PermissionSection] = Field(default_factory=dict)
    decides: DecideSection | None = None
    who: WhoSection | None = None
    store: StoreSection | None = None
