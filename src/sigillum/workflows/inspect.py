"""Inspect: what a tenant can do as discovered, its limits, its clock, and what this administrator may do."""

from __future__ import annotations

from dataclasses import dataclass

from sigillum.core.charter.rules import allows, widest
from sigillum.core.kinds.facts import Profile, Query

from .office import Header, Office, header_of

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
    """Raises UnreachableError, RefusedError."""
    tenant = office.tenant(name)
    kinds = tenant.profile.kinds
    roles, roots = Query("role", "all", ""), Query("place", "under", "")
    found = tenant.facts([q for q in (roles, roots) if q.kind in kinds])
    shown = sorted(
        (str(t.get("name")), str(t.get("breadth") or "not said"), widest(t).replace("-", " "),
         ", ".join(p for p, _ in t.get("permissions") or ()), ", ".join(t.get("grantable_at") or ()) or "any place", allows(t))
        for t in (found[roles].things if roles in found else ()))
    tops = sorted(str(t.get("path")) for t in (found[roots].things if roots in found else ()))
    cannot = [f"{about}: it has no resource type for a {kind}" for kind, about in NEEDED.items() if kind not in kinds]
    return Inspection(header_of(tenant), tenant.profile, sorted(kinds - {"account-about", "team-about"}), shown, tops, cannot)
