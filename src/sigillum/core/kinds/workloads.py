"""What a cluster has: local accounts, the workloads that run as them, and groups of machines."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any, NamedTuple

from .kind import Kind

MACHINE, OWN = "machine", "workload"  # whose identity the machines of a group give to what runs on them
DEFAULT = "default"  # the local account of whatever names none


class LocalAccount(NamedTuple):
    """A cluster's own account. `lasting`: no later account of the same name gets it; `links`: as whom it acts elsewhere, each a
    principal id with the issuer of its tenant.
    """

    name: str = ""
    compartment: str = ""
    lasting: str = ""
    subject: str = ""
    links: tuple[tuple[str, str], ...] = ()

    @property
    def words(self) -> str:
        return f"{self.compartment}/{self.name}"


class Workload(NamedTuple):
    """A program on a cluster. `runs_as`: the subjects of what runs of it; `groups`: the machines on which it does."""

    name: str = ""
    compartment: str = ""
    account: str = ""
    groups: tuple[str, ...] = ()
    runs_as: tuple[str, ...] = ()
    started: datetime | None = None


class MachineGroup(NamedTuple):
    """Machines that are made alike. `later`: no group, but how those are that will be made."""

    name: str = ""
    identities: str = ""
    later: bool = False

    @property
    def shares(self) -> bool:
        """Has what runs on it the machine's identity?"""
        return self.identities in ("", MACHINE)


def _link(value: str, about: Mapping[str, Any]) -> Any:
    return value, str(about.get("issuer", ""))


LOCAL = Kind(
    "local-account",
    LocalAccount,
    key=("compartment", "name"),
    power="workloads",
    finders=("name", "links", "all"),
    entries={"links": _link},
)
WORKLOAD = Kind("workload", Workload, key=("compartment", "name"), power="workloads", finders=("name", "all"))
GROUP = Kind("machine-group", MachineGroup, power="workloads", finders=("name", "all"))
