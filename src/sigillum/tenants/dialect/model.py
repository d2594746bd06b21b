"""A dialect file's model: every key that it may have, with its form. What its parts say of each other is in `check`."""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from jsonpointer import JsonPointer, JsonPointerException
from pydantic import BeforeValidator, ConfigDict, Field, model_validator
from uritemplate import URITemplate

from sigillum.core.values.text import CLASSES, PERMISSION
from sigillum.reading.models import Duration, Section, by_pattern, form_schema, one_of, says, text_schema, wrong

METHODS = ("get", "post", "put", "patch", "delete")
NAME = re.compile(r"[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?\Z")
EXPANSION = re.compile(r"\{\??[a-z][a-z0-9_]*(?:,[a-z][a-z0-9_]*)*\}")
Means = Literal["done", "exists", "missing", "hidden", "stale", "busy", "refused", "spent", "unchanged", "unsure"]
KindName = Literal["account", "team", "place", "role", "grant", "credential"]


def _pointer(value: Any) -> Any:
    try:
        JsonPointer(value if isinstance(value, str) else "?")
    except JsonPointerException as problem:
        raise wrong(
            "pointer", "this is no JSON Pointer (RFC 6901)", "write it like /data/items, or '' for all of it"
        ) from problem
    return value


def _address(value: Any) -> Any:
    """An address template: simple and query expansions only (RFC 6570 §3.2.2, §3.2.8), none of them in the origin."""
    rest = EXPANSION.sub("", value) if isinstance(value, str) else "{"
    start = value.removeprefix("https://").removeprefix("http://").partition("/")[0] if isinstance(value, str) else "{"
    if "{" in rest or "}" in rest or (not value.startswith("/") and "{" in start) or not value.startswith(("/", "http")):
        raise wrong(
            "address",
            "this is no address of a call",
            "begin with /, and write {name} for a value, or {?a,b} for values of the query",
        )
    return value


def _class(value: Any) -> Any:
    if value not in CLASSES:
        raise wrong("class", "this is no class of permissions", f"known: {', '.join(CLASSES)}")
    return value


Pointer = Annotated[str, BeforeValidator(_pointer), text_schema(pattern="^(/|$)", format="json-pointer")]
Url = Annotated[str, BeforeValidator(_address), text_schema(format="uri-template")]
Named = Annotated[str, by_pattern(NAME, "name", "a name", "use small letters, digits and dashes"), form_schema(NAME.pattern)]
Permission = Annotated[
    str,
    by_pattern(PERMISSION, "permission", "a permission", "write thing.verb, like queue.read"),
    form_schema(PERMISSION.pattern),
]
Class = Annotated[str, BeforeValidator(_class), text_schema(enum=list(CLASSES))]
Scalar = str | int | bool


class ToldSection(Section):
    """How something is told by an answer: by its status and, where that is not enough, by a value in it."""

    status: list[int] | int | None = None
    at: Pointer | None = None
    is_: Any = Field(None, alias="is", description="The value there; none named: whatever stands there")
    contains: str | None = Field(None, description="Part of the text there")

    model_config = says({"anyOf": [{"required": ["status"]}, {"required": ["at"]}]})

    @model_validator(mode="after")
    def _tells(self) -> ToldSection:
        if self.status is None and self.at is None:
            raise wrong("answer", "neither a status nor a place in the answer is named", "add `status: 409`, or `at: /error`")
        return self


class AnswerSection(ToldSection):
    """What an answer means."""

    means: Means


class PageSection(Section):
    """How a list goes on: just one of these ways."""

    link: str | None = Field(None, description="The `rel` of a Link header (RFC 8288)")
    address: Pointer | None = Field(None, description="Where the next page's address stands")
    token: Pointer | None = Field(
        None, description="Where a token for the next page stands; `query` is the parameter that takes it"
    )
    offset: str | None = Field(None, description="The parameter that takes how many were read")
    number: str | None = Field(None, description="The parameter that takes the page's number")
    first: int = Field(1, description="The number of the first page")
    query: str | None = None

    model_config = says(one_of("link", "address", "token", "offset", "number"))

    @model_validator(mode="after")
    def _one(self) -> PageSection:
        ways = [w for w in ("link", "address", "token", "offset", "number") if getattr(self, w) is not None]
        if len(ways) != 1:
            raise wrong(
                "page", "just one way to the next page has to be named", "write one of link, address, token, offset, number"
            )
        if (self.token is not None) != (self.query is not None):
            raise wrong(
                "page-token", "a token goes with the parameter that takes it", "write `token: /next` and `query: page_token`"
            )
        return self


