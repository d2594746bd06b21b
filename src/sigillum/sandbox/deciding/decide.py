"""The sandbox's own decision: may this principal do this there, now? Written apart from Sigillum's."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sigillum.sandbox.scim import delegations, directory
from sigillum.sandbox.scim.attributes import ACCOUNT, TEAM
from sigillum.sandbox.scim.rules import state_of
from sigillum.sandbox.scim.schemas import KINDS
from sigillum.sandbox.worlds.clock import moment_of
from sigillum.sandbox.worlds.world import Tenant

Json = dict[str, Any]


@dataclass(frozen=True)
class Verdict:
    allowed: bool
    reason: str


def no(reason: str) -> Verdict:
    return Verdict(False, reason)


@dataclass(frozen=True)
class Spot:
    """A place as decisions feel it, with the places above it, nearest first; or a principal as a place."""

    path: str
    line: tuple[Json, ...]

    @property
    def ids(self) -> set[str]:
        return {p["id"] for p in self.line}

    def says(self, name: str) -> Any:
        return next((p[name] for p in self.line if p.get(name)), None)

    def label(self, name: str) -> str | None:
        for place in self.line:
            for label in place.get("labels", []):
                if label["name"] == name:
                    return str(label["value"])
        return None


def spot_of(tenant: Tenant, path: str) -> Spot | None:
    """The place of a path; `@ID` is a principal as a place."""
    if path.startswith("@"):
        account = tenant.store.current(KINDS["User"], path[1:])
        return Spot(path, ({**account, "id": path[1:]},)) if account is not None else None
    line, rest = [], path
    while rest:
        here = next(({**p, "id": i} for i, p in tenant.store.felt_by("Place", "path", rest) if p["path"] == rest), None)
        if here is None:
            return None
        line.append(here)
        rest = rest.rpartition("/")[0]
    return Spot(path, tuple(line))


def teams_of(tenant: Tenant, principal: str, native: bool) -> set[str]:
    """Every team that the principal is in, through teams in teams; the team of everyone for natives."""
    found, fresh = set[str](), [principal]
    if native:
        everyone = [
            i
            for i, _ in tenant.store.all_current("Group")
            if ((tenant.store.felt("Group", i) or {}).get(TEAM) or {}).get("everyone")
        ]
        found.update(everyone)
        fresh += everyone
    while fresh:
        member = fresh.pop()
        for identity, team in tenant.store.felt_by("Group", "members.value", member):
            if identity not in found and any(m["value"] == member for m in team.get("members", [])):
                found.add(identity)
                fresh.append(identity)
    return found


def _counts(tenant: Tenant, identity: str, grant: Json) -> bool:
    """Is a grant made to its end, and in its window?"""
    return tenant.progress(identity) in (None, "ready") and state_of(tenant, grant) == "in-force"


def grants_of(tenant: Tenant, carrier: str, spot: Spot) -> Iterator[Json]:
    team = tenant.store.felt("Group", carrier)
    reach = (team.get(TEAM) or {}).get("reach") if team else None
    if reach and not any(spot.path == r or spot.path.startswith(r + "/") for r in reach):
        return
    for identity, grant in tenant.store.felt_by("Grant", "principal.value", carrier):
        if (
            grant["principal"]["value"] == carrier
            and grant["place"]["value"] in spot.ids
            and _counts(tenant, identity, grant)
            and _labelled(spot, grant)
        ):
            yield grant


def _labelled(spot: Spot, grant: Json) -> bool:
    wanted: dict[str, set[str]] = {}
    for label in grant.get("labels", []):
        wanted.setdefault(label["name"], set()).add(label["value"])
    return all(spot.label(name) in values for name, values in wanted.items())


def _who(tenant: Tenant, principal: str) -> tuple[set[str], Json] | str:
    """The carriers whose grants count for a principal and its own data; or why there are none."""
    account = tenant.store.current(KINDS["User"], principal) or tenant.store.current(KINDS["ServicePrincipal"], principal)
    if account is None:
        team = tenant.store.felt("Group", principal)
        return "unknown principal" if team is None else ({principal} | teams_of(tenant, principal, False), {"id": principal})
    if tenant.progress(principal) not in (None, "ready"):
        return "the principal is still being made"
    if not account.get("active", True):
        return "the principal is suspended"
    about = account.get(ACCOUNT) or {}
    return {principal} | teams_of(tenant, principal, about.get("kind") != "foreign"), {**about, "id": principal}


def decide(
    tenant: Tenant,
    principal: str,
    permission: str,
    path: str,
    credential: str | None = None,
    person: str | None = None,
    *,
    token: bool = False,
) -> Verdict:
    """Answer for a principal's id; `credential` narrows by that credential's limits; `person`: who it acts for.

    `token`: a token of that credential is at hand, and whether it is still alive was asked before.
    """
    who, spot = _who(tenant, principal), spot_of(tenant, path)
    if isinstance(who, str):
        return no(who)
    if spot is None:
        return no("unknown place")
    if credential is not None:
        proof = tenant.store.current(KINDS["Credential"], credential) or (tenant.store.newest(credential) if token else None)
        holders = (principal, directory.registration_of(tenant, principal))
        if proof is None or proof["principal"]["value"] not in holders or not (token or usable_now(tenant, proof)):
            return no("the credential has ended")
    if person is not None and _delegated(tenant, principal, permission, person):
        may = decide(tenant, person, permission, path).allowed
        return Verdict(True, "delegated, and the person may") if may else no("this person cannot be acted for")
    if "api" in tenant.permissions.get(permission, {}) and tenant.store.current(KINDS["ServicePrincipal"], principal):
        return _through_api(tenant, principal, permission, spot.path, person)
    if person is not None:
        return no("this person cannot be acted for")
    verdict = _one(tenant, who, permission, spot, credential)
    if not verdict.allowed:
        return verdict
    for need in tenant.permissions.get(permission, {}).get("needs", []):
        other, _, kind = need.partition("@")
        near = next((n for n, p in enumerate(spot.line) if p.get("kind") == kind), None)
        if near is None:
            return no(f"{other} is needed at a {kind}, and there is none above")
        inner = _one(tenant, who, other, Spot(spot.line[near]["path"], spot.line[near:]), credential)
        if not inner.allowed:
            return no(f"{need} is needed too: {inner.reason}")
    return verdict


def covering(tenant: Tenant, holder: str, person: str, scopes: list[str]) -> str | None:
    """The delegation that lets its holder act for this person with all of these scopes."""
    found = tenant.store.current(KINDS["User"], person)
    about = (found or {}).get(ACCOUNT) or {}
    if found is None or not found.get("active", True) or about.get("kind") not in (None, "person"):
        return None
    teams = {(tenant.store.current(KINDS["Group"], i) or {}).get("displayName") for i in teams_of(tenant, person, True)}
    for identity, data in tenant.store.all_current("Delegation"):
        if data["principal"]["value"] == holder and delegations.lets(data, found["userName"], teams, scopes):
            return identity
    return None


def _delegated(tenant: Tenant, principal: str, permission: str, person: str) -> bool:
    """Does a delegation let it act for this person with this scope? A client's hangs on its registration."""
    holders = (principal, directory.registration_of(tenant, principal))
    return any(covering(tenant, h, person, [permission]) for h in holders if h)


