"""Bridges: where some users of an old key are not ready at its end, its public half is registered again with a later one."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from datetime import datetime, timedelta
from typing import Any

from sigillum.core.facets.generation import Making, begin, called, finish
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.profile import Profile
from sigillum.core.kinds.signing import CREDENTIAL, Credential
from sigillum.core.records.history import ROTATION, State
from sigillum.core.records.steps import Step
from sigillum.core.values.times import format_duration, parse_instant

from .rotation import Around, Asked, Rotation, bridge_mark
from .undertaking import Look


def counting(profile: Profile, records: Iterable[Record[Credential]], now: datetime, kind: str) -> list[Record[Credential]]:
    """Those that count among the credentials that may stand beside one of this kind."""
    return [
        r for r in records if (kind not in profile.singles or r.says(type=kind)) and (profile.ended_count or not r.over(now))
    ]


def not_bridged(
    rotation: Rotation, around: Around, seen: Look, now: datetime, until: datetime, longest_seconds: int
) -> Iterator[str]:
    """What can be said against a bridge that ends then. `longest_seconds`: the house's bound."""
    want, profile = around.want, around.profile
    if want is None or not want.is_a.repeatable:
        yield f"{rotation.name} is no key pair: of nothing else can the same be registered again"
    if rotation.exposed:
        yield f"the old {rotation.name} is known to others"
    if not rotation.old.live or Asked.END in rotation.staged:
        yield f"the old {rotation.name} is being ended"
    if not profile.repeated_keys:
        yield f"{rotation.tenant} does not say that it takes one public key twice"
    for who, seconds in ((rotation.tenant, profile.credential_seconds), ("a house rule", longest_seconds)):
        if seconds and until > now + timedelta(seconds=seconds):
            yield f"it would last longer than {who} allows, {format_duration(seconds)}"
    kind = want.kind if want is not None else ""
    most = profile.most(kind)
    fact = seen.ask(Query(CREDENTIAL, "principal", around.bearer))
    if not fact.known:
        yield f"whether there is room for it cannot be seen: {fact.unknown}"
    coming = rotation.new is None or rotation.new.state is not State.MADE
    if most and len(counting(profile, fact.records, now, kind)) + coming >= most:
        beside = ", and the next generation still needs a place" if coming else ""
        yield f"{rotation.tenant} takes {most} credentials, and so many stand{beside}"


def bridged(rotation: Rotation, around: Around, seen: Look) -> tuple[Step, ...]:
    """What is still to be done for a bridge that was agreed. One that the tenant refused is not sent again."""
    asked, want = rotation.staged.get(Asked.BRIDGE), around.want
    if asked is None or want is None:
        return ()
    mark, number, old = bridge_mark(rotation.mark), int(asked["bridge"]), rotation.old
    made = next((g for g in rotation.bridges if g.number == number), None)
    same = want._replace(
        name=called(mark),
        keep_in="holder",
        public_key=dict(asked["public_key"]),
        lasts_seconds=_life(asked),
        limits=tuple(old.terms.get("limits", ())),
    )
    of = Making(mark, same, number, around.bearer, around.carrier, {}, around.profile.born_inactive is not False)
    if made is None or made.unanswered:
        terms = {
            "until": asked["until"],
            "kind": want.kind,
            "limits": list(same.limits),
            ROTATION: rotation.key,
            "accepted_by": asked["accepted_by"],
        }
        return tuple(begin(of, terms, f"{asked['accepted_by']} accepts that the old key is used longer"))
    record = seen.ask(Query(CREDENTIAL, "id", made.id)).first if made.live and made.id else None
    if record is None or made.on_at:
        return ()
    return tuple(finish(of, made.id, active=record.body.active))


def _life(asked: Mapping[str, Any]) -> int:
    return int((parse_instant(str(asked["until"])) - parse_instant(str(asked["at"]))).total_seconds())


def ends(rotation: Rotation, now: datetime, seconds: int) -> datetime:
    """When a bridge of so many seconds ends: so long after what it replaces, or from now on where that is over."""
    last = [parse_instant(str(g.terms["until"])) for g in rotation.leaving if g.terms.get("until")]
    return max([now, *last]) + timedelta(seconds=seconds)
