"""Finding the driver of a tenant: our own, or a third party's by entry point; and what each says before a tenant is reached."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any, NamedTuple

from sigillum.core.kinds.profile import PERSON, PROGRAM
from sigillum.core.values.errors import FileError

if TYPE_CHECKING:
    from .port import Address, Link, Tenant

GROUP = "sigillum.tenants"


class Driver(NamedTuple):
    """A driver: its `connect` (or the module that has one), and what is so of every tenant of it."""

    connect: Any
    confirmed_by: str = PROGRAM  # who says that a change was made: the tenant itself, or a person
    token: bool = True  # its administrator presents a token
    origin: bool = True  # its address is one of the web; otherwise the driver judges it itself
    described: bool = False  # a file of the administrator's says how it speaks: whether it does, only a look shows
    extra: str = ""  # what has to be installed with Sigillum
    reserved: tuple[str, ...] = ()  # names that no account or team can have there; `x*`: nor any that begins so

    def reserves(self, name: str) -> bool:
        """Does it keep this name for itself?"""
        return any(name == r or (r.endswith("*") and name.startswith(r[:-1])) for r in self.reserved)

    @property
    def by_person(self) -> bool:
        """Does a person make each change there?"""
        return self.confirmed_by == PERSON

    @property
    def has_clock(self) -> bool:
        """Does it answer with the time of a web server?"""
        return self.origin and not self.by_person


DRIVERS = {
    "open": Driver("sigillum.tenants.scim.driver"),
    "by-hand": Driver("sigillum.tenants.by_hand.driver", confirmed_by=PERSON, token=False),
    "dialect": Driver("sigillum.tenants.dialect.driver", described=True),
    "postgresql": Driver(
        "sigillum.tenants.postgresql.driver", origin=False, extra="postgresql", reserved=("public", "none", "pg_*")
    ),
}


def driver_of(name: str, tenant: str = "") -> Driver:
    """The driver of that name. An entry point names a `Driver`, or its `connect` alone. Raises FileError."""
    if name in DRIVERS:
        return DRIVERS[name]
    from importlib.metadata import entry_points

    found = list(entry_points(group=GROUP, name=name))
    if not found:
        raise FileError(
            f"there is no driver {name!r}",
            where=f"tenant {tenant} in sigillum.yaml",
            mend=f"install the package that brings it, or write `driver:` {', '.join(DRIVERS)}",
        )
    loaded = found[0].load()
    return loaded if isinstance(loaded, Driver) else Driver(loaded)


def connect(address: Address, link: Link) -> Tenant:
    """Reach a tenant through its driver. Raises FileError for a driver that is not there."""
    driver = driver_of(address.driver, address.name)
    reach = driver.connect
    if isinstance(reach, str):
        try:
            reach = import_module(reach).connect
        except ImportError as problem:
            if not driver.extra:
                raise
            raise FileError(
                f"this installation cannot speak to tenants of the driver {address.driver}",
                where=f"tenant {address.name} in sigillum.yaml",
                mend=f"install `sigillum[{driver.extra}]`",
            ) from problem
    found: Tenant = reach(address, link)
    return found
