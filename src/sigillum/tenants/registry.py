"""Finding the driver of a tenant: our own, or a third party's by entry point."""

from __future__ import annotations

from typing import cast

from sigillum.core.values.errors import FileError

from .port import Address, Link, Tenant


def connect(address: Address, link: Link) -> Tenant:
    """Reach a tenant through its driver. Raises FileError for a driver that is not there."""
    if address.driver == "open":
        from .scim.driver import connect as connect_open

        return connect_open(address, link)
    if address.driver == "by-hand":
        from .by_hand.driver import connect as connect_by_hand

        return connect_by_hand(address, link)
    if address.driver == "postgresql":
        try:
            from .postgresql.driver import connect as connect_database
        except ImportError as problem:
            raise FileError(
                "this installation cannot speak to database servers",
                where=f"tenant {address.name} in sigillum.yaml",
                mend="install `sigillum[postgresql]`",
            ) from problem
        return connect_database(address, link)
    if address.driver == "dialect":
        from .dialect.driver import connect as connect_dialect

        return connect_dialect(address, link)
    from importlib.metadata import entry_points

    found = list(entry_points(group="sigillum.tenants", name=address.driver))
    if not found:
        raise FileError(
            f"there is no driver {address.driver!r}",
            where=f"tenant {address.name} in sigillum.yaml",
            mend="install the package that brings it, or write `driver:` open, dialect, postgresql or by-hand",
        )
    return cast(Tenant, found[0].load()(address, link))
