"""What only a client has, and what it has not."""

from __future__ import annotations

from collections.abc import Iterator

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import HouseRules
from sigillum.core.values.errors import Mistake


def check(charter: Charter, rules: HouseRules, tenants: list[str]) -> Iterator[Mistake]:
    """What only a client has, and what it has not."""
    where = charter.identity.position
    if not charter.is_client:
        if charter.identity.redirects or charter.identity.audience != "tenant":
            yield Mistake(
                "client-only", "`redirects` and `usable_in` are for a client", "write `kind: client`, or leave them out", where
            )
    elif charter.sign_in or charter.licence or charter.identity.mailbox:
        yield Mistake("not-client", "`sign_in`, `licence` and `mailbox` are for accounts", "leave them out", where)
    elif charter.identity.area or charter.identity.wide or charter.identity.web_only:
        yield Mistake("not-client", "`area`, `installation_wide` and `web_only` are for accounts", "leave them out", where)
    elif charter.identity.location or charter.identity.reach is not None or charter.members or charter.member_of:
        yield Mistake("not-client", "a client has no location, reach, team or members", "leave them out", where)
