"""When a stage of a rotation is reached, and what shows it: decided here from what was tried, and nowhere else.

Acting (`workflows/rotating/stages.py`) signs in, keeps and removes; it asks here what that amounts to.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import NamedTuple

from sigillum.core.facets.quiet import USUAL_TOKEN_SECONDS
from sigillum.core.kinds.profile import Profile
from sigillum.core.values.times import parse_instant, whole_second

from .rotation import Asked, Rotation, tokens_over

UNTOLD_ARRIVAL = timedelta(seconds=USUAL_TOKEN_SECONDS // 6)  # of a tenant that does not say how long changes take


def accepted_from(first: datetime | None, now: datetime, profile: Profile) -> datetime:
    """From when on a sign-in shows that all of the tenant takes the new one, not one of its machines: `first` let it in."""
    late = profile.arrival_seconds
    return (first or now) + (UNTOLD_ARRIVAL if late is None else timedelta(seconds=late))


def beside_until(now: datetime, picks_up: Iterable[object]) -> datetime:
    """Until when consumers that try both have read the new one: the slowest of those that say how long that takes."""
    return whole_second(now) + timedelta(seconds=max((s for s in picks_up if isinstance(s, int)), default=0))


def token_until(now: datetime, profile: Profile) -> datetime:
    """How long a token that was got just now can be refused for another reason than its age."""
    return whole_second(now + timedelta(seconds=profile.token_seconds or USUAL_TOKEN_SECONDS))


def token_counts(rotation: Rotation, now: datetime) -> bool:
    """Would a refusal of the token that was kept show anything? One that has come to its own end is refused anyway."""
    until = str(rotation.staged.get(Asked.TOKEN, {}).get("until") or "")
    return not until or now < parse_instant(until)


class Dead(NamedTuple):
    """How the old one is known to be dead; `wait`: not before then."""

    how: str
    wait: datetime | None = None


def dead(rotation: Rotation, profile: Profile, now: datetime, *, untried: str = "", token_refused: bool = False) -> Dead:
    """Its end is read back. It was refused at sign-in, or that is `untried` and why; a token of it, where one counts, is
    refused, or every token has come to its own end.
    """
    assert rotation.ended_at is not None
    if token_refused and not untried:
        return Dead("refused at sign-in, and with a token that it got before")
    over = tokens_over(profile, rotation.ended_at, str(rotation.old.terms.get("kind") or ""))
    how = f"not tried: {untried}" if untried else "refused at sign-in; its tokens have come to their end"
    return Dead(how, over if now < over else None)
