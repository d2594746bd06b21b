"""What can be said against `sign_in:` without a tenant."""

from __future__ import annotations

from collections.abc import Iterator

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import HouseRules
from sigillum.core.values.errors import Mistake


def check(charter: Charter, rules: HouseRules, tenants: list[str]) -> Iterator[Mistake]:
    wanted = charter.sign_in.rules if charter.sign_in is not None else ()
    names = [r.name for r in wanted]
    for rule in wanted:
        if names.count(rule.name) > 1:
            yield Mistake(
                "rule-twice", f"the sign-in rule {rule.name} is written twice", "keep the one that is meant", rule.position
            )
        if not rule.demands and not rule.networks:
            yield Mistake(
                "rule-demands-nothing",
                f"the sign-in rule {rule.name} demands nothing",
                "write `demands: [second-factor]`, or `networks:`",
                rule.position,
            )
        if rule.everyone == bool(rule.of):
            yield Mistake(
                "rule-of-whom",
                f"of whom the sign-in rule {rule.name} demands that is not said"
                if not rule.of
                else f"the sign-in rule {rule.name} is for everyone, and for some",
                "write `of: everyone`, or a list of accounts and teams",
                rule.position,
            )
