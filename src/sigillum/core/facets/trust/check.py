"""Trusts: what is wrong with their subjects and conditions."""

from __future__ import annotations

from collections.abc import Iterator

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import HouseRules, unknown_tenant
from sigillum.core.federation.trusts import about
from sigillum.core.values.errors import Mistake


def check(charter: Charter, rules: HouseRules, tenants: list[str]) -> Iterator[Mistake]:
    seen = set[tuple[str, str]]()
    for want in charter.trusts:
        if (want.tenant, want.name) in seen:
            yield Mistake("trust-twice", f"two trusts are called {want.name!r}", "give each a name of its own", want.position)
        seen.add((want.tenant, want.name))
        if want.tenant:
            yield from unknown_tenant(want.tenant, tenants, want.position)
        for wrong in want.wrong:
            yield Mistake("subject", f"{want.name}: {wrong.what}", wrong.mend, want.position)
        for doubt in about(want.trust, want.issuer):
            if doubt.wrong:
                yield Mistake(doubt.code, f"{want.name}: {doubt.what}", doubt.mend, want.position)
