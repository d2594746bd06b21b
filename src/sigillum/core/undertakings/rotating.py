"""What follows for a rotation: a pure stage machine over its entries, its tenant's facts and what its charter asks for."""

from __future__ import annotations

from datetime import datetime, timedelta

from sigillum.core.facets.generation import Making, begin, end, finish, terms_of
from sigillum.core.kinds.changes import Change
from sigillum.core.kinds.kind import Fact, Query, Record
from sigillum.core.kinds.profile import PERSON, SEALED
from sigillum.core.kinds.signing import CREDENTIAL, Credential
from sigillum.core.records.history import ROTATING, ROTATION, State
from sigillum.core.records.steps import Await, Prove, Step, StepKind, Turning
from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.marks import StepId
from sigillum.core.values.times import format_instant, parse_instant

from .bridging import bridged
from .consuming import known, missing, picked_up
from .guards import elsewhere, full, in_place, uncaught, worn
from .late import closed_how, late
from .rotation import Around, Asked, Leaves, Rotation, Stage, read, tokens_over
from .undertaking import Look, Next, Undertaking
from .uses import Doubt, tells, used_by_others


def next_(rotation: Rotation, seen: Look, now: datetime) -> Next:
    """What follows for a rotation."""
    if rotation.closed:
        return Next()
    around = seen.around
    assert isinstance(around, Around)
    old, new = rotation.old, rotation.new
    if around.want is None:
        if not rotation.leaving and (new is None or not new.live):
            return Next(closed="not wanted any more")
        return Next(waits=f"the charter does not ask for {rotation.name} any more, and it is not ended yet", code="not-asked")
    other = elsewhere(rotation, around)
    if other:
        return Next(waits=other, code="copy")
    facts = [(g, seen.ask(Query(CREDENTIAL, "id", g.id))) for g in rotation.leaving if g.id]
    unknown = next((f.unknown for _, f in facts if not f.known), "")
    if unknown:
        return late(rotation, around, None, now, f"{rotation.name} cannot be looked up: {unknown}")
    leaves = [(g, f.first) for g, f in facts if f.first is not None]
    if rotation.exposed and around.profile.born_inactive is not False and (off := _switched(rotation, leaves, on=False)):
        return Next(off)
    record = together([r for _, r in leaves])
    if rotation.gap and old.live and not in_place(rotation, around):
        return Next((end(rotation.mark, old.number, old.id, "the tenant takes one at a time: it ends first"),))
    bridge = bridged(rotation, around, seen) if leaves else ()
    if bridge:
        return Next(bridge)
    made = _make(rotation, around, seen, now, record)
    if made is not None:
        return made
    for stage in (Stage.ACCEPTED, Stage.GIVEN):
        if stage not in rotation.staged:
            return Next((_turn(rotation, stage),))
    if rotation.owed and not _ends_anyway(rotation, record, now):
        return late(
            rotation, around, record, now, f"{rotation.name} has to be handed over anew to {', '.join(rotation.owed)}", "owed"
        )
    if rotation.leaving:
        return _leave(rotation, around, seen, leaves, now)
    assert rotation.ended_at is not None
    over = tokens_over(around.profile, rotation.ended_at, str(rotation.old.terms.get("kind") or ""))
    if Stage.DEAD not in rotation.staged and Asked.TOKEN not in rotation.staged and now < over:
        return Next(
            waits=f"the old {rotation.name} is ended; tokens that it got before may live until {format_instant(over)}",
            early=True,
        )
    if Stage.DEAD not in rotation.staged:
        return Next((_turn(rotation, Stage.DEAD),))
    if Stage.CLEARED not in rotation.staged:
        return Next((_turn(rotation, Stage.CLEARED),))
    return Next(closed=closed_how(rotation, around))


_PROVING = (Stage.ACCEPTED, Stage.DEAD)


def _turn(rotation: Rotation, stage: str, *needs: StepId, number: int = 0, how: str = "") -> Step:
    abouts: dict[str, str] = {
        Stage.ACCEPTED: f"until the tenant takes the new {rotation.name} for sure",
        Stage.BESIDE: f"the new {rotation.name} beside the old one, for consumers that try both",
        Stage.GIVEN: f"the new {rotation.name} where its consumers read it",
        Stage.TAKEN: f"that the new {rotation.name} is used",
        Asked.TOKEN: f"a token of the old {rotation.name}, to be refused later",
        Stage.DEAD: f"the old {rotation.name}: it must be refused, and the new one taken",
        Stage.CLEARED: f"what is left of the old {rotation.name} here: it goes",
    }
    kind = StepKind.PROVE if stage in _PROVING else StepKind.KEEP
    return Step(
        StepId(rotation.mark, number or rotation.number, stage),
        kind,
        abouts[stage],
        Turning(stage, rotation.key, rotation.name, rotation.number, rotation.old.number, how),
        needs,
    )


