"""`proofs:`, what must work and what must not."""

from __future__ import annotations

from typing import Any

from pydantic import Field, model_validator
from pydantic_core import PydanticCustomError

from sigillum.charters.models import AccountName, Permission, PlacePath
from sigillum.core.charter.charter import ProofWant
from sigillum.core.values.errors import Position
from sigillum.reading.models import Section


class ProofSection(Section):
    """One expectation."""

    can: Permission | None = Field(None, description="This must be allowed")
    cannot: Permission | None = Field(None, description="This must be refused")
    at: PlacePath = Field(description="Where")
    count: int | None = Field(None, ge=0, description="Reading gives exactly so many")
    at_least: int | None = Field(None, ge=0, description="Reading gives so many or more")
    value: dict[str, Any] | None = Field(None, description="Something read has these fields with these values")

    on_behalf_of: AccountName | None = Field(None, description="Of a client: the person on whose behalf it acts")
    tenant: str | None = Field(None, alias="in", description="Another tenant than the identity's home")

    @model_validator(mode="after")
    def _one_way(self) -> ProofSection:
        if (self.can is None) == (self.cannot is None):
            raise PydanticCustomError("proof", "{what}", {
                "what": "a proof says `can` or `cannot`, one of them", "mend": "write {can: thing.verb, at: PLACE}"})
        asked = [n for n in ("count", "at_least", "value") if getattr(self, n) is not None]
        if len(asked) > 1 or (asked and self.can is None):
            raise PydanticCustomError("proof", "{what}", {
                "what": f"{' and '.join(asked)} cannot stand here",
                "mend": "a `can` takes one of count, at_least, value; a `cannot` takes none"})
        return self


def to_core(section: ProofSection, position: Position) -> ProofWant:
    return ProofWant(section.can is not None, section.can or section.cannot or "", section.at, section.count,
                     section.at_least, section.value, position, section.on_behalf_of or "", section.tenant or "")
