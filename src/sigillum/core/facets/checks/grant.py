"""What the house says to grants."""

from __future__ import annotations

from collections.abc import Iterator

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import Rules
from sigillum.core.values.errors import Mistake


def check(charter: Charter, rules: Rules, tenants: list[str]) -> Iterator[Mistake]:
    for grant in charter.grants:
        if grant.role in rules.forbidden_roles:
            yield Mistake("role-forbidden", f"a house rule forbids the role {grant.role!r}",
                          "choose a narrower role, or change `rules: forbidden_roles` in sigillum.yaml", grant.position)