def together(records: list[Record[Credential]]) -> Record[Credential] | None:
    """The old one as its users meet it, where its key is registered more than once: its last use, and its last end."""
    if not records:
        return None
    last = max(records, key=lambda r: (r.body.used_at is not None, r.body.used_at))
    ends = [r.body.until for r in records if r.body.until is not None]
    return last.with_(until=max(ends) if len(ends) == len(records) else None)


def _switched(rotation: Rotation, leaves: list[Leaves], *, on: bool, needs: tuple[StepId, ...] = ()) -> tuple[Step, ...]:
    """The steps that switch the old one off, or on again."""
    why = (
        "whoever has it can use it until then"
        if rotation.exposed
        else "somebody wants it back"
        if on
        else "whoever still uses it will say so, and it can be switched on again"
    )
    about = f"the {'exposed' if rotation.exposed else 'old'} {rotation.name}: switch it {'on again' if on else 'off'}"
    return tuple(
        Step(
            StepId(g.mark, g.number, "back" if on else "off"),
            StepKind.CHANGE,
            about,
            Change(CREDENTIAL, r.id, {"active": on}, r.version),
            needs,
            CREDENTIAL.power,
            why,
            before={"active": not on},
            after={"active": on},
        )
        for g, r in leaves
        if r.denies(active=on)
    )


def _making(rotation: Rotation, around: Around, number: int) -> Making:
    assert around.want is not None
    of = (around.want.name, number)
    return Making(
        rotation.mark,
        around.want,
        number,
        around.bearer,
        around.carrier,
        around.about,
        around.profile.born_inactive is not False,
        False,
        around.held.get(of, ""),
        of in around.incomplete,
        signer=around.signer,
    )


def _make(rotation: Rotation, around: Around, seen: Look, now: datetime, leaves: Record[Credential] | None) -> Next | None:
    """Bring the new generation to where it proves something; None where it does."""
    want, new = around.want, rotation.new
    assert want is not None
    spent = worn(rotation, around, seen, now) if rotation.leaving and not _ends_anyway(rotation, leaves, now) else ""
    if spent == "unused" and new is not None:
        return Next((end(rotation.mark, new.number, new.id, "nobody ever used it, and it nears its own end"),))
    if spent and full(rotation, around, seen, now) is not None:
        spent = ""  # it serves as long as it lasts: the old one has to go first
    if new is None or new.state is not State.MADE or spent:
        return _begin(rotation, around, seen, leaves, now, after_spent=bool(spent))
    fact = seen.ask(Query(CREDENTIAL, "id", new.id))
    if not fact.known:
        return Next(waits=f"the new {want.name} cannot be looked up: {fact.unknown}")
    record, making, arriving = fact.first, _making(rotation, around, new.number), _recent(new.made_at, seen, now)
    if record is None and arriving:
        return Next(
            (
                Step(
                    StepId(rotation.mark, new.number, "wait"),
                    StepKind.WAIT,
                    f"until the tenant shows the new {want.name}",
                    Await(CREDENTIAL, new.id, seen.arrival_seconds),
                ),
            )
        )
    if record is None and new.ending:  # our own end was sent and its answer lost: what is gone is ended once more, and noted
        return Next((end(rotation.mark, new.number, new.id, "its end was begun earlier"),))
    if record is None:
        return Next(waits=f"the new {want.name} is gone, and no step of this ledger ended it", code="ended-elsewhere")
    if (
        want.held_here
        and not making.held
        and not new.given_away
        and not (want.is_a.tenant_made and not record.body.active and around.profile.secret_delivery == SEALED)
    ):
        return Next((end(rotation.mark, new.number, new.id, "its secret was not caught, so nobody has it"),))
    if not record.body.active and new.on_at and not _recent(new.on_at, seen, now):
        return Next(waits=f"somebody else switched the new {want.name} off: what somebody else stopped stays stopped")
    left = finish(making, new.id, active=record.body.active or _recent(new.on_at, seen, now)) if not new.given_away else ()
    return Next(tuple(left)) if left else None