class LaterSection(Section):
    """A creation that finishes later: the operation of the answer is looked at until it is done."""

    operation: Pointer = Field(description="Where the operation's name or address stands in the answer")
    get: Literal["{operation}"] | Url = Field(description="What is looked at; {operation} alone is an address")
    done: ToldSection
    failed: ToldSection | None = None


class CallSection(Section):
    """One call. Just one of the methods, with its address."""

    get: Url | None = None
    post: Url | None = None
    put: Url | None = None
    patch: Url | None = None
    delete: Url | None = None
    query: dict[str, Scalar] = Field(default_factory=dict)
    headers: dict[str, str] = Field(default_factory=dict)
    body: Any = None
    form: dict[str, Scalar] | None = Field(None, description="Sent as application/x-www-form-urlencoded")
    answers: list[AnswerSection] = Field(default_factory=list)

    model_config = says(one_of(*METHODS))

    @model_validator(mode="after")
    def _one_method(self) -> CallSection:
        if sum(getattr(self, m) is not None for m in METHODS) != 1:
            raise wrong("method", "a call has just one method", f"write one of {', '.join(METHODS)}, with an address")
        if self.body is not None and self.form is not None:
            raise wrong("body", "a body and a form are both given", "keep one of them")
        return self

    @property
    def method(self) -> str:
        return next(m for m in METHODS if getattr(self, m) is not None)

    @property
    def address(self) -> str:
        return str(getattr(self, self.method))

    def named(self) -> set[str]:
        """The values that its address needs."""
        return set(URITemplate(self.address).variable_names)


class ListSection(CallSection):
    """A call that lists things."""

    items: Pointer = ""
    page: PageSection | None = None
    short: bool = Field(False, description="What it lists is a short form: each is read by itself")
    single: bool = Field(False, description="It answers with one thing, not with a list")
    each: KindName | None = Field(None, description="It is asked for each thing of that kind, whose values it knows")


class MakeSection(CallSection):
    """A call that makes a thing."""

    look_first: bool = Field(False, description="It would change what stands there: that is looked for first")
    id: Pointer | None = Field(None, description="Where the new id stands in the answer, if elsewhere than where it is shown")
    secret: Pointer | None = Field(None, description="Where a secret stands in the answer, shown once")
    later: LaterSection | None = None


class ChangeSection(CallSection):
    """A call that changes some fields of a thing."""

    fields: list[str] = Field(description="The fields that it changes")
    when: dict[str, Scalar] = Field(default_factory=dict, description="Only where a field is to become this")
    whole: bool = Field(False, description="It sends the whole thing as it was read, with the changes of `body` in it")
    without: list[Pointer] = Field(default_factory=list, description="Of a whole: what may not be sent")
    if_match: bool = Field(False, description="It names the version that was read (RFC 9110 §13.1.1)")


class ShownSection(Section):
    """Where a field stands in an answer, and in which form."""

    at: Pointer | None = None
    as_: str | None = Field(None, alias="as", description="The form: one of ours, or a table under `words`")
    each: Pointer | None = Field(None, description="Of a list: where the value stands in each entry")
    starts: str | None = Field(None, description="It is what follows this, in a text or in the first such entry of a list")
    is_: str | None = Field(
        None, alias="is", description="It is not shown, and follows from what was asked for, like {principal}"
    )

    model_config = says(one_of("at", "is"))

    @model_validator(mode="after")
    def _somewhere(self) -> ShownSection:
        if (self.at is None) == (self.is_ is None):
            raise wrong("shown", "it is not said where it stands", "write `at: /pointer`, or `is: '{name}'`")
        return self


def _shown(value: Any) -> Any:
    return {"at": value} if isinstance(value, str) else value


Shown = Annotated[ShownSection, BeforeValidator(_shown)]


class MembersSection(Section):
    """How an entry comes into a list of a thing, and out of it."""

    add: CallSection
    take: CallSection


