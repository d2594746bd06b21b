"""Windows without effect: what stays allowed after a window's end because it stands in another way."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime
from typing import NamedTuple

from sigillum.core.deciding.compiled import bears
from sigillum.core.deciding.values import NEVER, Node, Right
from sigillum.core.deciding.world import World
from sigillum.core.values.worlds import Observed


class Shadow(NamedTuple):
    """A permission that stays at a place after the window's end, and the rights by which it does."""

    permission: str
    place: str
    by: tuple[Right, ...]


def shadows(world: World[Observed], right: Right, places: Iterable[str]) -> Iterator[Shadow]:
    """Each permission of a right with an end that other rights keep allowed from that end on, for ever."""
    if right.until is None:
        return
    for path in places:
        node = world.node(path)
        if node is None or world.spot(right) not in node.inside or not bears(node, right.labels):
            continue
        for permission in sorted(world.roles.get(right.role, ())):
            by = _covering(world, right, permission, node, right.until)
            if by:
                yield Shadow(permission, path, by)


def _covering(world: World[Observed], right: Right, permission: str, node: Node, begin: datetime) -> tuple[Right, ...]:
    """Other rights that together cover all time from `begin` on; none where a gap is left."""
    cuts = []
    for carrier, since, reach in world.carriers(right.carrier):
        if reach is not None and reach.isdisjoint(node.inside):
            continue
        spots = world.table(carrier).get(permission, {})
        cuts += [
            (max(start, since), until, other)
            for place in node.spots
            for start, until, labels, other in spots.get(place, ())
            if other.id != right.id and bears(node, labels)
        ]
    covered, by = begin, list[Right]()
    for start, until, other in sorted(cuts, key=lambda c: (c[0], -(c[1] - begin).total_seconds())):
        if start > covered:
            break
        if until > covered:
            covered = until
            by.append(other)
    # one that lasts for ever needs no other before it, where it stands at the end already
    alone = next((c[2] for c in cuts if c[0] <= begin and c[1] == NEVER), None)
    if alone is not None:
        return (alone,)
    return tuple(by) if covered == NEVER else ()
