"""Inspect: what a tenant can do as discovered, its limits, its clock, and what this administrator may do."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sigillum.core.kinds.access import PLACE, ROLE, Place, allows, widest
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.profile import Profile
from sigillum.core.kinds.snapshot import Snapshot
from sigillum.core.values.errors import SomebodyError

from . import lookup
from .office import Office
from .settings import Header
from .tenants import header_of, time_of

NEEDED = {"account": "make accounts", "role": "look at roles", "place": "look at places", "grant": "grant roles",
          "credential": "issue credentials", "profile": "say what its limits are"}


@dataclass(frozen=True, slots=True)
class Inspection:
    """Everything that is shown of a tenant."""

    header: Header
    profile: Profile
    types: list[str]
    roles: list[tuple[str, str, str, str, str, str]]  # role, breadth, class, permissions, where, with their classes
    roots: list[str]
    cannot: list[str]


def inspect(office: Office, name: str) -> Inspection:
    """All of it asked anew, whatever was kept. Raises UnreachableError, RefusedError."""
    office.keepings.discover(name, {})
    tenant = office.tenants.reach(name)
    profile = tenant.profile
    roles, roots = Query(ROLE, "all"), Query(PLACE, "under")
    asked: list[Query[Any]] = [q for q in (roles, roots) if profile.carried(q.kind) is not None]
    found = tenant.facts(asked)
    shown = sorted(
        (r.body.name, r.body.breadth or "not said", widest(r).replace("-", " "), ", ".join(p for p, _ in r.body.permissions),
         ", ".join(r.body.grantable_at) or "any place", allows(r)) for r in (found[roles].records if roles in found else ()))
    tops = sorted(r.body.path for r in (found[roots].records if roots in found else ()))
    types = {*profile.carries, *(["profile"] if profile.says_limits else [])}
    cannot = [f"{about}: it has no resource type for a {kind}" for kind, about in NEEDED.items() if kind not in types]
    return Inspection(header_of(tenant), profile, sorted(types), shown, tops, cannot)


def places(office: Office, under: str, tenant_name: str = "") -> list[Place]:
    """The places right below one, or at the top, in order. Raises UsageError for a place that is not there, SomebodyError."""
    tenant = office.tenants.reach(tenant_name or lookup.only_tenant(office))
    snapshot, around = Snapshot(tenant.address.name, time_of(tenant), tenant.profile), under.rpartition("/")[0]
    itself, near, below = Query(PLACE, "path", under), Query(PLACE, "under", around), Query(PLACE, "under", under)
    snapshot.facts.update(tenant.facts([below, *([itself, near] if under else [])]))
    if under:
        lookup.require(snapshot, itself, near)
    fact = snapshot.ask(below)
    if not fact.known:
        raise SomebodyError(f"the places of {tenant.address.name} cannot be looked up: {fact.unknown}",
                            where=tenant.address.name, mend="ask with an administrator who may look at them")
    return sorted((r.body for r in fact.records), key=lambda p: p.path)
