"""A workload of a cluster: what its section says of the rest of the charter."""

from __future__ import annotations

from collections.abc import Iterator

from sigillum.core.charter.charter import ACCOUNT, Charter
from sigillum.core.charter.rules import HouseRules, unknown_tenant
from sigillum.core.values.errors import Mistake
from sigillum.core.values.text import did_you_mean


def check(charter: Charter, rules: HouseRules, tenants: list[str]) -> Iterator[Mistake]:
    want = charter.workload
    if want is None:
        return
    if charter.identity.kind != ACCOUNT:
        yield Mistake(
            "workload-kind",
            "only a service account is acted as by a workload",
            "write `kind: service-account`, or leave `workload` out",
            want.position,
        )
    yield from unknown_tenant(want.tenant, tenants, want.position)
    if want.tenant == charter.tenant:
        yield Mistake(
            "workload-home", f"{want.tenant} is where the identity lives", "name the cluster in which it runs", want.position
        )
    trust = next((w for w in charter.trusts if w.name == want.trust), None)
    if trust is None:
        yield Mistake(
            "half-missing",
            f"no trust of this charter is called {want.trust!r}, so nobody lets the workload in",
            did_you_mean(want.trust, [w.name for w in charter.trusts]) or "write the other half under `trusts`",
            want.position,
        )
    elif trust.tenant:
        yield Mistake(
            "half-missing",
            f"the trust {want.trust} is for {trust.tenant}, and the identity lives in {charter.tenant}",
            "name one for its home",
            want.position,
        )
