"""Machines of a tenant, and the identity that is attached to each: what runs there signs in as that."""

from __future__ import annotations

from typing import NamedTuple

from .kind import Kind


class Machine(NamedTuple):
    """One machine, with whose identity it has; empty: nobody's."""

    name: str = ""
    principal: str = ""
    principal_name: str = ""
    place: str = ""  # the path of where it stands
    size: str = ""


MACHINE = Kind("machine", Machine, power="machines", finders=("name", "principal"))
