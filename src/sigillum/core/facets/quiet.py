"""How long an old credential has to be unused until nobody uses it any more, and what that follows from."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from sigillum.core.charter.rules import Consumer, HouseRules
from sigillum.core.kinds.profile import Profile
from sigillum.core.values.times import format_duration

USUAL_TOKEN_SECONDS = 3600  # of a tenant that does not say how long its tokens live
DAY_SECONDS = 86_400


class Quiet(NamedTuple):
    """How long the old one has to be unused until nobody uses it any more, and what that follows from."""

    seconds: int
    why: str


def named(names: Iterable[str], rules: HouseRules) -> tuple[Consumer, ...]:
    """The consumers of a credential, as far as the house describes them."""
    return tuple(rules.consumers.get(name) or Consumer(name) for name in names)


def silence(consumer: Consumer, usual_seconds: int) -> Quiet:
    """The longest time that a consumer may not be seen although it uses the old one: between two uses, until it picks up the
    new one. `usual_seconds`: where that is not described, or happens when somebody does it.
    """
    picks_up, every = consumer.picks_up, consumer.used_every
    if every is None:
        return Quiet(usual_seconds, f"{consumer.name} does not say how often it uses it (`defaults: quiet`)")
    if isinstance(picks_up, int):
        return Quiet(
            every + picks_up,
            f"{consumer.name} uses it every {format_duration(every)}, and picks up within {format_duration(picks_up)}"
            if picks_up
            else f"{consumer.name} uses it every {format_duration(every)}",
        )
    return Quiet(
        every + usual_seconds,
        f"{consumer.name} picks up by a {picks_up} (`defaults: quiet`), and uses it every {format_duration(every)}",
    )


def quiet(profile: Profile, consumers: Iterable[Consumer], usual_seconds: int) -> Quiet:
    """The longest silence of a consumer, the life of tokens, the grain in which the tenant tells; and how late it tells."""
    token = profile.token_seconds or USUAL_TOKEN_SECONDS
    found = [silence(c, usual_seconds) for c in consumers]
    found.append(Quiet(token, f"its tokens live {format_duration(token)}"))
    if profile.last_used == "day":
        found.append(Quiet(2 * DAY_SECONDS, "the tenant tells the day of a use, and no hour"))
    longest, late = max(found), profile.arrival_seconds or 0
    return Quiet(
        longest.seconds + late, longest.why + (f", and the tenant tells it {format_duration(late)} late" if late else "")
    )