class DocumentSection(Section):
    """Things that are entries of one document."""

    of: KindName = Field("place", description="There is one document at each of these")
    read: CallSection
    write: CallSection = Field(description="Its body knows {document}")
    revision: Pointer | None = Field(None, description="Where the revision stands in the document; none: the ETag is named")
    unguarded: str | None = Field(None, description="Why it is written without a revision, which may overwrite others")
    entries: Pointer
    members: Pointer | None = Field(None, description="Of entries that stand for several members: where the list of them is")
    entry: dict[str, Any] = Field(description="A new entry, without its members")


class ThingSection(Section):
    """How one kind of thing is found, made, changed and ended."""

    id: Shown | list[str] = Field(description="Where its id stands; or of which fields it is made")
    shows: dict[str, Shown] = Field(default_factory=dict)
    all: ListSection | None = None
    one: CallSection | None = None
    find: dict[str, ListSection] = Field(default_factory=dict, description="Calls that find by one field")
    make: MakeSection | None = None
    change: list[ChangeSection] = Field(default_factory=list)
    end: CallSection | None = None
    lists: dict[str, MembersSection] = Field(default_factory=dict)
    document: DocumentSection | None = None
    gone: ToldSection | None = Field(None, description="Of one that is still shown after its end: how that is told")
    by: dict[str, Pointer] = Field(
        default_factory=dict, description="Of grants: values that tell the role, as `roles` has them"
    )
    parent: Pointer | None = Field(None, description="Of places: where the id of the place above stands")
    secret: CallSection | None = Field(None, description="Of credentials: the call that gives the secret, once")
    secret_at: Pointer = ""

    model_config = ConfigDict(extra="forbid", strict=True, frozen=True, populate_by_name=True, defer_build=True)


class TokenSection(CallSection):
    """A call that gives a token, which is then presented."""

    token: Pointer


class WaySection(Section):
    """How somebody proves who they are: one of these."""

    basic: str | None = Field(None, description="The name beside the password (RFC 7617)")
    header: str | None = Field(None, description="The header that holds it")
    value: str = Field("Bearer {secret}", description="What stands in the header")
    first: TokenSection | None = Field(None, description="A call that gives what is presented, as {token}")

    @model_validator(mode="after")
    def _one(self) -> WaySection:
        if (self.basic is None) == (self.header is None):
            raise wrong("way-in", "just one way has to be named", "write `basic: '{admin}'`, or `header: Authorization`")
        return self


class WaysSection(Section):
    administrator: WaySection
    identity: dict[Literal["password", "api-token", "key-pair", "shared-secret"], WaySection] = Field(default_factory=dict)


class PermissionSection(Section):
    """One permission: its class, and the call that tries it without harm."""

    class_: Class = Field(alias="class")
    try_: CallSection | None = Field(None, alias="try", description="As the identity; it knows {place} and the place's values")


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

    yes: ToldSection | None = None
    by: Literal["identity", "administrator"] = "identity"


class WhoSection(CallSection):
    """As whom somebody is signed in."""

    at: Pointer
    field: str = Field("id", description="What stands there: a field of the account")


class SaysSection(Section):
    """What its reference says of it, and no answer does."""

    title: str = ""
    stage: str = ""
    arrival: Literal["at-once", "unknown"] | Duration = Field(
        description="How long a change may take until look-ups show it: at-once, unknown, or a time like 30s"
    )
    tokens_live: Duration | None = None
    credentials_live: Duration | None = Field(None, description="How long a credential lives at most")
    credential_grain: Duration = Field(1, description="Ends of credentials fall onto whole ones of these, like 1d")
    credentials: int | None = Field(None, description="How many a principal may have")
    ended_count: bool = False
    born_inactive: bool = False
    repeated_keys: bool = False
    kinds: list[Literal["password", "api-token", "key-pair", "shared-secret"]] = Field(default_factory=list)
    last_used: Literal["second", "day", "none"] | None = None
    without: list[KindName] = Field(default_factory=list, description="Kinds that do not exist there at all")
    marks_unique: bool = Field(False, description="A second thing of the same mark is refused")


class DialectFile(Section):
    """All of a dialect file."""

    dialect: Named
    about: str = Field("", description="What it describes: product and version, where that was read, and when")
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
