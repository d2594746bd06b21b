"""What is due: everything that ends, is to be renewed, or waits for somebody, in order of time."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import UTC, date, datetime, time, timedelta
from functools import cache
from types import MappingProxyType
from typing import NamedTuple

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import reviews
from sigillum.core.facets.registry import words
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.books import Ending
from sigillum.core.records.chain import LedgerEntry
from sigillum.core.records.history import CONNECTED, HANDED, OPENED, USED
from sigillum.core.values.marks import Mark
from sigillum.core.values.times import parse_instant

from .loans import OVER, Loan, Stage
from .rotation import Rotation
from .suspension import Suspension

CREDENTIALS, GRANTS, LOANS, REVIEWS, SHEETS, REQUESTS = "credential", "grant", "loan", "review", "sealed sheet", "request"
SUSPENDED, ROTATING = "suspension", "rotation"
UNUSED = "handed over"
WAITING = (REQUESTS, SUSPENDED, UNUSED)  # what somebody is waited for, from its beginning on


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
            return "due" if self.kind in WAITING else "over"
        return "due" if self.renew is not None and self.renew <= now else "later"


class Summary(NamedTuple):
    """What of a charter matters here: its reviews; of a credential how long before its end it is renewed, and who uses it."""

    name: str
    reviews: tuple[tuple[str, date], ...] = ()
    credentials: Mapping[str, tuple[int, tuple[str, ...]]] = MappingProxyType({})


def summary(charter: Charter) -> Summary:
    return Summary(
        charter.name, tuple(reviews(charter)), {w.name: (w.renew_before_seconds, w.consumers) for w in charter.credentials}
    )


def of_endings(all_: Iterable[Ending], name: Callable[[str], str], known: Mapping[str, Summary]) -> Iterator[Due]:
    """Credentials and grants with an end: of each the newest generation. `name`: of a stream's charter."""
    about_ = cache(words)  # the same names come again and again
    newest = dict[tuple[str, Mark], Ending]()
    for ending in all_:
        if ending.generation >= newest.get((ending.uid, ending.mark), ending).generation:
            newest[ending.uid, ending.mark] = ending
    for (uid, mark), ending in newest.items():
        until, charter = parse_instant(ending.until), name(uid)
        key = f"{uid} {mark.facet} {mark.tenant} {' '.join(v for _, v in mark.key)}"
        if ending.thing == CREDENTIAL.name:
            about = known[charter].credentials.get(mark.get("name")) if charter in known else None
            users = ", ".join(about[1]) if about is not None else ""
            yield Due(
                until,
                CREDENTIALS,
                charter,
                about_(mark),
                mark.tenant,
                f"{charter} cannot sign in with it" + (f", and these go without: {users}" if users else ""),
                until - timedelta(seconds=about[0]) if about is not None else None,
                key,
            )
        elif charter:
            yield Due(until, GRANTS, charter, about_(mark), mark.tenant, f"{charter} loses it, as it was meant", None, key)


def of_reviews(of: Summary, uid: str) -> Iterator[Due]:
    """The days on which something of a charter is to be looked at again."""
    for what, day in of.reviews:
        yield Due(
            datetime.combine(day, time(), UTC),
            REVIEWS,
            of.name,
            f"{what} is to be looked at again",
            stops="nobody answers for it any more" if what == "the charter" else "the risk is accepted by nobody",
            key=f"{uid or of.name} review {what}",
        )


def of_loans(loans: Iterable[tuple[Loan, datetime]]) -> Iterator[Due]:
    """Those that are not over, each with its tenant's time."""
    for loan, now in loans:
        stage = loan.stage(now)
        if stage not in OVER:
            then = (
                "it has ended, and still stands until it is swept"
                if stage is Stage.ENDED
                else "it ends by itself"
                if loan.by_itself
                else "it stands on until it is swept"
            )
            yield Due(loan.until, LOANS, "", loan.about, loan.tenant, then, None, loan.uid)


def of_suspensions(all_: Iterable[Suspension], name: Callable[[str], str]) -> Iterator[Due]:
    """Those that are open: when each comes back, or since when somebody is to bring it back. `name`: of a stream's charter."""
    for suspension in all_:
        back = (
            "it is switched on again by itself, if nobody else stopped it"
            if suspension.until is not None
            else "it stays off until somebody reinstates it"
        )
        yield Due(
            suspension.until or suspension.at,
            SUSPENDED,
            name(suspension.uid),
            f"the {suspension.about} is suspended: {suspension.because}",
            suspension.tenant,
            back,
            None,
            suspension.key,
        )


def of_rotations(all_: Iterable[Rotation], name: Callable[[str], str]) -> Iterator[Due]:
    """Those that are under way, by their deadlines."""
    for rotation in all_:
        yield Due(
            rotation.deadline,
            ROTATING,
            name(rotation.uid),
            f"{rotation.name} is being rotated",
            rotation.tenant,
            "somebody has to say what becomes of the old one, if it is still in use",
            None,
            rotation.key,
        )


def of_sheets(entries: Iterable[LedgerEntry], name: str, now: datetime) -> Iterator[Due]:
    """Sealed sheets that can still be opened."""
    for entry in entries:
        ends = str(entry.body.get("ends") or "")
        if entry.kind == HANDED and ends and parse_instant(ends) > now:
            what = f"the sheet for {entry.body['to']} ({', '.join(entry.body['values'])})"
            yield Due(
                parse_instant(ends),
                SHEETS,
                name,
                what,
                stops="it can be opened no more",
                key=f"{entry.charter} sheet {entry.body.get('sealed', entry.sequence)}",
            )


def of_unused(entries: Iterable[LedgerEntry], name: Callable[[str], str]) -> Iterator[Due]:
    """What was sealed to somebody, and of which nobody knows that it was opened, is used or connected."""
    known, given = set[tuple[str, object, object]](), list[LedgerEntry]()
    for entry in entries:
        body = entry.body
        if entry.kind in (USED, OPENED):
            known.add((entry.charter, body["credential"], body["generation"]))
        elif entry.kind == CONNECTED:
            known |= {(e.charter, e.body["credential"], e.body["generation"]) for e in given if e.charter == entry.charter}
        elif body.get("how") == "sealed" and body.get("credential"):
            given.append(entry)
    last = {(e.charter, e.body["credential"]): e for e in given}  # of each credential the newest
    for (uid, credential), entry in last.items():
        if (uid, credential, entry.body["generation"]) not in known:
            what = f"{credential} was handed over to {entry.body['to']}, and nobody knows that it arrived"
            at, key = parse_instant(str(entry.body["at"])), f"{uid} unused {credential}"
            yield Due(at, UNUSED, name(uid), what, stops="ask them: it may never have arrived", key=key)


Clock = Callable[[str], datetime]  # of a tenant, by its name; of none (""), this machine's


def in_order(all_: Iterable[Due], clock: Clock, within: timedelta) -> list[Due]:
    """What ends within that time, or is over, or due already, each by its own tenant's clock; the earliest first."""
    chosen = [d for d in all_ if d.at <= clock(d.tenant) + within or d.state(clock(d.tenant)) != "later"]
    return sorted(chosen, key=lambda d: (d.at, d.kind, d.charter, d.what))
