"""Suspensions: an account, service principal or credential is off for a while, and on again if nobody else was at it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

from sigillum.core.kinds.changes import Change
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.registry import KINDS
from sigillum.core.records.chain import LedgerEntry
from sigillum.core.records.folding import fold
from sigillum.core.records.history import (
    CLOSED,
    NUMBER,
    PROLONGED,
    REINSTATED,
    SUSPENDED,
    SUSPENSION,
    UNDERTAKING,
    Generation,
)
from sigillum.core.records.steps import Step, StepKind
from sigillum.core.values.marks import Mark, StepId, mark_of
from sigillum.core.values.times import parse_instant

from .undertaking import Look, Next, Undertaking


class Closed(StrEnum):
    """How a suspension ended."""

    ON_AGAIN = "on-again"
    WAS_ON = "switched-on-elsewhere"
    STAYS_OFF = "stays-off"
    UNSURE = "unsure"  # off, and whether by us is not known: it stays off, too
    GONE = "gone"


ON_AGAIN, PERHAPS = "on-although-suspended", "perhaps-others"
LEFT_OFF = frozenset((Closed.STAYS_OFF, Closed.UNSURE))  # over, and not on again


@dataclass(frozen=True, slots=True)
class Suspension:
    """One suspension as its entries say. `found_off`: it was off before us, so it stays off; `asked`: our "off" was begun;
    `sent`: it was answered. Where it was asked for once more since it was on again, all of this counts from then.
    """

    uid: str
    key: str
    began: int
    tenant: str
    mark: Mark
    number: int
    thing: str
    id: str
    name: str
    because: str
    by: str
    at: datetime
    until: datetime | None
    found_off: bool
    asked: bool = False
    sent: bool = False
    put_on: bool = False  # our "on" after it was answered
    wanted_back: bool = False
    closed: str = ""
    left: tuple[tuple[str, str], ...] = ()
    left_at: str = ""
    agreed: bool = False  # it comes back at its time, if nothing shows that somebody else was at it
    forced: bool = False  # a person wants it on, whoever was at it
    said_ours: bool = False  # a person says that nobody else was at it

    @property
    def about(self) -> str:
        """What it is, in words."""
        return f"{self.thing} {self.name}"

    @property
    def unsure(self) -> bool:
        """Was our "off" sent, and its answer lost?"""
        return self.asked and not self.sent and not self.found_off

    def back(self, now: datetime) -> bool:
        """Is it to be switched on again: wanted by somebody, or its time is over?"""
        return self.wanted_back or (self.until is not None and now >= self.until)


def read(entries: Iterable[LedgerEntry], uid: str) -> list[Suspension]:
    """The suspensions of a stream."""
    all_ = list(entries)
    state = fold(all_, uid)
    closed = {str(e.body[NUMBER]): str(e.body["how"]) for e in all_ if e.kind == CLOSED and e.body[UNDERTAKING] == SUSPENSION}
    back = {str(e.body["of"]): e.body.get("switch_on") is True for e in all_ if e.kind == REINSTATED}

    def generation(entry: LedgerEntry) -> Generation | None:
        all_of = state.generations.get(mark_of(entry.body), ())
        return next((g for g in all_of if g.number == int(entry.body["generation"])), None)

    more: dict[str, list[LedgerEntry]] = {}
    for entry in all_:
        if entry.kind == PROLONGED:
            more.setdefault(str(entry.body["of"]), []).append(entry)
    return [_read(e, more.get(str(e.body[NUMBER]), []), generation(e), closed, back) for e in all_ if e.kind == SUSPENDED]


def _read(
    entry: LedgerEntry, more: list[LedgerEntry], of: Generation | None, closed: dict[str, str], back: dict[str, bool]
) -> Suspension:
    body, key = entry.body, str(entry.body[NUMBER])
    newest, anew = more[-1].body if more else body, [e.sequence for e in more if e.body["on"]]
    since = max([entry.sequence, *anew])
    sent, left = of is not None and of.off_in > since, of.left if of is not None else {}
    asked = of is not None and of.off_asked_in > since
    on = of is not None and sent and of.on_in > of.off_in
    until = str(newest.get("until") or "")
    return Suspension(
        entry.charter,
        key,
        entry.sequence,
        str(body["tenant"]),
        mark_of(body),
        int(body["generation"]),
        str(body["thing"]),
        str(body["id"]),
        str(body["name"]),
        "; ".join(dict.fromkeys(str(e.body["because"]) for e in (entry, *more))),
        str(body["by"]),
        parse_instant(str(body["at"])),
        parse_instant(until) if until else None,
        body["found_off"] is True and not anew,
        asked,
        sent,
        on,
        key in back,
        closed.get(key, ""),
        tuple(sorted((str(n), str(v)) for n, v in left.items())),
        of.left_at if of is not None else "",
        any(e.body.get("back") is True for e in (entry, *more)),
        back.get(key, False),
        of is not None and of.said_ours and of.said_in > since,
    )


def next_(suspension: Suspension, seen: Look, now: datetime) -> Next:
    """What follows for a suspension."""
    if suspension.closed:
        return Next()
    kind = KINDS[suspension.thing]
    fact = seen.ask(Query(kind, "id", suspension.id))
    if not fact.known:
        return Next(waits=f"the {suspension.about} cannot be looked up: {fact.unknown}")
    record = fact.first
    if record is None:
        return Next(closed=Closed.GONE)
    arriving = bool(suspension.left_at) and now < parse_instant(suspension.left_at) + timedelta(seconds=seen.arrival_seconds)
    if not suspension.back(now):
        if record.value("active") is not True or (suspension.sent and arriving):
            return Next()
        if suspension.found_off or suspension.sent:
            return Next(
                waits=f"the {suspension.about} is on although it is suspended: somebody switched it on again", code=ON_AGAIN
            )
        return Next((_switch(suspension, record, on=False),))
    if suspension.put_on and (record.value("active") is True or arriving):
        return Next(closed=Closed.ON_AGAIN)
    if record.value("active") is True:
        if arriving and suspension.sent:
            return Next(
                waits=f"the {suspension.about} was switched off a moment ago, and look-ups do not show it yet", early=True
            )
        return Next(closed=Closed.WAS_ON)
    if suspension.forced or suspension.said_ours:
        return Next((_switch(suspension, record, on=True),))
    if suspension.unsure:
        return Next(closed=Closed.UNSURE)
    if suspension.found_off or not suspension.sent:
        return Next(closed=Closed.STAYS_OFF)
    if not record.state and not suspension.agreed:
        unknown = f"whether somebody else switched the {suspension.about} off meanwhile cannot be known"
        return Next(waits=f"{unknown}: {suspension.tenant} shows no versions", code=PERHAPS)
    if record.state and not untouched(suspension, record):
        return Next(closed=Closed.STAYS_OFF)
    return Next((_switch(suspension, record, on=True),))


def untouched(suspension: Suspension, record: Record[object]) -> bool:
    """Is it as our "off" left it? Where a tenant shows no versions that cannot be known: it is perhaps."""
    return bool(record.state) and dict(suspension.left) == record.state


def _switch(suspension: Suspension, record: Record[object], *, on: bool) -> Step:
    why = suspension.because if not on else "somebody wants it back" if suspension.wanted_back else "its time is over"
    return Step(
        StepId(suspension.mark, suspension.number, "reinstate" if on else "suspend"),
        StepKind.CHANGE,
        f"{suspension.about}: switch it {'on again' if on else 'off'}",
        Change(record.kind, record.id, {"active": on}, record.version),
        power=record.kind.power,
        why=why,
        before={"active": not on},
        after={"active": on},
    )


SUSPENSIONS = Undertaking(SUSPENSION, SUSPENDED, read, next_)
