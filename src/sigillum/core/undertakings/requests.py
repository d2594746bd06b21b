"""Requests that wait for somebody: what the ledger says of one, in which state it is, and when it has ended."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum

from sigillum.core.records.chain import LedgerEntry
from sigillum.core.records.history import (
    ADOPTED,
    ASKED_AGAIN,
    CLOSED,
    EXPIRED,
    NUMBER,
    REQUESTED,
    UNDERTAKING,
    Generation,
    State,
)
from sigillum.core.records.requests import ID, TELL, Request, fulfilled, queries
from sigillum.core.values.marks import Mark, StepId, mark_of

from .undertaking import Look, Next, Undertaking


class RequestState(StrEnum):
    """Where a request is, as both sides know it once they were told.

    answered: done, or seen to be done · refused: by a signed answer, with a reason · withdrawn: by whoever asked ·
    replaced: another one is asked in its place · expired: nobody answered it in time.
    """

    OPEN = "open"
    ANSWERED = "answered"
    REFUSED = "refused"
    WITHDRAWN = "withdrawn"
    REPLACED = "replaced"
    EXPIRED = EXPIRED


HELD = "held"  # in the entry that closes one: the same wish is not asked once more by itself


@dataclass(frozen=True, slots=True)
class SentRequest:
    """One request as it was written down, in the stream of its charter. `ended`: how it ended, in words, if it has."""

    uid: str
    began: int
    tenant: str
    number: int
    file: str
    asked_at: str
    mark: Mark
    generation: int
    request: Request
    digest: str
    state: RequestState = RequestState.OPEN
    ended: str = ""
    held: bool = False  # by a person's word or answer: the same is not asked once more by itself
    again: bool = False  # and by another word it is, after all
    verb: str = ""  # of the step for which it is asked: one thing may be made and changed, and be asked for both
    results: Mapping[int, Mapping[str, str]] = field(default_factory=dict)  # what the requests of this charter made, by number

    @property
    def open(self) -> bool:
        return self.state is RequestState.OPEN

    @property
    def step(self) -> StepId:
        """The step for which it is asked."""
        return StepId(self.mark, self.generation, self.verb)

    @property
    def known(self) -> Request:
        """With the results of other requests that are known by now."""
        return self.request.given(self.results)

    def stays(self, generation: int) -> bool:
        """Is the same wish not asked once more, though it is wanted? What was answered and has ended may be wanted again."""
        return self.held and not self.again and (self.state is not RequestState.ANSWERED or self.generation == generation)

    @property
    def key(self) -> str:
        return str(self.number)


def read(entries: Iterable[LedgerEntry], uid: str) -> list[SentRequest]:
    """The requests of a stream."""
    asked, ended, again = list[LedgerEntry](), dict[str, tuple[RequestState, str, bool]](), set[str]()
    results = dict[int, dict[str, str]]()
    for entry in entries:
        if entry.kind == REQUESTED:
            asked.append(entry)
        elif entry.kind == ASKED_AGAIN:
            again.add(str(entry.body["request"]))
        elif entry.kind == ADOPTED and "request" in entry.body:
            results[int(entry.body["request"])] = {ID: str(entry.body["id"]), **entry.body.get("gives", {})}
        elif entry.kind == CLOSED and entry.body[UNDERTAKING] == REQUESTS.name:
            state = RequestState(str(entry.body.get("state") or RequestState.ANSWERED))
            ended[str(entry.body[NUMBER])] = (state, str(entry.body["how"]), HELD in entry.body)
    return [
        SentRequest(
            uid,
            e.sequence,
            str(b["tenant"]),
            int(b[NUMBER]),
            str(b["file"]),
            str(b["asked_at"]),
            mark_of(b),
            int(b["generation"]),
            Request(**{**b["request"], **{n: tuple(b["request"].get(n, ())) for n in ("replaces", "after")}}),
            str(b["digest"]),
            *ended.get(str(b[NUMBER]), (RequestState.OPEN, "", False)),
            again=str(b[NUMBER]) in again,
            verb=str(b.get("verb") or b["request"]["do"]),
            results=results,
        )
        for e in asked
        for b in [e.body]
    ]


def next_(sent: SentRequest, seen: Look, now: datetime) -> Next:
    """It waits as long as its charter asks for it; then it was done, as far as can be seen, or is not wanted any more."""
    if not sent.open:
        return Next()
    wanted = sent.step in seen.wanted
    if wanted and sent.request.over(now):
        return Next(closed=f"nobody answered it by {sent.request.expires}", code=RequestState.EXPIRED)
    if wanted:
        return Next()
    known = sent.known
    facts = [seen.ask(q) for q in queries(known)] if known.do != TELL and not known.needs else []
    if facts and all(f.known for f in facts) and fulfilled(known, tuple(r for f in facts for r in f.records)):
        return Next(closed="seen to be done", code=RequestState.ANSWERED)
    return Next(closed="not asked for any more", code=RequestState.WITHDRAWN)


def place_of(sent: SentRequest, all_: Iterable[SentRequest], generations: Sequence[Generation], identity: str) -> int | None:
    """The generation as which something is ours that was made for a request; None where it is known already.

    What the newest request of that generation brought is that generation. What comes for an older one, or beside what is
    known, stands before all others: if it is not just what is wanted, it is a leftover, and goes.
    """
    if any(g.id == identity and g.state is State.MADE for g in generations):
        return None
    newest = max((s.number for s in all_ if s.step == sent.step), default=sent.number)
    taken = any(g.number == sent.generation and g.state is not State.OPEN for g in generations)
    if sent.number == newest and not taken:
        return sent.generation
    return min([g.number for g in generations] + [sent.generation]) - 1


REQUESTS = Undertaking("request", REQUESTED, read, next_)
