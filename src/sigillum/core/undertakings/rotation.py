"""Rotations: the next generation of a credential made, tried and given while the old one still serves; then that one ends.

No consumer is ever without a credential that its tenant takes. The stages and what is durable between them stand in
`docs/architecture.md`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from enum import StrEnum
from typing import Any, NamedTuple

from sigillum.core.charter.charter import CredentialWant
from sigillum.core.charter.rules import Consumer
from sigillum.core.facets.quiet import USUAL_TOKEN_SECONDS
from sigillum.core.kinds.kind import Record
from sigillum.core.kinds.profile import Profile
from sigillum.core.kinds.signing import Credential
from sigillum.core.records.chain import LedgerEntry
from sigillum.core.records.folding import fold
from sigillum.core.records.history import (
    BRIDGE,
    CLOSED,
    HANDED,
    INTENT,
    KEPT,
    NUMBER,
    OPENED,
    ROTATING,
    ROTATION,
    STAGED,
    UNDERTAKING,
    Generation,
    History,
    State,
)
from sigillum.core.records.steps import Kept
from sigillum.core.values.marks import Mark, mark_of
from sigillum.core.values.times import parse_instant, whole_second

from .consuming import Told
from .uses import OwnUse


class Stage(StrEnum):
    """What is reached, in this order."""

    BEGUN = "begun"
    KEPT = "kept"
    BESIDE = "beside"  # the new one lies where consumers that try both find it
    MADE = "made"
    ACCEPTED = "accepted"
    GIVEN = "given"
    TAKEN = "taken"
    PAUSED = "paused"  # the old one is off for a while, to see who misses it
    ENDED = "ended"
    DEAD = "dead"
    CLEARED = "cleared"


class Asked(StrEnum):
    """What else stands in a rotation's entries: a person's word that it was taken, or that it ends at any rate; a token of the
    old one that was kept; a sign-in of ours.
    """

    WORD = "word"
    LAST = "last-used"  # the day on which a person saw the old one used last
    END = "end-agreed"
    TOKEN = "token"  # noqa: S105 - a stage's name
    OURS = "signed-in"
    LET_IN = "let-in"  # the new one was taken at sign-in for the first time
    GAP = "gap-agreed"
    PAUSE = "pause-agreed"
    BACK = "wanted-back"
    SEEN = "seen-with"  # with which one a consumer was seen, by the address that is its own
    BRIDGE = "bridge-agreed"  # the old one's key is to be registered once more, with a later end


_UNDONE: Mapping[str, tuple[str, ...]] = {  # what takes back what
    Asked.BACK: (Asked.PAUSE, Asked.END),
    Asked.PAUSE: (Asked.BACK,),
    Asked.END: (Asked.BACK,),
    Asked.WORD: (Asked.BACK,),
}


# What is reached, or said, with one new generation, and not with the next.
_BY_GENERATION = (
    Stage.BESIDE,
    Stage.ACCEPTED,
    Stage.GIVEN,
    Stage.TAKEN,
    Asked.WORD,
    Asked.LAST,
)


def bridge_mark(mark: Mark) -> Mark:
    """What stands for an old key beside it, as long as some of its users are not ready."""
    return Mark(mark.facet, mark.tenant, ((BRIDGE, mark.get("name")),))


@dataclass(frozen=True, slots=True)
class Rotation:
    """One rotation as its entries say, in the stream of its charter."""

    uid: str
    key: str
    began: int
    tenant: str
    mark: Mark
    old: Generation
    new: Generation | None
    begun_at: datetime
    deadline: datetime
    quiet_seconds: int
    because: str = ""
    by: str = ""
    exposed: bool = False
    gap: bool = False
    staged: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    own: Mapping[int, list[OwnUse]] = field(default_factory=dict)  # when we used a generation ourselves
    owed: tuple[str, ...] = ()  # who has the old one in a sheet, and not the new one
    received: bool = False  # everybody who was given one in a sheet has sent a receipt for the new one
    closed: str = ""
    told: Mapping[str, Told] = field(default_factory=dict)  # of its consumers, what was told last
    bridges: tuple[Generation, ...] = ()  # further registrations of the old one's key
    between: tuple[Generation, ...] = ()  # what came after the old one, and was replaced in its turn
    serves: int = 0  # the generation that consumers read, until the new one is given

    @property
    def name(self) -> str:
        return self.mark.get("name")

    @property
    def number(self) -> int:
        """The generation that comes."""
        return self.new.number if self.new is not None else self.old.number + 1

    @property
    def stage(self) -> Stage:
        """The last one that was reached."""
        for stage in (Stage.CLEARED, Stage.DEAD):
            if stage in self.staged:
                return stage
        if not self.leaving and not (self.gap and Stage.TAKEN not in self.staged):
            return Stage.ENDED
        if self.paused_at is not None:
            return Stage.PAUSED
        for stage in (Stage.TAKEN, Stage.GIVEN, Stage.ACCEPTED):
            if stage in self.staged:
                return stage
        if self.new is not None and self.new.state is State.MADE:
            return Stage.MADE
        if Stage.BESIDE in self.staged:
            return Stage.BESIDE
        return Stage.KEPT if self.new is not None and self.new.kept else Stage.BEGUN

    def at(self, stage: str) -> datetime | None:
        body = self.staged.get(stage)
        return parse_instant(str(body["at"])) if body is not None else None

    @property
    def since(self) -> datetime:
        """Since when it stands where it stands."""
        known = (self.begun_at, self.ended_at, self.paused_at, *(self.at(s) for s in self.staged))
        return max(t for t in known if t is not None)

    @property
    def leaving(self) -> tuple[Generation, ...]:
        """What ends with the old one, and has not ended."""
        return tuple(g for g in (self.old, *self.between, *self.bridges) if g.live and g.id)

    @property
    def ended_at(self) -> datetime | None:
        """When the last of it ended."""
        return max((parse_instant(g.ended_at) for g in (self.old, *self.between, *self.bridges) if g.ended_at), default=None)

    @property
    def pausing(self) -> bool:
        """Is it still to be switched off for a while?"""
        return Asked.PAUSE in self.staged and bool(self.leaving) and self.paused_at is None

    @property
    def paused_at(self) -> datetime | None:
        """Since when all of the old one is off, where somebody wants to see who misses it."""
        if Asked.PAUSE not in self.staged or not self.leaving or any(g.off_in <= g.on_in for g in self.leaving):
            return None
        return max(parse_instant(g.left_at) for g in self.leaving)

    @property
    def last_day_over(self) -> datetime | None:
        """The end of the day on which somebody saw the old one used last, in UTC."""
        body = self.staged.get(Asked.LAST)
        return parse_instant(f"{body['day']}T00:00:00Z") + timedelta(days=1) if body is not None else None


Leaves = tuple[Generation, Record[Credential]]  # one registration of what leaves, as the ledger and the tenant know it


class Around(NamedTuple):
    """What a rotation looks at beside its own entries and the tenant's facts. Without `want` its charter asks for it no more.

    `held`: what is kept here; `incomplete`: without what stands beside it.
    """

    want: CredentialWant | None
    profile: Profile
    bearer: str = ""
    carrier: str = ""
    about: Mapping[str, Any] = {}
    held: Mapping[tuple[str, int], str] = {}
    incomplete: frozenset[tuple[str, int]] = frozenset()
    proofs: tuple[int, ...] = ()
    consumers: tuple[Consumer, ...] = ()
    copy: str = ""  # the name of this copy of the workspace
    ours: tuple[tuple[Mark, int, str], ...] = ()  # every credential of this charter that stands, by the ledger
    terms: Callable[[Mark, int], Mapping[str, Any]] = lambda mark, number: {}  # with which a generation was begun or asked for
    signer: Kept | None = None  # with which password the identity makes the new one itself


def tokens_over(profile: Profile, ended_at: datetime, *kinds: str) -> datetime:
    """When every token that was got before has come to its end, as far as the tenant says how long they live. `kinds`: of the
    credentials that ended, where that is known; with some, the tokens end at once.
    """
    if kinds and profile.tokens_die_with.issuperset(kinds):
        return whole_second(ended_at + timedelta(seconds=1))
    return whole_second(ended_at + timedelta(seconds=(profile.token_seconds or USUAL_TOKEN_SECONDS) + 1))


def deadline(now: datetime, until: datetime | None, before_seconds: int) -> datetime:
    """Until when the old one should be out of use: a quarter of `renew_before` is left between it and its end."""
    if until is None:
        return now + timedelta(seconds=before_seconds)
    return max(now, until - timedelta(seconds=before_seconds // 4))


def read(entries: Iterable[LedgerEntry], uid: str) -> list[Rotation]:
    """The rotations of a stream."""
    all_ = list(entries)
    state = fold(all_, uid)
    closed = {str(e.body[NUMBER]): str(e.body["how"]) for e in all_ if e.kind == CLOSED and e.body[UNDERTAKING] == ROTATION}
    return [_read(e, all_, state, closed.get(str(e.body[NUMBER]), "")) for e in all_ if e.kind == ROTATING]


class _Course(NamedTuple):
    """What the entries after its beginning say of a rotation: its stages, our own uses, who was given which generation and sent
    a receipt, what is told of consumers, and which generation those read.
    """

    staged: Mapping[str, Mapping[str, Any]]
    own: Mapping[int, Mapping[datetime, OwnUse]]
    has: Mapping[int, list[str]]
    opened: frozenset[tuple[str, int]]
    told: Mapping[str, Told]
    serves: int


def _course(body: Mapping[str, Any], mark: Mark, all_: list[LedgerEntry], old: int) -> _Course:
    staged, own, has = dict[str, Mapping[str, Any]](), dict[int, dict[datetime, OwnUse]](), dict[int, list[str]]()
    opened, told = set[tuple[str, int]](), dict[str, Told]()
    serves, comes = old, int(body["generation"])
    for other in all_:
        number = int(other.body["generation"]) if other.kind in (INTENT, KEPT) and mark_of(other.body) == mark else 0
        if number > comes:  # the one before it was replaced: what was reached with that one is to be reached anew
            serves = comes if Stage.GIVEN in staged else serves
            comes, told = number, {}
            staged = {s: b for s, b in staged.items() if s not in _BY_GENERATION}
        elif other.kind == STAGED and other.body["of"] == body[NUMBER]:
            stage = str(other.body["stage"])
            if stage == Asked.OURS:
                start, end = (parse_instant(str(other.body[n])) for n in ("at", "until"))
                of = own.setdefault(int(other.body["generation"]), {})  # its end is written after it, where it had one
                # a clock may have been read otherwise in between
                of[start] = OwnUse(start, max(end, start + timedelta(seconds=1)), other.body.get("over", start in of) is True)
                continue
            for undone in _UNDONE.get(stage, ()):
                staged.pop(undone, None)
                told = told if undone != Asked.WORD else {}
            if stage == Asked.SEEN or (stage == Asked.WORD and other.body.get("consumers")):
                told |= _consumers_in(other.body)
                continue
            staged[stage] = other.body
        elif other.kind == HANDED and other.body.get("credential") == mark.get("name"):
            has.setdefault(int(other.body.get("generation") or 0), []).append(str(other.body["to"]))
        elif other.kind == OPENED and other.body["credential"] == mark.get("name"):
            opened.add((str(other.body["to"]), int(other.body["generation"])))
            if int(other.body["generation"]) > old:
                told[str(other.body["to"])] = Told(True, "it sent a receipt")
    return _Course(staged, own, has, frozenset(opened), told, serves)


def _read(entry: LedgerEntry, all_: list[LedgerEntry], state: History, closed: str) -> Rotation:
    body, mark = entry.body, mark_of(entry.body)
    generations = {g.number: g for g in state.generations.get(mark, ())}
    old, fresh = int(body["old"]), [g for n, g in generations.items() if n >= int(body["generation"])]
    staged, own, has, opened, told, serves = _course(body, mark, all_, old)
    new = fresh[-1] if fresh and not closed else None
    owed = tuple(dict.fromkeys(t for t in has.get(old, ()) if new is None or t not in has.get(new.number, ())))
    holders = [(t, new.number) for t in has.get(new.number, ())] if new is not None and not owed else []
    received = bool(holders) and opened.issuperset(holders)
    bridges = tuple(g for g in state.generations.get(bridge_mark(mark), ()) if g.terms.get(ROTATION) == body[NUMBER])
    until = str(staged.get(Asked.BRIDGE, body)["deadline"])
    return Rotation(
        entry.charter,
        str(body[NUMBER]),
        entry.sequence,
        mark.tenant,
        mark,
        generations[old],
        new,
        parse_instant(str(body["at"])),
        parse_instant(until),
        int(body["quiet_seconds"]),
        str(body.get("because", "")),
        str(body.get("by", "")),
        body.get("exposed") is True,
        body.get("gap") is True or Asked.GAP in staged,
        staged,
        {n: list(w.values()) for n, w in own.items()},
        owed,
        received,
        closed,
        told,
        bridges,
        tuple(fresh[:-1]) if new is not None else (),
        serves,
    )


def _consumers_in(body: Mapping[str, Any]) -> dict[str, Told]:
    """What one entry tells of consumers: with which one each was seen, or whose word it is that they have the new one."""
    how = str(body.get("how") or f"{body.get('who')} says so")
    return {str(name): Told(body.get("new", True) is True, how) for name in body["consumers"]}
