"""Delegations: what the house bounds, and words that mean somebody only to whoever writes them."""

from __future__ import annotations

from collections.abc import Iterator

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import HouseRules
from sigillum.core.kinds.delegating import ALL, TEAM_PREFIX
from sigillum.core.values.errors import Mistake
from sigillum.core.values.text import did_you_mean

MINE = frozenset(("me", "myself", "mine", "self", "i", "my organisation", "my organization", "my domain", "default", "current"))


def check(charter: Charter, rules: HouseRules, tenants: list[str]) -> Iterator[Mistake]:
    want = charter.delegation
    if want is None:
        return
    for text in (want.domain, *want.people):
        if text.lower().removeprefix(TEAM_PREFIX) in MINE:
            yield Mistake(
                "shorthand",
                f"{text!r} means somebody else for each who writes it, and nobody for a program",
                f"write it out, like {charter.owner or 'kai.lund@house.example'}",
                want.position,
            )
    for person in want.people:
        named = person != ALL and not person.startswith(TEAM_PREFIX) and person.lower() not in MINE
        if named and person.rpartition("@")[2] != want.domain:
            yield Mistake(
                "delegation-domain", f"{person} is nobody of {want.domain}", "name people of that domain", want.position
            )
    if ALL in want.people and not rules.delegation_to_all:
        yield Mistake(
            "delegation-all",
            "it would act for everybody, and a house rule does not allow that",
            "name a team or people, or set `delegation_to_all: true` under `rules` of sigillum.yaml",
            want.position,
        )
    for scope, why in want.scopes:
        if rules.delegable_scopes and scope not in rules.delegable_scopes:
            yield Mistake(
                "delegation-scope",
                f"a house rule does not allow the scope {scope} to be delegated",
                did_you_mean(scope, rules.delegable_scopes) or f"allowed are {', '.join(sorted(rules.delegable_scopes))}",
                want.position,
            )
        if not why.strip():
            yield Mistake("delegation-because", f"it is not said what {scope} is for", "add `because:`", want.position)
    if len(set(want.names)) < len(want.names):
        yield Mistake("delegation-twice", "a scope is listed twice", "keep it once", want.position)
    if charter.is_team:
        yield Mistake("delegation-team", "a team acts for nobody", "give it to a client or an account", want.position)
    for proof in charter.delegated:
        if proof.person and proof.allowed and proof.permission not in want.names:
            yield Mistake(
                "proof-scope",
                f"{proof.permission} is not among the scopes of the delegation",
                did_you_mean(proof.permission, want.names) or "add it there, or expect `cannot`",
                proof.position,
            )
