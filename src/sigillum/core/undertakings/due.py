"""What is due: everything that ends, is to be renewed, or waits for somebody, in order of time."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import UTC, datetime, time, timedelta
from typing import NamedTuple

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import reviews
from sigillum.core.facets.registry import words
from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.chain import Entry
from sigillum.core.records.history import HANDED, Generation, History, State
from sigillum.core.values.times import parse_instant

from .loans import OVER, Loan, Stage

CREDENTIALS, GRANTS, LOANS, REVIEWS, SHEETS, REQUESTS = "credential", "grant", "loan", "review", "sealed sheet", "request"


class Due(NamedTuple):
    """One of them: when it ends or should be looked at, from when it can be renewed, and what stops for whom."""

    at: datetime
    kind: str
    charter: str
    what: str
    tenant: str = ""
    stops: str = ""
    renew: datetime | None = None
    key: str = ""  # stays the same as long as it is the same thing, whatever its end

    def state(self, now: datetime) -> str:
        """over: its end has come; due: it can be renewed by now, or somebody is waited for; else later."""
        if self.at <= now:
            return "due" if self.kind == REQUESTS else "over"
        return "due" if self.renew is not None and self.renew <= now else "later"


def of_charter(charter: Charter, history: History, uid: str) -> Iterator[Due]:
    """Its credentials, its grants with an end, and the days of its reviews."""
    wants = {w.name: w for w in charter.credentials}
    for mark, all_ in history.generations.items():
        newest = all_[-1]
        until = _until(newest)
        if until is None or newest.state is not State.MADE:
            continue
        key = f"{uid} {mark.facet} {mark.tenant} {' '.join(v for _, v in mark.key)}"
        if newest.kind == CREDENTIAL.name:
            want = wants.get(mark.get("name"))
            users = ", ".join(want.consumers) if want is not None else ""
            yield Due(until, CREDENTIALS, charter.name, words(mark), mark.tenant, f"{charter.name} cannot sign in with it"
                      + (f", and these go without: {users}" if users else ""),
                      until - timedelta(seconds=want.renew_before_seconds) if want is not None else None, key)
        elif newest.kind == GRANT.name:
            loses = f"{charter.name} loses it, as it was meant"
            yield Due(until, GRANTS, charter.name, words(mark), mark.tenant, loses, None, key)
    for what, day in reviews(charter):
        yield Due(datetime.combine(day, time(), UTC), REVIEWS, charter.name, f"{what} is to be looked at again",
                  stops="nobody answers for it any more" if what == "the charter" else "the risk is accepted by nobody",
                  key=f"{uid or charter.name} review {what}")


def _until(generation: Generation) -> datetime | None:
    said = str(generation.terms.get("until") or "")
    return parse_instant(said) if said else None


def of_loans(loans: Iterable[tuple[Loan, datetime]]) -> Iterator[Due]:
    """Those that are not over, each with its tenant's time."""
    for loan, now in loans:
        stage = loan.stage(now)
        if stage not in OVER:
            then = "it has ended, and still stands until it is swept" if stage is Stage.ENDED else "it ends by itself"
            yield Due(loan.until, LOANS, "", loan.about, loan.tenant, then, None, loan.uid)


def of_sheets(entries: Iterable[Entry], name: str, now: datetime) -> Iterator[Due]:
    """Sealed sheets that can still be opened."""
    for entry in entries:
        ends = str(entry.body.get("ends") or "")
        if entry.kind == HANDED and ends and parse_instant(ends) > now:
            what = f"the sheet for {entry.body['to']} ({', '.join(entry.body['values'])})"
            yield Due(parse_instant(ends), SHEETS, name, what, stops="it can be opened no more",
                      key=f"{entry.charter} sheet {entry.body.get('sealed', entry.sequence)}")


def in_order(all_: Iterable[Due], now: datetime, within: timedelta) -> list[Due]:
    """What ends within that time, or is over, or due already; the earliest first."""
    chosen = [d for d in all_ if d.at <= now + within or d.state(now) != "later"]
    return sorted(chosen, key=lambda d: (d.at, d.kind, d.charter, d.what))
