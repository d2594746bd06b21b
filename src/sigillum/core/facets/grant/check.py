"""What the house says to grants."""

from __future__ import annotations

from collections.abc import Iterator

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import HouseRules
from sigillum.core.values.errors import Mistake


def check(charter: Charter, rules: HouseRules, tenants: list[str]) -> Iterator[Mistake]:
    for grant in charter.grants:
        if grant.role in rules.forbidden_roles:
            yield Mistake(
                "role-forbidden",
                f"a house rule forbids the role {grant.role!r}",
                "choose a narrower role, or change `rules: forbidden_roles` in sigillum.yaml",
                grant.position,
            )
