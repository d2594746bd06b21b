"""`workload:`, the section of the facet *workload*."""

from __future__ import annotations

from pydantic import Field

from sigillum.charters.models import AccountName, CharterName
from sigillum.core.charter.wants import WorkloadWant
from sigillum.core.values.errors import Position
from sigillum.reading.models import Section

FACET = "workload"


class WorkloadSection(Section):
    """What runs on a cluster as the identity, without a key."""

    in_: str = Field(alias="in", description="The cluster: a tenant")
    compartment: AccountName = Field(description="The part of the cluster in which it runs")
    account: AccountName = Field(description="Its local account there")
    programs: list[AccountName] = Field(min_length=1, description="What runs as that local account, and has to start anew")
    groups: list[AccountName] = Field(default_factory=list, description="Groups of machines that are switched")
    made_later: bool = Field(False, description="True: also the switch for groups that are made later")
    trust: CharterName = Field(description="The trust of this charter that lets it in: the other half")


class Part(Section):
    """The key of a charter; its model is made only where one has it."""

    workload: WorkloadSection | None = Field(None, description="A program of a cluster that acts as the identity")


def to_core(section: WorkloadSection, position: Position) -> WorkloadWant:
    return WorkloadWant(
        section.in_,
        section.compartment,
        section.account,
        tuple(section.programs),
        tuple(section.groups),
        section.made_later,
        section.trust,
        position,
    )
