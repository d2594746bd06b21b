"""What a cluster shows: local accounts, groups of machines, and what runs; and what is asked of it because of a charter."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, NamedTuple

from sigillum.core.charter.wants import WorkloadWant
from sigillum.core.kinds.kind import Fact, Query, Record
from sigillum.core.kinds.workloads import GROUP, LOCAL, WORKLOAD, LocalAccount, MachineGroup, Workload

ALL_LOCALS, ALL_GROUPS = Query[LocalAccount](LOCAL, "all"), Query[MachineGroup](GROUP, "all")


ALL_WORKLOADS = Query[Workload](WORKLOAD, "all")


class ClusterFacts(NamedTuple):
    """What the cluster shows."""

    locals: tuple[Record[LocalAccount], ...]
    groups: tuple[Record[MachineGroup], ...]
    workloads: tuple[Record[Workload], ...]

    def local(self, want: WorkloadWant) -> Record[LocalAccount] | None:
        """The local account that is wanted."""
        return next((r for r in self.locals if r.says(compartment=want.compartment, name=want.account)), None)

    def program(self, want: WorkloadWant, name: str) -> Record[Workload] | None:
        return next((r for r in self.workloads if r.says(compartment=want.compartment, name=name)), None)


def concerning(want: WorkloadWant) -> list[Query[Any]]:
    """What is asked of a cluster because of it, however big that is."""
    return [Query(LOCAL, "name", want.account), ALL_GROUPS, *(Query(WORKLOAD, "name", p) for p in want.programs)]


def facts_of(facts: Iterable[Fact[Any]]) -> ClusterFacts:
    """Answers to queries of all three kinds, each record once."""
    found: dict[str, dict[str, Record[Any]]] = {k.name: {} for k in (LOCAL, GROUP, WORKLOAD)}
    for record in (r for f in facts for r in f.records):
        found[record.kind.name][record.id] = record
    return ClusterFacts(*(tuple(of.values()) for of in found.values()))
