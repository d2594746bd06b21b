"""`services:`, the section of the facet *service*."""

from __future__ import annotations

from pydantic import Field

from sigillum.charters.models import AccountName, PlacePath
from sigillum.core.charter.charter import ServiceWant
from sigillum.core.values.errors import Position
from sigillum.reading.models import Section

FACET = "service"


class ServiceSection(Section):
    """A service that must be switched on before anything works."""

    service: AccountName = Field(description="The service's name in the tenant")
    at: PlacePath = Field(description="Where; it is on below, too")
    tenant: str | None = Field(None, alias="in", description="Another tenant than the identity's home")


def to_core(section: ServiceSection, position: Position) -> ServiceWant:
    return ServiceWant(section.service, section.at, position, section.tenant or "")
