"""Whoever has no key at all: what its rights allow counts for nothing unless it is attached to its machine, and signed for."""

from __future__ import annotations

from sigillum.core.charter.charter import Charter
from sigillum.core.deciding import gathering
from sigillum.core.deciding.proofs import Reading, Result
from sigillum.core.deciding.values import Question
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.machines import MACHINE, Machine
from sigillum.core.values.worlds import Observed
from sigillum.workflows.desk import lookup
from sigillum.workflows.desk.office import Office

from .outlooks import CLOCK_GRAIN


def standing(office: Office, charter: Charter, principal: str) -> Reading[Observed]:
    """Is it attached to its machine today, and may it be signed for?"""
    want, tenant = charter.signing, office.tenants.reach(charter.tenant)
    assert want is not None
    query = Query[Machine](MACHINE, "name", want.machine)
    fact, who = tenant.facts([query])[query], charter.identity.name
    if not fact.known:
        return Reading(None, f"whether {who} is attached to {want.machine} is not shown: {fact.unknown}")
    if fact.first is None:
        return Reading(False, f"{charter.tenant} has no machine {want.machine}")
    if fact.first.denies(principal=principal):
        other = fact.first.body.principal_name or fact.first.body.principal
        return Reading(False, f"{want.machine} has {f'the identity {other}' if other else 'no identity'}, not {who}")
    record = tenant.read(ACCOUNT, principal)
    if record is None:
        return Reading(False, f"{charter.tenant} knows no {who}")
    place = f"@{principal}"
    seen = lookup.snapshot(office, tenant, record, [place], [gathering.ALL_ROLES])
    world = gathering.world_of(seen.known(), seen.profile, felt=False)  # what stands counts, also where it is felt soon only
    for permission in tenant.profile.signing:
        decision = world.decide(Question(principal, permission, place, seen.now + CLOCK_GRAIN))
        if decision.allowed is None:
            return Reading(None, f"whether {who} may {permission} on itself is not shown: {'; '.join(decision.hidden)}")
        if not decision.allowed:
            return Reading(False, f"{who} has lost {permission} on itself, and {charter.tenant} does not sign for it")
    return Reading(True, f"it is attached to {want.machine}, and signed for")


def weighed(office: Office, charter: Charter, principal: str, results: list[Result]) -> list[Result]:
    """What it can do was asked of the tenant; that is worth something only where it can come in."""
    if charter.signing is None or not any(r.held is True and r.proof.allowed for r in results):
        return results
    found = standing(office, charter, principal)

    def one(result: Result) -> Result:
        if result.held is not True or not result.proof.allowed:
            return result
        if found.allowed is True:
            return result._replace(said=f"{result.said}; {found.reason}")
        said = f"{result.said}, and nobody comes in as it: {found.reason}"
        return result.unshown(said)

    return [one(r) for r in results]
