"""What speaks against a grant before it is made: used alike for a charter's grants and for loans."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from datetime import datetime, timedelta
from typing import Any, NamedTuple

from sigillum.core.deciding.explanations import name_of, place_name, right_words
from sigillum.core.deciding.foreseen import narrowed
from sigillum.core.deciding.mends import Spoiled, change
from sigillum.core.deciding.refusals import Cause
from sigillum.core.deciding.shadows import Shadow, shadows
from sigillum.core.deciding.values import Question, Right
from sigillum.core.deciding.world import World, again
from sigillum.core.kinds.access import Role
from sigillum.core.kinds.kind import Record
from sigillum.core.kinds.profile import Profile
from sigillum.core.values.times import format_instant, rough_duration

MOST_MISSING = 5
_ON_THE_WAY = frozenset({Cause.SERVICE_OFF, Cause.LOCATION_DIFFERS})


class Objection(NamedTuple):
    """A stable code, what is wrong, and what mends it; `refuse` False: a warning, or just worth knowing (`usual`)."""

    code: str
    what: str
    mend: str
    refuse: bool = True
    usual: bool = False


def against(
    profile: Profile, role: Record[Role], right: Right, now: datetime, *, everyone: bool = False
) -> Iterator[Objection]:
    """What the tenant's own rules say about a role, a window and whom it is granted to."""
    windowed = right.start is not None or right.until is not None
    if windowed and role.says(breadth="broad") and not profile.windows_on_broad:
        yield Objection(
            "window-broad",
            f"{right.role} is a broad role, and a broad role takes no window here",
            "choose a curated role for a time-limited grant",
        )
    if windowed and everyone and not profile.windows_on_everyone:
        yield Objection("window-everyone", "a grant to everyone takes no window here", "grant the role to the one who needs it")
    if right.until is None:
        return
    if not profile.ends_grants:
        yield Objection(
            "window-by-sweep",
            f"{profile.name or 'the tenant'} ends no grant by itself: {right.role} stands until sweep ends it",
            "let sweep run often, on a machine that is always on",
            refuse=False,
        )
    if right.until <= now:
        yield Objection(
            "window-past",
            f"the window of {right.role} ended at {format_instant(right.until)}, before it is made",
            "write a later end",
        )
    elif profile.felt_seconds and right.until <= now + timedelta(seconds=profile.felt_seconds):
        left = rough_duration((right.until - now).total_seconds())
        yield Objection(
            "window-before-arrival",
            f"the window of {right.role} ends in {left}, and a change can take "
            f"{rough_duration(profile.felt_seconds)} until it is felt",
            "grant it for longer",
            refuse=False,
        )


def misplaced(world: World[Any], role: Record[Role], path: str) -> Objection | None:
    """A role that cannot be granted at this kind of place, with the nearest place where it can be."""
    kinds = role.body.grantable_at
    node, place = world.node(path), world.places.get(path)
    kind = "principal" if path.startswith("@") else place.kind if place is not None else ""
    if not kinds or kind in kinds:
        return None
    near = node.kinds if node is not None else {}
    above = next((p for p in (node.line if node is not None else ()) if any(near.get(k) == p for k in kinds)), None)
    mend = (
        f"grant it at {above}, the nearest place above where it can be"
        if above is not None
        else f"choose a {' or a '.join(kinds)}, or another role"
    )
    return Objection(
        "role-not-grantable",
        f"{role.body.name} cannot be granted at a {kind or 'place of no kind'}, only at a {' or a '.join(kinds)}",
        mend,
    )


