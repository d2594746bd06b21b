"""What is due in a workspace, from its charters and its ledger; no tenant is asked."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

from sigillum import __version__
from sigillum.charters import files
from sigillum.core.charter.charter import Charter
from sigillum.core.records.history import HANDED
from sigillum.core.undertakings.due import REQUESTS as ASKED
from sigillum.core.undertakings.due import Due, in_order, of_charter, of_loans, of_sheets
from sigillum.core.undertakings.loans import LOANS
from sigillum.core.undertakings.requests import REQUESTS
from sigillum.core.values.errors import FileError
from sigillum.core.values.times import parse_instant

from .office import Office

ALARM = timedelta(days=7)  # before what has no time of renewal


def readable(office: Office, names: list[str]) -> tuple[list[Charter], list[str]]:
    """The charters named, or all that can be read, and the names of those that cannot. Raises FileError for a name."""
    if names:
        return office.charters(names), []
    found, odd = list[Charter](), list[str]()
    for name in sorted(files.names(office.workspace)):
        try:
            found += office.charters([name])
        except FileError:
            odd.append(name)
    return found, odd


def due(office: Office, charters: list[Charter], within: timedelta, at: datetime | None = None) -> list[Due]:
    """In order of time, as it will be `at` (now, where none is named). Raises MachineError."""
    now = at if at is not None else datetime.now(UTC)
    return in_order(_all(office, charters, now), now, within)


def _all(office: Office, charters: list[Charter], now: datetime) -> Iterator[Due]:
    for charter in charters:
        uid, history = office.books.history(charter.name)
        yield from of_charter(charter, history, uid)
    yield from of_loans((loan, now) for loan in office.books.begun(LOANS))
    names = office.books.names() if office.books.there else {}
    for entry in office.books.ledger().entries(kind=HANDED) if office.books.there else ():
        yield from of_sheets([entry], names.get(entry.charter, entry.charter), now)
    for sent in office.books.begun(REQUESTS):
        to = sent.request.to or "whoever has the power"
        what = f"request {sent.number} to {to}: {sent.request.about}"
        yield Due(parse_instant(sent.asked_at), ASKED, sent.request.charter, what, sent.tenant,
                  "what needs it waits", None, f"{sent.uid} request {sent.number}")


def calendar(office: Office, all_: list[Due], now: datetime) -> bytes:
    """As a calendar (RFC 5545): the same thing keeps its UID, so that another import changes it; each has an alarm."""
    from icalendar import Alarm, Calendar, Event
    made = Calendar()
    made.add("prodid", f"-//Sigillum//{__version__}//EN")
    made.add("version", "2.0")
    for one in all_:
        event, alarm = Event(), Alarm()
        mark = hashlib.sha256(f"{office.workspace.file.workspace} {one.key}".encode()).hexdigest()[:32]
        event.add("uid", f"{mark}@{office.workspace.file.workspace}")
        event.add("dtstamp", now.replace(microsecond=0))
        event.add("dtstart", one.at.replace(microsecond=0))
        event.add("summary", f"{one.charter}: {one.what}" if one.charter else one.what)
        event.add("description", f"{one.kind}{f' in {one.tenant}' if one.tenant else ''}. Then: {one.stops}.")
        alarm.add("action", "DISPLAY")
        alarm.add("description", f"{one.kind} of {one.charter or 'a loan'} ends")
        alarm.add("trigger", (one.renew - one.at) if one.renew is not None else -ALARM)
        event.add_component(alarm)
        made.add_component(event)
    return bytes(made.to_ical())
