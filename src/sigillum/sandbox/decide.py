"""The sandbox's own decision: may this principal do this there, now? Written apart from Sigillum's."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from .clock import moment_of
from .rules import state_of
from .schemas import KINDS
from .world import Tenant

Json = dict[str, Any]


@dataclass(frozen=True)
class Verdict:
    allowed: bool
    reason: str


def principals_of(tenant: Tenant, principal: str) -> set[str]:
    """The principal and every team it is in, through teams in teams."""
    found, fresh = {principal}, [principal]
    while fresh:
        member = fresh.pop()
        for identity, team in tenant.store.all_current("Group"):
            if identity not in found and any(m["value"] == member for m in team.get("members", [])):
                found.add(identity)
                fresh.append(identity)
    return found


def _grants(tenant: Tenant, principals: set[str]) -> Iterator[Json]:
    for principal in principals:
        for _, grant in tenant.store.by("Grant", "principal.value", principal):
            if grant["principal"]["value"] == principal and state_of(tenant, grant) == "in-force":
                yield grant


def decide(tenant: Tenant, principal: str, permission: str, path: str, credential: str | None = None) -> Verdict:
    """Answer for a principal's id; `credential` narrows by that credential's limits."""
    account = tenant.store.current(KINDS["User"], principal)
    if account is None:
        return Verdict(False, "unknown principal")
    if not account.get("active", True):
        return Verdict(False, "the principal is suspended")
    if not any(p["path"] == path for _, p in tenant.store.by("Place", "path", path)):
        return Verdict(False, "unknown place")
    if credential is not None:
        proof = tenant.store.current(KINDS["Credential"], credential)
        if proof is None or not usable_now(tenant, proof):
            return Verdict(False, "the credential has ended")
        if proof.get("limits") and permission not in proof["limits"]:
            return Verdict(False, "the credential is narrower than that")
    for grant in _grants(tenant, principals_of(tenant, principal)):
        place = tenant.store.current(KINDS["Place"], grant["place"]["value"])
        role = tenant.store.current(KINDS["Role"], grant["role"]["value"])
        if place is None or role is None:
            continue
        below = path == place["path"] or path.startswith(place["path"] + "/")
        if below and any(p["value"] == permission for p in role.get("permissions", [])):
            return Verdict(True, f"granted by {role['name']} at {place['path']}")
    return Verdict(False, "nothing grants it")


def usable_now(tenant: Tenant, credential: Json) -> bool:
    """Is a credential active and within its window?"""
    now = tenant.clock.now()
    return bool(credential.get("active")) and now < moment_of(credential["validUntil"]) \
        and ("validFrom" not in credential or now >= moment_of(credential["validFrom"]))
