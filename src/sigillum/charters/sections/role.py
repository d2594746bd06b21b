"""`roles:`, the section of the facet *role*."""

from __future__ import annotations

from pydantic import Field, model_validator

from sigillum.charters.models import AccountName, CharterName, Permission
from sigillum.core.charter.charter import RoleWant
from sigillum.core.values.errors import Position
from sigillum.reading.models import Section, says, wrong

FACET = "role"


class RoleSection(Section):
    """A custom role: a name for exactly these permissions, or for those of another role but for some."""

    name: CharterName = Field(description="Its name in the tenant")
    display: str | None = Field(None, description="Its name for reading; the name itself where none is given")
    permissions: list[Permission] | None = Field(None, min_length=1, description="What it allows, and nothing else")
    like: AccountName | None = Field(None, description="Instead: as this role of the tenant")
    without: list[Permission] | None = Field(None, min_length=1, description="But for these")
    in_: str = Field("", alias="in", description="Another tenant")

    model_config = says({"oneOf": [{"required": ["permissions"]}, {"required": ["like", "without"]}]})

    @model_validator(mode="after")
    def _either(self) -> RoleSection:
        if bool(self.permissions) == (self.like is not None):
            raise wrong("role", "what it allows is not said, or twice", "write `permissions:`, or `like:` with `without:`")
        if self.like is not None and not self.without:
            raise wrong("role", f"it would be {self.like} once more", "write what it is to be `without:`, or grant that role")
        return self


def to_core(section: RoleSection, position: Position) -> RoleWant:
    return RoleWant(
        section.name,
        section.display or section.name,
        tuple(dict.fromkeys(section.permissions or ())),
        position,
        section.like or "",
        tuple(dict.fromkeys(section.without or ())),
        section.in_,
    )
