"""Inspect: what a tenant can do as discovered, its limits, its clock, and what this administrator may do."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sigillum.core.kinds.access import API, GRANT, PLACE, ROLE, Place, allows, widest
from sigillum.core.kinds.identities import ACCOUNT, TEAM
from sigillum.core.kinds.kind import Fact, Kind, Query
from sigillum.core.kinds.profile import Profile
from sigillum.core.kinds.signing import CREDENTIAL, LICENCE, RULE, SignInRule
from sigillum.core.kinds.snapshot import Snapshot
from sigillum.core.values.errors import SomebodyError
from sigillum.tenants.port import Tenant
from sigillum.workflows.desk import lookup
from sigillum.workflows.desk.office import Office
from sigillum.workflows.desk.settings import Header
from sigillum.workflows.desk.tenants import header_of, time_of

NEEDED = {
    "account": "make accounts",
    "role": "look at roles",
    "place": "look at places",
    "grant": "grant roles",
    "credential": "issue credentials",
    "profile": "say what its limits are",
}


WEIGHED: dict[Kind[Any], tuple[str, ...]] = {  # the fields on which sentences about now rest
    ACCOUNT: ("display", "active"),
    TEAM: ("members",),
    ROLE: ("permissions",),
    GRANT: ("role", "place", "start", "until"),
    CREDENTIAL: ("thumbprint", "active", "until", "used_at"),
}


@dataclass(frozen=True, slots=True)
class Inspection:
    """Everything that is shown of a tenant."""

    header: Header
    profile: Profile
    types: list[str]
    roles: list[tuple[str, str, str, str, str, str]]  # role, breadth, class, permissions, where, with their classes
    roots: list[str]
    cannot: list[str]
    scopes: list[tuple[str, str, str, str, str]]  # API, scope, class, ways of acting, what it can be narrowed to
    licences: list[tuple[str, str, int, int, bool]]  # licence, kind, how many, how many are held, with a mailbox
    safety: str  # of a dialect: what is kept of ours after an interruption, and since when that is known; else empty
    never: list[str]  # kinds with the fields that it never shows: whether they are as wanted is not known there
    rules: list[tuple[str, str, str, str, int]]  # sign-in rule, whether it is on, of whom, what it demands, exempt accounts


def inspect(office: Office, name: str) -> Inspection:
    """All of it asked anew, whatever was kept. Raises UnreachableError, RefusedError."""
    office.keepings.discover(name, {})
    tenant = office.tenants.reach(name)
    profile = tenant.profile
    roles, roots, apis, licences, rules = (
        Query(ROLE, "all"),
        Query(PLACE, "under"),
        Query(API, "all"),
        Query(LICENCE, "all"),
        Query(RULE, "all"),
    )
    asked: list[Query[Any]] = [q for q in (roles, roots, apis, licences, rules) if profile.carried(q.kind) is not None]
    found = tenant.facts(asked)
    shown = sorted(
        (
            r.body.name,
            r.body.breadth or "not said",
            widest(r).replace("-", " "),
            ", ".join(p for p, _ in r.body.permissions),
            ", ".join(r.body.grantable_at) or "any place",
            allows(r),
        )
        for r in (found[roles].records if roles in found else ())
    )
    tops = sorted(r.body.path for r in (found[roots].records if roots in found else ()))
    types = {*profile.carries, *(["profile"] if profile.says_limits else [])}
    cannot = [f"{about}: it has no resource type for a {kind}" for kind, about in NEEDED.items() if kind not in types]
    teams = _named(tenant, [t for r in _bodies(found, rules) for t in r.targets])
    scopes = [
        (a.name, s.value, s.class_.replace("-", " "), " or ".join(s.acts), s.narrowed_to)
        for a in _bodies(found, apis)
        for s in a.scopes
    ]
    return Inspection(
        header_of(tenant),
        profile,
        sorted(types),
        shown,
        tops,
        cannot,
        sorted(scopes),
        sorted((x.name, x.type, x.total, len(x.holders), x.mailbox) for x in _bodies(found, licences)),
        _safety(office, tenant),
        [f"{kind.name}: {', '.join(never)}" for kind in WEIGHED if (never := _never(profile, kind))],
        sorted(
            (
                r.name,
                "on" if r.enabled else "off",
                "everybody" if r.everyone else ", ".join(teams.get(t, t) for t in r.targets) or "nobody",
                _demanded(r),
                len(r.exempt),
            )
            for r in _bodies(found, rules)
        ),
    )


def _never(profile: Profile, kind: Kind[Any]) -> list[str]:
    carried = profile.carried(kind)
    return [n for n in WEIGHED[kind] if n not in carried] if carried is not None else []


def _safety(office: Office, tenant: Tenant) -> str:
    """What trying a dialect told, and how old that is."""
    from sigillum.tenants.registry import driver_of

    if not driver_of(tenant.address.driver).described:
        return ""
    from sigillum.workflows.writing.dialects import kept_of, old

    safety, at = kept_of(office, tenant.address.name)
    if not safety:
        return "not known: the dialect was never tried"
    again = "; that is long ago" if old(at, office.tenants.now(tenant.address.name)) else ""
    return f"{safety}, as tried on {at[:10]}{again}"


def _bodies(found: Mapping[Query[Any], Fact[Any]], query: Query[Any]) -> list[Any]:
    return [r.body for r in found[query].records] if query in found else []


def _named(tenant: Tenant, ids: list[str]) -> dict[str, str]:
    """The names of teams and accounts, by their ids."""
    facts = tenant.facts([Query(k, "id", i) for i in dict.fromkeys(ids) for k in (TEAM, ACCOUNT)]) if ids else {}
    return {q.value: str(f.first.body.name) for q, f in facts.items() if f.first is not None}


def _demanded(rule: SignInRule) -> str:
    networks = [f"from {', '.join(rule.networks)}"] if rule.networks else []
    told = ["nobody gets in"] if rule.blocks else [*rule.demands, *networks]
    how = "" if rule.applies_to == "any" else f" ({rule.applies_to})"
    return ", ".join(told) + how


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
        raise SomebodyError(
            f"the places of {tenant.address.name} cannot be looked up: {fact.unknown}",
            where=tenant.address.name,
            mend="ask with an administrator who may look at them",
        )
    return sorted((r.body for r in fact.records), key=lambda p: p.path)
