"""Scopes of APIs."""

from __future__ import annotations

from collections.abc import Iterator

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import HouseRules
from sigillum.core.values.errors import Mistake


def check(charter: Charter, rules: HouseRules, tenants: list[str]) -> Iterator[Mistake]:
    if charter.permissions and not charter.is_client:
        yield Mistake(
            "client-only",
            "`permissions` are for a client: scopes of APIs are consented to clients only",
            "write `kind: client`, or ask for roles in `grants`",
            charter.permissions[0].position,
        )
