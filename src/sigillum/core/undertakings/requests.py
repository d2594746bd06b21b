"""Requests that wait for somebody: what the ledger says of one, and when it has ended."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

from sigillum.core.records.chain import LedgerEntry
from sigillum.core.records.history import CLOSED, NUMBER, REQUESTED, UNDERTAKING
from sigillum.core.records.requests import TELL, Request, fulfilled, queries
from sigillum.core.values.marks import Mark, mark_of

from .undertaking import Look, Next, Undertaking


@dataclass(frozen=True, slots=True)
class SentRequest:
    """One request as it was written down, in the stream of its charter. `ended`: how it ended, if it has."""

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
    ended: str = ""

    @property
    def key(self) -> str:
        return str(self.number)


def read(entries: Iterable[LedgerEntry], uid: str) -> list[SentRequest]:
    """The requests of a stream."""
    asked, ended = list[LedgerEntry](), dict[str, str]()
    for entry in entries:
        if entry.kind == REQUESTED:
            asked.append(entry)
        elif entry.kind == CLOSED and entry.body[UNDERTAKING] == REQUESTS.name:
            ended[str(entry.body[NUMBER])] = str(entry.body["how"])
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
            Request(**b["request"]),
            str(b["digest"]),
            ended.get(str(b[NUMBER]), ""),
        )
        for e in asked
        for b in [e.body]
    ]


def next_(sent: SentRequest, seen: Look, now: datetime) -> Next:
    """It waits as long as its charter asks for it; then it was done, as far as can be seen, or is not wanted any more."""
    if sent.ended or (sent.mark, sent.generation) in seen.wanted:
        return Next()
    if sent.request.do == TELL:
        return Next(closed="not asked for any more")
    facts = [seen.ask(q) for q in queries(sent.request)]
    if all(f.known for f in facts) and fulfilled(sent.request, tuple(r for f in facts for r in f.records)):
        return Next(closed="seen to be done")
    return Next(closed="not asked for any more")


REQUESTS = Undertaking("request", REQUESTED, read, next_)