def _through_api(tenant: Tenant, principal: str, permission: str, path: str, person: str | None) -> Verdict:
    """What a client does through an API: by consent, and for a person never more than the person may."""
    if not directory.consented(tenant, principal, permission, path, "alone" if person is None else "on-behalf"):
        return no("the client may not do that")
    if person is None:
        return Verdict(True, "consented")
    their = tenant.store.current(KINDS["User"], person)
    if their is None or not decide(tenant, person, permission, path).allowed:
        return no("this person cannot be acted for")
    return Verdict(True, "consented, and the person may")


def _one(tenant: Tenant, who: tuple[set[str], Json], permission: str, spot: Spot, credential: str | None) -> Verdict:
    """One permission, without what it needs beside itself."""
    rule = tenant.permissions.get(permission, {})
    if not spot.path.startswith("@"):
        service = rule.get("service")
        if service and not any(s["value"] == service for p in spot.line for s in p.get("services", [])):
            return no("the service is not switched on")
        here, there = who[1].get("location"), spot.says("location")
        if rule.get("located") and here and there and here != there:
            return no("not found in this location")
    licence = rule.get("licence")
    if licence and not any(
        h["value"] == who[1]["id"]
        for _, found in tenant.store.all_current("Licence")
        if found["name"] == licence
        for h in found.get("holders", [])
    ):
        return no(f"it holds no licence {licence}")
    if credential is not None:
        used = tenant.store.current(KINDS["Credential"], credential) or {}
        if rule.get("takes") and used.get("kind") not in rule["takes"]:
            return no("this service takes other kinds of sign-in")
        limits = used.get("limits")
        if limits and permission not in limits:
            return no("the credential is narrower than that")
    for carrier in who[0]:
        for grant in grants_of(tenant, carrier, spot):
            role = tenant.store.felt("Role", grant["role"]["value"])
            if role is not None and any(p["value"] == permission for p in role.get("permissions", [])):
                return Verdict(True, f"granted by {role['name']}")
    return no("nothing grants it")


def usable_now(tenant: Tenant, credential: Json) -> bool:
    """Is a credential active and within its window?"""
    return _usable(credential, tenant.clock.now())


def _usable(credential: Json, at: datetime) -> bool:
    return (
        bool(credential.get("active"))
        and at < moment_of(credential["validUntil"])
        and ("validFrom" not in credential or at >= moment_of(credential["validFrom"]))
    )


def taken(tenant: Tenant, identity: str) -> bool:
    """Is a credential taken at sign-in? As real tenants do, some time late, and for some time after its end."""

    def was(seconds: int) -> bool:
        data = tenant.store.before("Credential", identity, seconds)
        return data is not None and _usable(data, tenant.clock.now() - timedelta(seconds=seconds))

    late, still = tenant.limit("accepted_late_seconds"), tenant.limit("ended_still_taken_seconds")
    return was(late) if was(0) else bool(still) and was(still)
