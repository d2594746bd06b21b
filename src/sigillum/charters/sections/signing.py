"""`signing:`, the section of the facet *signing*."""

from __future__ import annotations

from pydantic import Field

from sigillum.charters.models import AccountName
from sigillum.core.charter.wants import SigningWant
from sigillum.core.values.errors import Position
from sigillum.reading.models import Section

FACET = "signing"


class SigningSection(Section):
    """The tenant signs for it: no key at all."""

    machine: AccountName = Field(description="The machine to which the identity is attached")


class Part(Section):
    """The key of a charter; its model is made only where one has it."""

    signing: SigningSection | None = Field(None, description="The tenant's signing service signs for it; it has no key")


def to_core(section: SigningSection, position: Position) -> SigningWant:
    return SigningWant(section.machine, position)
