"""What a check gets: a driver with its tenant."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Protocol, runtime_checkable

from sigillum.core.kinds.kind import Fact, Kind, Query
from sigillum.core.values.errors import SigillumError
from sigillum.tenants.port import Tenant


class NotHereError(SigillumError):
    """A party cannot do what a check needs; why."""

    code = "not-here"


class Party(Protocol):
    """A driver with its tenant, as the checks use them. What a tenant does not have raises `NotHereError`."""

    said: list[str]  # everything that the driver logged

    def connect(self) -> Tenant:
        """The driver, connected anew, as in another run of the program."""
        ...

    def changes(self) -> int:
        """How many requests that change something have reached the tenant."""
        ...

    def fate(self, what: str) -> None:
        """What becomes of the next change: `lost-before` (it never arrives), `lost-after` (its answer does not), `busy`."""
        ...

    def hide(self, kind: Kind[Any]) -> None:
        """From now on the administrator may not look at this kind."""
        ...

    def account(self, name: str) -> Mapping[str, Any]:
        """What an account of that name is made of."""
        ...

    def others(self, account: str) -> list[tuple[Kind[Any], Mapping[str, Any]]]:
        """What can be made for an account, with which fields: credentials, grants."""
        ...

    def secrets(self) -> list[str]:
        """What must stand nowhere: the administrator's token first."""
        ...


@runtime_checkable
class Reached(Protocol):
    """A party whose tenant is reached over TCP on this machine, so that something can stand between the two."""

    port: int  # of the tenant's own server

    def through(self, port: int) -> Tenant:
        """The driver, connected to this port instead, with a time limit of about a second."""
        ...


@runtime_checkable
class Placed(Protocol):
    """A party whose tenant has places at which rights may be tried."""

    places: tuple[str, ...]  # marked for trials; one at least


def ask(tenant: Tenant, kind: Kind[Any], field: str, value: str) -> Fact[Any]:
    query: Query[Any] = Query(kind, field, value)
    return tenant.facts([query])[query]
