"""When is a refusal worth something? Only where the right was what was missing, and nothing else stood in the way.

A refusal is looked at in a *neutral* copy of the world, where everything is in order that has nothing to do with rights: who
signs in is active and ready, the credential lives, services are on, locations fit, scopes are asked for, and what was granted
is felt and has begun. Ends of windows, labels, reach, limits and consents stay as they are. What is refused there as well was
refused for want of the right.
"""

from __future__ import annotations

from datetime import timedelta
from typing import Any, NamedTuple

from sigillum.core.deciding.refusals import ABOUT, Cause, Shows, causes
from sigillum.core.deciding.values import Asks, Question, Right
from sigillum.core.deciding.world import World, again
from sigillum.core.values.times import format_instant
from sigillum.core.values.worlds import Observed, Predicted

SILENT, EARLY = causes(shows=Shows.SILENT), causes(shows=Shows.EARLY)
_WORTH = {
    Shows.RIGHT: "that the right is missing",
    Shows.KEY: "that the right is missing, for this key",
    Shows.BEGIN: "that it holds until the window begins, and not longer",
    Shows.EARLY: "nothing yet",
    Shows.SILENT: "nothing",
    Shows.OTHERWISE: "nothing",
}


def worth(cause: Cause) -> str:
    """What a refusal for this cause alone shows, in a few words."""
    return _WORTH[ABOUT[cause].shows]


class Shown(NamedTuple):
    """What a refusal is worth. `yes` None: the facts do not suffice to tell; `begins`: from then on it would be allowed."""

    yes: bool | None
    cause: Cause
    text: str = ""
    early: bool = False
    begins: Right | None = None


def neutral(world: World[Any]) -> World[Predicted]:
    """The same rights in a world where nothing else is in the way."""
    licences = frozenset(o.licence for o in world.operations.values() if o.licence)
    services = frozenset(o.service for o in world.operations.values() if o.service)
    apis = frozenset((o.api, name, acts) for name, o in world.operations.items() if o.api for acts in ("alone", "on-behalf"))
    return again(
        world,
        felt=timedelta(0),
        licensed=dict.fromkeys(world.principals, licences),
        principals={i: p._replace(active=True, ready=True, location="", held="") for i, p in world.principals.items()},
        credentials={i: c._replace(active=True, start=None, until=None, kind="") for i, c in world.credentials.items()},
        places={i: p._replace(made=None, services=tuple((s, None) for s in sorted(services))) for i, p in world.places.items()},
        memberships=[m._replace(since=None) for m in world.memberships],
        rights=[r._replace(start=None, made=None, ready=True) for r in world.rights],
        asks={i: Asks(i, a.requests | apis) for i, a in world.asks.items()},
        consents={i: [c._replace(made=None) for c in all_] for i, all_ in world.consents.items()},
    )


def shown(world: World[Observed], question: Question) -> Shown:
    """Does it show that the right is missing, that this was refused?"""
    decision = world.decide(question)
    if decision.allowed is None:
        return Shown(None, decision.cause, f"it cannot be told: {'; '.join(decision.hidden)}")
    if decision.allowed:
        return Shown(False, decision.cause, "from the facts it is allowed: facts and tenant disagree")
    if decision.cause in SILENT:
        return Shown(False, decision.cause, _why(decision.cause))
    bare = neutral(world).decide(question)
    if bare.allowed is None:
        return Shown(None, bare.cause, f"it cannot be told: {'; '.join(bare.hidden)}")
    if bare.cause in SILENT:
        return Shown(False, bare.cause, _why(bare.cause))
    if not bare.allowed:
        only = " (for this key only)" if bare.cause is Cause.LIMITS_NARROWER else ""
        return Shown(True, bare.cause, f"refused, and the right is what is missing: {bare.cause}{only}")
    began = next((r for r in world.rights if bare.by is not None and r.id == bare.by.id), None)
    if decision.cause is Cause.WINDOW_WAITING and began is not None and began.start is not None:
        return Shown(False, decision.cause, f"it does not hold from {format_instant(began.start)} on", begins=began)
    return Shown(False, decision.cause, _why(decision.cause), decision.cause in EARLY)


def _why(cause: Cause) -> str:
    meaning = ABOUT[cause].meaning.rstrip(".")
    return f"not shown, {cause}: {meaning[0].lower()}{meaning[1:]}"
