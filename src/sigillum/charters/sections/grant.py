"""`grants:`, the section of the facet *grant*."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, WithJsonSchema, model_validator
from pydantic_core import PydanticCustomError

from sigillum.charters.models import AccountName, PlacePath
from sigillum.core.charter.charter import GrantWant
from sigillum.core.values.errors import Position
from sigillum.reading.models import Duration, Instant, Section, not_both, only_with, says

FACET = "grant"


def _values(value: Any) -> Any:
    return [value] if isinstance(value, str) else value


Values = Annotated[
    list[str],
    BeforeValidator(_values),
    Field(min_length=1),
    WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}, "minItems": 1}]}),
]


class GrantSection(Section):
    """A role at a place, with an optional window."""

    model_config = says(not_both("for", "until"), only_with(("to",), "at", "self"))

    role: str = Field(description="The role's name in the tenant")
    at: PlacePath = Field(
        description="The place; mostly the role reaches everything below it, too. `self`: the identity as a place"
    )
    because: str | None = Field(None, description="Why; asked for where a role changes, manages or administers")
    lasts: Duration | None = Field(None, alias="for", description="How long, counted from the first enacting")
    start: Instant | None = Field(None, alias="from", description="First instant at which it holds")
    until: Instant | None = Field(None, description="First instant at which it holds no more")
    where: dict[str, Values] = Field(default_factory=dict, description="It counts only at places that bear these labels")
    to: AccountName | None = Field(None, description="With `at: self`: who else may act as it")
    reach: Literal["here", "below", "here-and-below"] | None = Field(
        None, description="Where it counts, seen from its place, where its tenant lets that be chosen"
    )
    tenant: str | None = Field(None, alias="in", description="Another tenant than the identity's home")

    @model_validator(mode="after")
    def _one_window(self) -> GrantSection:
        if self.lasts is not None and self.until is not None:
            raise PydanticCustomError(
                "window-twice", "{what}", {"what": "`for` and `until` both say when it ends", "mend": "keep one of them"}
            )
        if self.start is not None and self.until is not None and self.start >= self.until:
            raise PydanticCustomError(
                "window-empty", "{what}", {"what": "`until` does not lie after `from`", "mend": "write a later `until`"}
            )
        if self.to is not None and self.at != "self":
            raise PydanticCustomError(
                "to",
                "{what}",
                {
                    "what": "`to` is for `at: self`: who may act as this identity",
                    "mend": "give other grants in the charter of the one who holds them",
                },
            )
        return self


def to_core(section: GrantSection, position: Position) -> GrantWant:
    where = tuple((name, tuple(sorted(values))) for name, values in sorted(section.where.items()))
    return GrantWant(
        section.role,
        section.at,
        section.because or "",
        section.lasts,
        section.start,
        section.until,
        where,
        section.to or "",
        position,
        section.tenant or "",
        section.reach or "",
    )
