"""The identity: an account, a team, or somebody else's account."""

from __future__ import annotations

from collections.abc import Iterator

from sigillum.core.charter.charter import FOREIGN, Charter
from sigillum.core.charter.rules import HouseRules
from sigillum.core.values.errors import Mistake


def check(charter: Charter, rules: HouseRules, tenants: list[str]) -> Iterator[Mistake]:
    """What contradicts itself in an account or a team, and what somebody else's account cannot be given here."""
    if charter.is_client:
        return
    identity, where = charter.identity, charter.identity.position
    if charter.is_team:
        yield from _team(charter)
    elif charter.members or identity.reach is not None:
        yield Mistake("team-only", "`members` and `reach` are for a team", "write `kind: team`, or leave them out", where)
    if identity.area and identity.wide:
        yield Mistake("area-and-wide", "the account lives in one area and is installation-wide", "keep one of them", where)
    if identity.kind == FOREIGN and charter.credentials:
        yield Mistake(
            "foreign",
            "a foreign principal proves itself where it lives, and gets no credential here",
            "leave `credentials` out",
            where,
        )
    if (identity.kind == FOREIGN) != bool(identity.organisation):
        yield Mistake(
            "foreign",
            "a foreign principal lives in an organisation, and nobody else does",
            "write `kind: foreign` and `organisation: ...` together",
            where,
        )
    if identity.web_only and any(not c.is_a.typed for c in charter.credentials):
        yield Mistake(
            "web-only",
            "a web-only account signs in with its password, and nothing else",
            "write `kind: password`, or leave `web_only` out",
            where,
        )


def _team(charter: Charter) -> Iterator[Mistake]:
    """What fits a team's charter, and what only an account's."""
    where = charter.identity.position
    if charter.credentials or charter.identity.location:
        yield Mistake(
            "team-signs-in",
            "a team has no credentials and no location: nobody signs in as a team",
            "give them to its members' charters",
            where,
        )
    if charter.identity.reach is not None:
        return
    areas = charter.areas
    if not areas:
        yield Mistake("reach-missing", "it is not said how far the team reaches", "add `reach: [PLACE]` to `identity`", where)
    elif len(areas) > 1 or "/" not in areas[0]:
        yield Mistake(
            "reach-several",
            f"the team's grants lie in {', '.join(areas)}, and a team reaches one area unless more is said",
            f"add `reach: [{', '.join(areas)}]` to `identity`",
            where,
        )
