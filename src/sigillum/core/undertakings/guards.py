"""What keeps a rotation from making the next generation: another copy, an attempt of which nobody has the secret, no room."""

from __future__ import annotations

from datetime import datetime, timedelta

from sigillum.core.facets.generation import end
from sigillum.core.kinds.kind import Fact, Query
from sigillum.core.kinds.profile import PERSON, SEALED
from sigillum.core.kinds.signing import CREDENTIAL, Credential

from .bridging import counting
from .rotation import Around, Rotation, Stage
from .undertaking import Look, Next
from .uses import tells, used_by_others


def elsewhere(rotation: Rotation, around: Around) -> str:
    """Which generation another copy of the workspace keeps, in words: nothing is ended, renewed or proved without it."""
    want = around.want
    for made in (rotation.old, rotation.new) if want is not None and want.held_here else ():
        if (
            made is not None
            and made.live
            and made.kept_by not in ("", around.copy)
            and not made.elsewhere
            and not around.held.get((rotation.name, made.number))
        ):
            return (
                f"generation {made.number} of {rotation.name} is kept by the copy {made.kept_by} of this workspace, "
                "and not here"
            )
    return ""


def in_place(one: Rotation, around: Around) -> bool:
    """Does the new one take the old one's place in one request, so that there is no moment without either?"""
    return around.profile.replaces and around.want is not None and around.want.is_a.typed and around.want.held_here


def full(rotation: Rotation, around: Around, seen: Look, now: datetime) -> Next | None:
    """There has to be room for one more: where there is none, nothing is begun."""
    kind = around.want.kind if around.want is not None else ""
    most = around.profile.most(kind)
    fact = seen.ask(Query(CREDENTIAL, "principal", around.bearer)) if most else Fact[Credential]()
    counted = counting(around.profile, fact.records, now, kind)
    if not most or len(counted) < most:
        return None
    dead = next(
        (
            (mark, n, r.id)
            for r in counted
            if r.over(now) and r.id != rotation.old.id
            for mark, n, i in around.ours
            if i == r.id
        ),
        None,
    )
    if dead is not None:  # a stranger's is never cleared
        return Next((end(dead[0], dead[1], dead[2], "it ended by itself, and counts among those that may stand"),))
    if in_place(rotation, around):
        return Next(
            waits=f"{rotation.tenant} takes one credential at a time: the new one is laid beside the old one, for consumers "
            "that try both, and takes its place in one request",
            code="in-place",
        )
    others = ", ".join(r.body.name or r.id for r in counted if r.id != rotation.old.id)
    if not others:
        return Next(
            waits=f"{rotation.tenant} takes one credential at a time: where the old one ends first, nobody can sign in "
            "until its consumers have the new one",
            code="gap",
        )
    return Next(waits=f"{rotation.tenant} takes {most} credentials, and {others} stands beside {rotation.name}", code="room")


def worn(rotation: Rotation, around: Around, seen: Look, now: datetime) -> str:
    """Whether the new one nears its own end while the old one is not gone yet: "unused" where the tenant shows that nobody ever
    used it, else "used"; empty: it does not. Near is where its own deadline would be, or where its consumers need what is left.
    """
    new, want = rotation.new, around.want
    if new is None or want is None or not new.live or not new.id or Stage.GIVEN not in rotation.staged:
        return ""
    record = seen.ask(Query(CREDENTIAL, "id", new.id)).first
    until = record.body.until if record is not None else None
    near = min(want.renew_before_seconds, max(want.renew_before_seconds // 4, rotation.quiet_seconds))
    if record is None or until is None or now < until - timedelta(seconds=near):
        return ""
    doubt = used_by_others(rotation.own.get(new.number, ()), record, around.profile.last_used)
    return "unused" if tells(around.profile) and doubt.at is None else "used"


def uncaught(rotation: Rotation, around: Around, seen: Look) -> Next | None:
    """What an interrupted attempt of ours made, whose secret was shown once: nobody has that, so it ends."""
    want, new = around.want, rotation.new
    assert want is not None
    if new is None or not new.unanswered or not want.is_a.tenant_made or around.held.get((want.name, new.number)):
        return None
    if around.profile.secret_delivery == SEALED or around.profile.confirmed_by == PERSON:
        return None
    marked = CREDENTIAL.name not in around.profile.unmarked
    fact = seen.ask(Query(CREDENTIAL, "mark", new.external_id) if marked else Query(CREDENTIAL, "principal", around.bearer))
    if not fact.known:
        return Next(waits=f"whether the new {want.name} arrived cannot be seen: {fact.unknown}", early=True)
    found = [r for r in fact.records if marked or r.says(name=f"{want.name}-{new.number}")]
    why = "its secret was shown once, to an attempt that was interrupted: nobody has it"
    return Next((end(rotation.mark, new.number, found[0].id, why),)) if found else None
