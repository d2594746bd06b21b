"""The model of a dialect's calls: addresses, bodies, answers, pages, and what finishes later."""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from jsonpointer import JsonPointer, JsonPointerException
from pydantic import BeforeValidator, Field, model_validator

from sigillum.core.values.text import CLASSES, PERMISSION
from sigillum.reading.models import (
    OrOne,
    OrText,
    Section,
    by_pattern,
    form_schema,
    one_of,
    says,
    several,
    text_schema,
    wrong,
)

METHODS = ("get", "post", "put", "patch", "delete")
NAME = re.compile(r"[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?\Z")
_VALUE = r"[a-z][a-z0-9_.]*(?:\|[a-z][a-z0-9_-]*)?"
EXPANSION = re.compile(rf"\{{(?:{_VALUE}|\?{_VALUE}(?:,{_VALUE})*)\}}")
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


def at_(value: Any) -> Any:
    """A text stands for a place in the answer."""
    return {"at": value} if isinstance(value, str) else value


class SpotSection(Section):
    """Where something stands in an answer: in its body, or in a header."""

    at: Pointer | None = None
    header: str | None = Field(None, description="Like Location; of an id, it is the last part of that address")

    model_config = says(one_of("at", "header"))

    @model_validator(mode="after")
    def _one(self) -> SpotSection:
        if (self.at is None) == (self.header is None):
            raise wrong("spot", "it is not said where it stands", "write a pointer, or `{header: Location}`")
        return self


Spot = Annotated[SpotSection, BeforeValidator(at_), OrText(pattern="^(/|$)")]


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


class ShownSection(Section):
    """Where a field stands in an answer, and in which form."""

    at: Pointer | None = None
    any: list[Pointer] = Field(
        default_factory=list, description="Where it stands in one sort of answer or another: the first that is there"
    )
    as_: str | None = Field(None, alias="as", description="The form: one of ours, or a table under `words`")
    each: Pointer | None = Field(None, description="Of a list: where the value stands in each entry")
    starts: str | None = Field(None, description="It is what follows this, in a text or in the first such entry of a list")
    before: str | None = Field(None, description="Of a text: what stands before the first of these, like ':'")
    after: str | None = Field(None, description="Of a text: what stands after the first of these")
    is_: str | None = Field(
        None, alias="is", description="It is not shown, and follows from what was asked for, like {principal}"
    )

    model_config = says(one_of("at", "any", "is"))

    @model_validator(mode="after")
    def _somewhere(self) -> ShownSection:
        if sum((self.at is not None, bool(self.any), self.is_ is not None)) != 1:
            raise wrong("shown", "it is not said where it stands", "write `at: /pointer`, or `is: '{name}'`")
        return self

    @property
    def spots(self) -> list[str]:
        """The pointers under which it may stand, in the order in which they are looked at."""
        return self.any or [str(self.at)]


Shown = Annotated[ShownSection, BeforeValidator(at_), OrText(pattern="^(/|$)")]


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
    more: Pointer | None = Field(None, description="Where it is told whether there is another page")
    in_body: bool = Field(False, description="Its parameter goes into the body of the call")

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

    operation: Spot = Field(description="Where the operation's name or address stands in the answer")
    get: Literal["{operation}"] | Url = Field(description="What is looked at; {operation} alone is an address")
    done: ToldSection
    failed: ToldSection | None = None


class SettledSection(Section):
    """A look of the administrator's that tells what an answer meant: where this one is done, it meant `means`."""

    get: Url
    means: Means


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
    settled: SettledSection | None = Field(
        None, description="Where its answer is `hidden`: what the administrator looks at then"
    )

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


class OneSection(CallSection):
    """A call that answers with one thing."""

    item: Pointer = Field("", description="Where it stands in an answer that wraps it")


class ListSection(CallSection):
    """A call that lists things."""

    items: Pointer = ""
    only: ToldSection | None = Field(None, description="Of a list of several sorts: which entries are meant")
    page: PageSection | None = None
    shows: dict[str, Shown] = Field(default_factory=dict, description="What its entries show otherwise than the others")
    short: bool = Field(False, description="What it lists is a short form: each is read by itself")
    single: bool = Field(False, description="It answers with one thing, not with a list")
    each: KindName | None = Field(None, description="It is asked for each thing of that kind, whose values it knows")


class FittingSection(CallSection):
    """A call that is made where it fits: of several, the first."""

    when: dict[str, Scalar] = Field(default_factory=dict, description="Only where these values are so")


class MakeSection(FittingSection):
    """A call that makes a thing."""

    look_first: bool = Field(False, description="It would change what stands there: that is looked for first")
    replaces: bool = Field(False, description="Of passwords: a new one takes the place of the one before it, in this request")
    id: Spot | None = Field(None, description="Where the new id stands in the answer, if elsewhere than where it is shown")
    secret: Pointer | None = Field(None, description="Where a secret stands in the answer, shown once")
    later: LaterSection | None = None
    by: Literal["administrator", "identity"] = Field(
        "administrator", description="Of credentials: who makes it; the identity signs in with its password, at {place}"
    )
    limit: Any = Field(
        None, description="Of credentials that are limited to roles: an entry of {limits}, which knows {role} and {role_id}"
    )


class EndSection(FittingSection):
    """A call that ends a thing."""

    unseen: bool = Field(False, description="No look shows that it is over: its answer is all there is")


class ChangeSection(FittingSection):
    """A call that changes some fields of a thing; `when`: only where a field is to become this."""

    fields: list[str] = Field(description="The fields that it changes")
    whole: bool = Field(False, description="It sends the whole thing as it was read, with the changes of `body` in it")
    without: list[Pointer] = Field(default_factory=list, description="Of a whole: what may not be sent")
    if_match: bool = Field(False, description="It names the version that was read (RFC 9110 §13.1.1)")


Makes = Annotated[list[MakeSection], BeforeValidator(several), OrOne()]
Ends = Annotated[list[EndSection], BeforeValidator(several), OrOne()]