def _begin(
    rotation: Rotation, around: Around, seen: Look, leaves: Record[Credential] | None, now: datetime, *, after_spent: bool
) -> Next:
    """Begin the next generation, where there is room for it and its key can be had; `after_spent`: the new one is worn."""
    want, new = around.want, rotation.new
    assert want is not None
    again = new is not None and (new.state in (State.ENDED, State.SPENT) or after_spent)
    number = rotation.old.number + 1 if new is None else new.number + again
    if not want.held_here and (
        want.public_key is None or (leaves is not None and leaves.says(thumbprint=thumbprint(want.public_key)))
    ):
        if around.held.get((rotation.name, rotation.old.number)):
            return Next(waits=f"{want.name} is kept here, and by the charter its holder keeps it", code="kept-here")
        return Next(waits=f"the holder of {want.name} has to send the public half of a new key", code="holder")
    arrived = uncaught(rotation, around, seen)
    if arrived is not None:
        return arrived
    swap = rotation.gap and in_place(rotation, around)
    no_room = full(rotation, around, seen, now) if not swap else None
    if no_room is not None and (new is None or not new.unanswered):
        return no_room
    known = new.terms if new is not None and number == new.number else around.terms(rotation.mark, number)
    making = _making(rotation, around, number)._replace(instead_of=rotation.old if swap and rotation.old.live else None)
    terms = terms_of(want, now, known, around.profile.credential_grain)
    steps = tuple(begin(making, terms, f"the next generation, since {rotation.because}"))
    return _beside(rotation, steps, now) if swap else Next(steps)


def _recent(since: str, seen: Look, now: datetime) -> bool:
    return bool(since) and now < parse_instant(since) + timedelta(seconds=seen.arrival_seconds)


def _beside(rotation: Rotation, steps: tuple[Step, ...], now: datetime) -> Next:
    """Consumers that try both get the new one before it takes the old one's place."""
    if rotation.exposed or not rotation.old.live:
        return Next(steps)
    if Stage.BESIDE not in rotation.staged:
        return Next((steps[0], _turn(rotation, Stage.BESIDE, steps[0].id)))
    until = parse_instant(str(rotation.staged[Stage.BESIDE]["until"]))
    if now < until:
        return Next(
            waits=f"the new {rotation.name} lies beside the old one, and its consumers have it by {format_instant(until)}",
            early=True,
        )
    return Next(steps)


def _ends_anyway(rotation: Rotation, record: Record[Credential] | None, now: datetime) -> bool:
    """Was it agreed, or is the old one refused by now at any rate?"""
    until = record.body.until if record is not None else None
    return rotation.exposed or Asked.END in rotation.staged or record is None or (until is not None and until <= now)


def _leave(rotation: Rotation, around: Around, seen: Look, leaves: list[Leaves], now: datetime) -> Next:
    """Whether the new one is used, and the old one no more; then that one ends."""
    profile, told, record = around.profile, tells(around.profile), together([r for _, r in leaves])
    if _ends_anyway(rotation, record, now):
        return Next(_ending(rotation, around))
    assert record is not None
    if Asked.BACK in rotation.staged or rotation.paused_at is not None:
        return _paused(rotation, around, seen, leaves, now)
    if Asked.PAUSE in rotation.staged and not told:  # whether it is used shows only so
        return _pause(rotation, around, leaves)
    fresh = seen.ask(Query(CREDENTIAL, "id", rotation.new.id)) if rotation.new is not None else Fact[Credential]()
    everyone = known(around.consumers, rotation.told)
    unknown = "" if Asked.WORD in rotation.staged else missing(everyone)
    given, old = rotation.at(Stage.GIVEN), used_by_others(rotation.own.get(rotation.old.number, ()), record, profile.last_used)
    assert given is not None
    if Stage.TAKEN not in rotation.staged:
        new = used_by_others(rotation.own.get(rotation.number, ()), fresh.first, profile.last_used)
        used = new.at is not None and (not new.ours_perhaps or new.at > given)
        everybody = bool(everyone) and not unknown
        if Asked.WORD in rotation.staged or used or (everybody if everyone else rotation.received and not told):
            return Next((_turn(rotation, Stage.TAKEN, how=_taken_how(rotation, new, told=told)),))
        if not told:
            return late(
                rotation,
                around,
                record,
                now,
                f"{rotation.tenant} does not tell whether the new {rotation.name} is used",
                "word",
            )
        return late(rotation, around, record, now, f"nobody has used the new {rotation.name} yet")
    asked = rotation.last_day_over if not told else None
    if asked is None and profile.confirmed_by == PERSON:
        return late(
            rotation, around, record, now, f"nobody has said on which day the old {rotation.name} was used last", "again"
        )
    said = rotation.at(Asked.LAST) if asked is not None else rotation.at(Stage.TAKEN) if not told else None
    since = max(t for t in (old.at, given, asked or said) if t is not None)
    sooner = picked_up(profile, around.consumers) if told and everyone and not unknown else None
    quiet = since + timedelta(seconds=min(rotation.quiet_seconds, sooner if sooner is not None else rotation.quiet_seconds))
    if now < quiet:
        again = (
            f"was used last at {format_instant(old.at)} {_whose(old, record)}, and "
            if old.at is not None and old.at > given
            else ""
        )
        return late(
            rotation, around, record, now, f"the old {rotation.name} {again}has to be unused until {format_instant(quiet)}"
        )
    if asked is not None and said is not None and said < quiet:
        what = f"nobody has looked since {format_instant(quiet)} whether the old {rotation.name} is used"
        return late(rotation, around, record, now, what, "again")
    if Asked.PAUSE in rotation.staged:
        return _pause(rotation, around, leaves)
    return Next(_ending(rotation, around, token=True))


