"""What facets hand each other through the draft: by type, never by the text of a step."""

from __future__ import annotations

from datetime import datetime
from typing import Any, NamedTuple

from sigillum.core.charter.charter import GrantWant
from sigillum.core.kinds.access import Role
from sigillum.core.kinds.kind import Kind, Record
from sigillum.core.kinds.trusting import Trust
from sigillum.core.values.marks import Id


class ItsPrincipal(NamedTuple):
    """What grants, consents and memberships hang on in a tenant, and its kind."""

    tenant: str
    id: Id
    kind: Kind[Any]


class Ready(NamedTuple):
    """The principal can be used: provided by the steps after which it can."""

    tenant: str


class Bearer(NamedTuple):
    """On what credentials hang: the account, or a client's registration. `registered`: dynamically (RFC 7591)."""

    tenant: str
    id: Id
    kind: Kind[Any]
    registered: bool = False


class Presented(NamedTuple):
    """The client id that a client presents, and the issuer where it signs in."""

    tenant: str
    client_id: Id
    issuer: str


class LetIn(NamedTuple):
    """A trust of the identity in its tenant, as it stands or will, and the issuer of that tenant."""

    tenant: str
    name: str
    trust: Trust
    issuer: str


class Addressed(NamedTuple):
    """By which address other tenants know an account, and the issuer of its home."""

    tenant: str
    address: Id
    issuer: str


class Requested(NamedTuple):
    """A client's registration asks for everything that is to be consented."""

    tenant: str


class OwnRole(NamedTuple):
    """A custom role of this charter, as it stands or will."""

    tenant: str
    role: Record[Role]
    id: Id


class ServiceOn(NamedTuple):
    """A service is switched on at a place."""

    tenant: str
    service: str
    at: str


class RightEnds(NamedTuple):
    """A grant of a role ends."""

    tenant: str
    role: str


class AlsoWanted(NamedTuple):
    """A grant that the charter does not name, and that something in it needs."""

    tenant: str
    want: GrantWant


class Granted(NamedTuple):
    """Rights of the identity that are made, by a grant or by a team."""

    tenant: str


class Wished(NamedTuple):
    """A grant that stands or will: looked at once more when everything is drafted. `right`: its id then."""

    tenant: str
    want: GrantWant
    role: Record[Role]
    right: str
    carrier: str
    place: str
    start: datetime | None
    until: datetime | None


class Usable(NamedTuple):
    """A credential of this name can be signed in with; provided by the steps after which it can."""

    tenant: str
    name: str


class Guarded(NamedTuple):
    """A sign-in rule of ours stands that narrows the account."""

    tenant: str
