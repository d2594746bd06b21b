"""Of a tenant that is tried: does the tenant allow what the roles say, and refuse the rest?"""

from __future__ import annotations

import time

from sigillum.core.deciding.proofs import Trial
from sigillum.core.kinds.access import GRANT, PLACE, ROLE, counts_at
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.profile import Operation
from sigillum.tenants.port import SignedIn, Tenant

ROLES = Query(ROLE, "all")
MOST_PATIENCE_SECONDS = 60


def expected(tenant: Tenant, account: str, at: str, permission: str) -> bool | None:
    """What the roles that the tenant shows of an account say; None: of some of them nothing is known."""
    fact = tenant.facts([query := Query(GRANT, "principal", account)])[query]
    said = {r.body.name: {p for p, _ in r.body.permissions} for r in tenant.facts([ROLES])[ROLES].records}
    rule, place = tenant.profile.operations.get(permission), tenant.facts([there := Query(PLACE, "path", at)])[there].first
    if rule is not None and place is not None and not rule.means(str(place.value("type"))):
        return None  # it means nothing at a place of that kind
    usual = tenant.profile.grants_reach
    has = {r.value("role") for r in fact.records if counts_at(at, str(r.value("place")), r.value("reach") or usual)}
    if any(permission in said.get(role, ()) for role in has):
        return True
    return False if fact.known and has <= said.keys() else None


def agreeing(tenant: Tenant, signed_in: SignedIn, operation: Operation, at: str, wanted: bool | None) -> tuple[Trial, bool]:
    """Tried, and again for as long as a change may take there; and whether the tenant does as the roles say."""
    patient = time.monotonic() + min(tenant.profile.arrival_seconds or 0, MOST_PATIENCE_SECONDS)
    while True:
        trial = tenant.attempt(signed_in, operation, at)
        agrees = trial.allowed is not None and wanted in (None, trial.allowed)
        if agrees or time.monotonic() >= patient:
            return trial, agrees
        time.sleep(1)