def _taken_how(rotation: Rotation, new: Doubt, *, told: bool) -> str:
    """Why the new one counts as taken: a person's word, receipts, or what the tenant tells of its use."""
    word = rotation.staged.get(Asked.WORD)
    if word is not None:
        return f"{word['who']} says so"
    if not told or new.at is None:
        return "its consumers have it, as they or others say"
    return "it was used since it was given, by others or by us" if new.ours_perhaps else "it was used by somebody else than us"


def _whose(doubt: Doubt, record: Record[Credential]) -> str:
    """By whom, as far as it is known."""
    if doubt.ours_perhaps:
        return "by somebody else, or by us: a use of ours was interrupted then"
    return f"from {record.body.used_from or 'somewhere'}"


def _token(rotation: Rotation, around: Around) -> list[Step]:
    """A token of the old one, got while it works, where what it proves itself with is here."""
    here = around.held.get((rotation.name, rotation.old.number)) and Asked.TOKEN not in rotation.staged
    return [_turn(rotation, Asked.TOKEN, number=rotation.old.number)] if here else []


def _pause(rotation: Rotation, around: Around, leaves: list[Leaves]) -> Next:
    """Off for a while, before it ends."""
    token = _token(rotation, around)
    return Next((*token, *_switched(rotation, leaves, on=False, needs=tuple(s.id for s in token))))


def _paused(rotation: Rotation, around: Around, seen: Look, leaves: list[Leaves], now: datetime) -> Next:
    """It is off until it was missed by nobody for long enough; or it is wanted back, if nobody else was at it meanwhile."""
    record = together([r for _, r in leaves])
    off, arriving = [(g, r) for g, r in leaves if not r.body.active], [g for g, _ in leaves if _recent(g.left_at, seen, now)]
    if any(g in arriving and r.says(active=g.off_in > g.on_in) for g, r in leaves):
        return Next(waits=f"the old {rotation.name} was switched a moment ago, and look-ups do not show it yet", early=True)
    if Asked.BACK in rotation.staged:
        if any(not r.state or dict(g.left) != r.state for g, r in off if g not in arriving):
            return Next(waits=f"somebody else was at the old {rotation.name} while it was off: it stays off", code="touched")
        wanted = f"somebody wanted the old {rotation.name} back, and it serves"
        return Next(_switched(rotation, off, on=True)) if off else late(rotation, around, record, now, wanted, "back")
    if len(off) < len(leaves):
        return Next(waits=f"somebody switched the old {rotation.name} on although it was to be off for a while", code="back")
    assert rotation.paused_at is not None
    quiet = rotation.paused_at + timedelta(seconds=rotation.quiet_seconds)
    if now < quiet:
        return Next(
            waits=f"the old {rotation.name} is off until {format_instant(quiet)}, to see who misses it",
            early=True,
            code="paused",
        )
    return Next(_ending(rotation, around))


def _ending(rotation: Rotation, around: Around, *, token: bool = False) -> tuple[Step, ...]:
    want, steps = around.want, _token(rotation, around) if token else []
    assert want is not None
    if around.held.get((rotation.name, rotation.number)) and around.proofs and not rotation.exposed:
        ending = StepId(rotation.mark, rotation.old.number, "end")
        steps.append(
            Step(
                StepId(rotation.mark, rotation.number, "prove"),
                StepKind.PROVE,
                f"the new {rotation.name}: sign in with it, and try what must work",
                Prove(around.proofs, rotation.name, (ending,)),
                tuple(s.id for s in steps),
                why="the old one ends only after what replaces it was proved",
            )
        )
    why = "it was exposed" if rotation.exposed else "a newer generation took its place"
    return (*steps, *(end(g.mark, g.number, g.id, why, *(s.id for s in steps)) for g in rotation.leaving if g.id))


ROTATIONS = Undertaking(ROTATION, ROTATING, read, next_)
