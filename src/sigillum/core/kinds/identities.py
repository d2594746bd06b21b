"""Who a grant can be given to: accounts, teams, clients with their registrations and service principals."""

from __future__ import annotations

from datetime import datetime
from typing import Any, NamedTuple

from .kind import Kind


def _folded(value: Any) -> Any:
    return value.lower() if isinstance(value, str) else value


class Account(NamedTuple):
    """A person's or a program's account (a SCIM User). `organisation` and `subject`: of one that lives elsewhere."""

    name: str = ""
    display: str = ""
    active: bool = True
    type: str = ""  # service-account, foreign ...
    purpose: str = ""
    owner: str = ""
    deputy: str = ""
    stage: str = ""
    location: str = ""
    organisation: str = ""
    subject: str = ""
    area: str = ""
    web_only: bool = False
    mailbox: bool = False
    second_factor: str = ""
    methods: tuple[str, ...] = ()
    address: str = ""  # by which other tenants know it


class Team(NamedTuple):
    """A group (a SCIM Group). `reach`: the places in which its grants count; `joined`: since when members are in it."""

    name: str = ""
    members: tuple[str, ...] = ()
    joined: tuple[tuple[str, datetime | None], ...] = ()
    reach: tuple[str, ...] = ()
    everyone: bool = False
    purpose: str = ""
    owner: str = ""
    deputy: str = ""
    stage: str = ""


class Client(NamedTuple):
    """An OAuth client registration. `requests`: (api, scope, way of acting)."""

    name: str = ""
    client_id: str = ""
    audience: str = "tenant"
    confidential: bool = True
    redirects: tuple[str, ...] = ()
    requests: tuple[tuple[str, str, str], ...] = ()
    purpose: str = ""
    owner: str = ""
    deputy: str = ""
    stage: str = ""


class Principal(NamedTuple):
    """What a client is inside one tenant: its service principal."""

    client_id: str = ""
    display: str = ""
    active: bool = True

    @property
    def name(self) -> str:
        return self.display or self.client_id


ACCOUNT = Kind(
    "account", Account, power="accounts", finders=("name", "all", "subject"), normal={"name": _folded}, assigned=("address",)
)
TEAM = Kind("team", Team, power="teams", finders=("name", "member", "everyone", "all"), normal={"name": _folded})
CLIENT = Kind("client", Client, power="clients", finders=("name", "client_id"), assigned=("client_id",))
PRINCIPAL = Kind("principal", Principal, key=("client_id",), power="clients", finders=("client_id", "display"))
