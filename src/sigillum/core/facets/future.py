"""A tenant as it will be once steps are carried out."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from sigillum.core.facets.draft import Draft
from sigillum.core.facets.provides import ItsPrincipal
from sigillum.core.facets.seen import Seen
from sigillum.core.kinds.changes import foreseen
from sigillum.core.records.steps import Step
from sigillum.core.values.worlds import Predicted

if TYPE_CHECKING:  # deciding is loaded for charters that need it
    from sigillum.core.deciding.world import World


def identity_of(seen: Seen, draft: Draft) -> str:
    """The identity's principal id in this tenant; one that is still to be made is called by the step that makes it."""
    who = draft.one(ItsPrincipal, seen.tenant)
    return "" if who is None else who.id if isinstance(who.id, str) else f"({who.id.step})"


def future(seen: Seen, draft: Draft, steps: Iterable[Step]) -> World[Predicted]:
    """The tenant as it will be once these steps are carried out, all of it felt, and the identity ready."""
    from sigillum.core.deciding import values
    from sigillum.core.deciding.gathering import world_of

    doings = [(s.id, s.doing) for s in steps if s.tenant == seen.tenant and s.doing is not None]
    world = world_of(foreseen(seen.snapshot.known(), doings), seen.profile, felt=False)
    identity, principal = seen.charter.identity, identity_of(seen, draft)
    if principal:
        known = world.principals.get(principal, values.KnownPrincipal(principal, identity.name, identity.kind))
        world.principals[principal] = known._replace(location=identity.location, active=True, ready=True)
    for own in seen.charter.roles:
        world.roles.setdefault(own.name, own.of(world.roles))
    return world
