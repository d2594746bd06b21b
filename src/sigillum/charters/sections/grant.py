"""`grants:`, the section of the facet *grant*."""

from __future__ import annotations

from pydantic import Field, model_validator
from pydantic_core import PydanticCustomError

from sigillum.charters.models import Duration, Instant, PlacePath, Section
from sigillum.core.charter import GrantWant
from sigillum.core.errors import Position

FACET = "grant"


class GrantSection(Section):
    """A role at a place, with an optional window."""

    role: str = Field(description="The role's name in the tenant")
    at: PlacePath = Field(description="The place; the role reaches everything below it")
    because: str | None = Field(None, description="Why; asked for where a role changes, manages or administers")
    lasts: Duration | None = Field(None, alias="for", description="How long, counted from the first enacting")
    start: Instant | None = Field(None, alias="from", description="First instant at which it holds")
    until: Instant | None = Field(None, description="First instant at which it holds no more")

    @model_validator(mode="after")
    def _one_window(self) -> GrantSection:
        if self.lasts is not None and self.until is not None:
            raise PydanticCustomError("window-twice", "{what}", {
                "what": "`for` and `until` both say when it ends", "mend": "keep one of them"})
        if self.start is not None and self.until is not None and self.start >= self.until:
            raise PydanticCustomError("window-empty", "{what}", {
                "what": "`until` does not lie after `from`", "mend": "write a later `until`"})
        return self


def to_core(section: GrantSection, position: Position) -> GrantWant:
    return GrantWant(section.role, section.at, section.because or "", section.lasts, section.start, section.until,
                     position)