def without_effect(world: World[Any], right: Right, owner_of: Callable[[str], str]) -> Iterator[Objection]:
    """Windows that change nothing, since the same permissions stand in another way."""
    found = list(shadows(world, right, dict.fromkeys([right.place, *world.places])))
    if not found:
        return
    here = [s for s in found if s.place == right.place] or found
    by: dict[tuple[str, ...], list[Shadow]] = {}
    for shadow in here:
        by.setdefault(tuple(r.id for r in shadow.by), []).append(shadow)
    whole = len(here) == len(world.roles.get(right.role, ()))
    for group in by.values():
        told = []
        for other in group[0].by:
            owner = owner_of(other.id)
            told.append(right_words(world, other, right.carrier) + (f" ({owner})" if owner else ""))
        at = place_name(world, right.place)
        if whole and len(by) == 1:
            yield Objection(
                "window-without-effect",
                f"the window of {right.role} at {at} has no effect: beside it stands {' and '.join(told)}",
                "end that, or leave the window out",
                refuse=False,
            )
            continue
        where = "" if group[0].place == right.place else f" at {place_name(world, group[0].place)}"
        what = ", ".join(s.permission for s in group)
        yield Objection(  # usual: a wider role beside a narrower one
            "window-partly-without-effect",
            f"the window of {right.role} at {at} limits nothing for {what}{where}: beside it stands {' and '.join(told)}",
            "",
            refuse=False,
            usual=True,
        )


def breaking(
    world: World[Any], right: Right, charter: str, spoiled: Spoiled, limits: Sequence[Collection[str]]
) -> Iterator[Objection]:
    """What a charter says cannot be, and would be with this right; where only limits stand against it, a person decides."""
    proof = spoiled(again(world, rights=[*world.rights, right]))
    if proof is None:
        return
    said = f"the charter {charter} says `{proof.words()}`, and {right.role} at {place_name(world, right.place)} would allow it"
    if narrowed(limits, proof.permission):
        yield Objection(
            "limits-alone",
            f"{said}: only the limits of its credentials stand against that",
            "choose a narrower role or another place",
            refuse=False,
        )
    else:
        yield Objection("breaks-cannot", said, "choose a narrower role or another place")


def missing_rights(world: World[Any], right: Right, now: datetime, permissions: Iterable[str]) -> Iterator[Objection]:
    """Permissions of a new grant that will not work there, and what is missing for them."""
    others = [r for r in world.rights if r.id != right.id]
    asked = again(world, rights=[*others, right._replace(start=None, until=None)])
    for permission in sorted(permissions):
        rule = world.operations.get(permission)
        if rule is not None and (rule.service or rule.located or rule.needs) and asked.node(right.place) is not None:
            yield from _missing(asked, Question(right.carrier, permission, right.place, now))


def _missing(world: World[Any], question: Question) -> Iterator[Objection]:
    """Everything that is missing, one after the other: each is named, and then taken as mended."""
    for _ in range(MOST_MISSING):
        decision, asked = world.decide(question), question
        if decision.cause is Cause.RIGHT_MISSING and decision.need is not None and decision.needed is not None:
            asked = question._replace(permission=decision.need[0], place=decision.need[1])
            if decision.needed.cause in _ON_THE_WAY:
                decision = decision.needed
        if decision.allowed is None:
            yield Objection(
                "not-foreseen",
                f"whether {question.permission} will work at {question.place} cannot be foreseen: {'; '.join(decision.hidden)}",
                "ask with an administrator who may look",
                refuse=False,
                usual=True,
            )
            return
        at, node = asked.place, world.node(asked.place)
        if decision.cause is Cause.RIGHT_MISSING:
            yield Objection(
                "right-missing",
                f"{question.permission} at {question.place} does not suffice alone: "
                f"{asked.permission} at {at} is needed, too, and nothing grants it",
                f"grant a role that holds {asked.permission} there",
                refuse=False,
            )
        if decision.cause not in _ON_THE_WAY:
            return
        changed = change(world, asked, decision)
        if decision.cause is Cause.SERVICE_OFF and not changed.possible:
            return  # it is switched on at a place below, and the grant counts there
        if decision.cause is Cause.SERVICE_OFF:
            service = world.operations[asked.permission].service
            yield Objection(
                "service-off",
                f"{asked.permission} will not work at {at}: {service} is not switched on there",
                f"add `services: [{{service: {service}, at: {changed.mend.place}}}]`",
                refuse=False,
            )
        elif node is not None:
            yield Objection(
                "location-differs",
                f"{asked.permission} will not work at {at}: {name_of(world, asked.principal)} runs in "
                f"{world.principals[asked.principal].location}, and the place lies in {node.location}",
                f"run it in {node.location}, and say so in `identity: location`",
                refuse=False,
            )
        world = changed.world
