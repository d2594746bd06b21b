"""Who uses a credential that is being rotated, and what is known of each.

A tenant tells one last use a credential, and one address. So of each consumer one of three is known: it has the new one, it has
not, or neither; what was told last counts.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import NamedTuple

from sigillum.core.charter.rules import Consumer
from sigillum.core.deciding.sign_in import inside
from sigillum.core.facets.quiet import USUAL_TOKEN_SECONDS
from sigillum.core.kinds.profile import Profile


class Told(NamedTuple):
    """What was told of a consumer last, and how: a receipt, a person's word, a use from its own address."""

    has: bool
    how: str


class Knows(NamedTuple):
    """What is known of a consumer: `has` None where nothing tells it."""

    consumer: str
    has: bool | None
    why: str


def picked_up(profile: Profile, consumers: Sequence[Consumer]) -> int | None:
    """How long after all have the new one the last of them may still use the old one or its tokens; None: nobody can say."""
    if any(not isinstance(c.picks_up, int) for c in consumers):
        return None
    longest = max((c.picks_up for c in consumers if isinstance(c.picks_up, int)), default=0)
    return longest + (profile.token_seconds or USUAL_TOKEN_SECONDS) + (profile.arrival_seconds or 0)


def known(consumers: Iterable[Consumer], told: Mapping[str, Told]) -> tuple[Knows, ...]:
    """What is known of each."""
    return tuple(
        Knows(c.name, told[c.name].has, told[c.name].how) if c.name in told else Knows(c.name, None, "nothing tells it")
        for c in consumers
    )


def missing(all_: Iterable[Knows]) -> str:
    """Who is not known to have the new one, in words; nothing where all are."""
    without = [f"{k.consumer} ({k.why})" for k in all_ if k.has is not True]
    return f"not known to have the new one: {', '.join(without)}" if without else ""


class LastUse(NamedTuple):
    """When one was used last, from where, and whether it is the new one."""

    at: datetime
    address: str
    new: bool


def observed(consumers: Sequence[Consumer], uses: Iterable[LastUse]) -> dict[str, Told]:
    """What last uses tell of those that have addresses of their own; the newest counts."""
    out = dict[str, Told]()
    for use in sorted(uses):
        users = [c for c in consumers if inside(use.address, c.address)]
        if len(users) == 1:
            out[users[0].name] = Told(use.new, f"the {'new' if use.new else 'old'} one was used from {use.address}")
    return out
