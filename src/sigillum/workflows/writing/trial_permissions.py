"""Of a dialect that is tried: does the tenant allow what the roles say, and refuse the rest?"""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from sigillum.core.deciding.proofs import Trial
from sigillum.core.kinds.access import GRANT, ROLE
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.profile import Operation
from sigillum.core.values.text import lines
from sigillum.tenants.port import SignedIn

if TYPE_CHECKING:
    from sigillum.tenants.dialect.driver import DialectTenant

ROLES = Query(ROLE, "all")
MOST_PATIENCE_SECONDS = 60


def expected(tenant: DialectTenant, account: str, at: str, permission: str) -> bool | None:
    """What the roles that the tenant shows of an account say; None: of some of them nothing is known."""
    fact = tenant.facts([query := Query(GRANT, "principal", account)])[query]
    said = {r.body.name: {p for p, _ in r.body.permissions} for r in tenant.facts([ROLES])[ROLES].records}
    has = {r.value("role") for r in fact.records if r.value("place") in lines([at])}
    if any(permission in said.get(role, ()) for role in has):
        return True
    return False if fact.known and has <= said.keys() else None


def agreeing(
    tenant: DialectTenant, signed_in: SignedIn, operation: Operation, at: str, wanted: bool | None
) -> tuple[Trial, bool]:
    """Tried, and again for as long as a change may take there; and whether the tenant does as the roles say."""
    patient = time.monotonic() + min(tenant.profile.arrival_seconds or 0, MOST_PATIENCE_SECONDS)
    while True:
        trial = tenant.attempt(signed_in, operation, at)
        agrees = trial.allowed is not None and wanted in (None, trial.allowed)
        if agrees or time.monotonic() >= patient:
            return trial, agrees
        time.sleep(1)
