"""What is due in a workspace, from its charters and its ledger; a tenant is asked for its time at most."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping
from contextlib import suppress
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any

from sigillum import __version__
from sigillum.charters import files
from sigillum.charters.names import FILE
from sigillum.core.charter.charter import Charter
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.books import END, endings
from sigillum.core.records.history import CONNECTED, HANDED, OPENED, RETIRED, USED
from sigillum.core.undertakings.due import REQUESTS as ASKED
from sigillum.core.undertakings.due import (
    Clock,
    Due,
    Summary,
    in_order,
    of_endings,
    of_loans,
    of_reviews,
    of_rotations,
    of_sheets,
    of_suspensions,
    of_unused,
    summary,
)
from sigillum.core.undertakings.loans import LOANS
from sigillum.core.undertakings.requests import REQUESTS
from sigillum.core.undertakings.rotating import ROTATIONS
from sigillum.core.undertakings.suspension import SUSPENSIONS
from sigillum.core.values.errors import FileError, Outcome, RefusedError, SigillumError, SomebodyError, UnreachableError
from sigillum.core.values.times import format_instant, parse_instant
from sigillum.workflows.desk.office import Office

PERSONAL = "of a person"
KEPT = "charters_"  # the name under which summaries are kept; no tenant can be called so
ALARM = timedelta(days=7)  # before what has no time of renewal


def readable(office: Office) -> list[Charter]:
    """All charters whose files have no mistakes."""
    found = list[Charter]()
    for name in sorted(files.names(office.workspace)):
        with suppress(FileError):
            found += office.charters([name])
    return found


def summaries(office: Office, names: list[str]) -> tuple[list[Summary], list[str]]:
    """Of the charters named, or of all that can be read; and the names of those that cannot. What was read of a file is kept
    until that file changes. Raises FileError for a name.
    """
    if names:
        return [summary(c) for c in office.charters(names)], []
    defaults = _stamp(office.workspace.folder / FILE)
    before, found, odd = _before(office, defaults), dict[str, tuple[Any, Summary]](), list[str]()
    known = sorted(files.names(office.workspace).items())
    stamps = {name: _stamp(paths[0]) if len(paths) == 1 else None for name, paths in known}
    changed = [n for n, stamp in stamps.items() if stamp is None or n not in before or before[n][0] != stamp]
    read = dict(zip(changed, office.readable(changed, dict(known)), strict=True))
    for name, stamp in stamps.items():
        fresh = read.get(name)
        if isinstance(fresh, FileError):
            odd.append(name)
        else:
            found[name] = (stamp, summary(fresh)) if fresh is not None else before[name]
    if found != before:
        office.keepings.discover(KEPT, {"defaults": defaults, "charters": {n: _kept(*one) for n, one in found.items()}})
    return [one for _, one in found.values()], odd


def _before(office: Office, defaults: list[int]) -> dict[str, tuple[Any, Summary]]:
    """What was kept by an earlier run, with the stamps of the files; nothing of it where it is not that."""
    kept = office.keepings.discovered(KEPT)
    try:
        return {n: (c["stamp"], _summary_of(n, c)) for n, c in kept["charters"].items()} if kept["defaults"] == defaults else {}
    except (LookupError, TypeError, ValueError, AttributeError):
        return {}


def _kept(stamp: Any, summary: Summary) -> dict[str, Any]:
    return {
        "stamp": stamp,
        "reviews": [[what, day.isoformat()] for what, day in summary.reviews],
        "credentials": {n: [before, list(users)] for n, (before, users) in summary.credentials.items()},
    }


def _stamp(path: Path) -> list[int]:
    """By what a file is known to be the same."""
    about = path.stat()
    return [about.st_mtime_ns, about.st_size, about.st_ino]


def _summary_of(name: str, kept: Any) -> Summary:
    """Raises ValueError, LookupError, TypeError or AttributeError where it is not what we keep."""
    return Summary(
        name,
        tuple((str(w), date.fromisoformat(d)) for w, d in kept["reviews"]),
        {n: (int(before), tuple(map(str, users))) for n, (before, users) in kept["credentials"].items()},
    )


def due(
    office: Office, known: list[Summary], within: timedelta, clock: Clock | None = None, *, only: bool = False
) -> list[Due]:
    """In order of time, by the clock that is given (now, where none is); `only` of these charters. Raises MachineError."""
    clock = clock or clock_of(office, None)
    now = max(map(clock, ("", *office.workspace.file.tenants)))
    longest = max((before for s in known for before, _ in s.credentials.values()), default=0)
    before = format_instant(now + max(within, timedelta(seconds=longest)) + timedelta(seconds=1))
    return in_order(_all(office, {s.name: s for s in known}, clock, before, only=only), clock, within)


def clock_of(office: Office, at: datetime | None, later: timedelta = timedelta(0)) -> Clock:
    """The time at each tenant, so much later; `at`: the same everywhere. One whose clock is to be followed is asked for it;
    where it does not answer, that is said, and this machine's stands for it.
    """
    here, known = at or datetime.now(UTC), dict[str, datetime]()
    followed = {n for n, t in office.workspace.file.tenants.items() if t.clock == "tenant" and at is None}

    def clock(tenant: str) -> datetime:
        if tenant not in followed:
            return here + later
        if tenant not in known:
            try:
                known[tenant] = office.tenants.now(tenant)
            except (UnreachableError, RefusedError, FileError, SomebodyError) as problem:
                office.settings.say(f"{tenant} is counted by this machine's clock: its own cannot be read ({problem.what})")
                known[tenant] = here
        return known[tenant] + later

    return clock


def _all(office: Office, known: Mapping[str, Summary], clock: Clock, before: str, *, only: bool) -> Iterator[Due]:
    names = office.books.names() if office.books.there else {}
    uids = {name: uid for uid, name in names.items()}

    def name(uid: str) -> str:
        return names.get(uid, "")

    rows = office.books.ledger().rows(END, before) if office.books.there else {}
    mine = (e for e in endings(rows, before) if e.uid in names and (not only or names[e.uid] in known))
    yield from of_endings(mine, name, known)
    for charter in known.values():
        yield from of_reviews(charter, uids.get(charter.name, ""))
    yield from of_loans((loan, clock(loan.tenant)) for loan in office.books.begun(LOANS))
    told = (
        [e for kind in (HANDED, OPENED, USED, CONNECTED, RETIRED) for e in office.books.ledger().entries(kind=kind)]
        if office.books.there
        else []
    )
    for entry in told:
        if entry.kind == HANDED:
            yield from of_sheets([entry], names.get(entry.charter, entry.charter), clock(""))
    over = {e.charter for e in told if e.kind == RETIRED}
    open_ = [e for e in told if e.charter in names and e.charter not in over]
    yield from of_unused(sorted(open_, key=lambda e: e.sequence), name)
    yield from of_suspensions(office.books.begun(SUSPENSIONS), name)
    yield from of_rotations(office.books.begun(ROTATIONS), name)
    for sent in office.books.begun(REQUESTS):
        to = sent.request.to or "whoever has the power"
        what = f"request {sent.number} to {to}: {sent.request.about}"
        yield Due(
            parse_instant(sent.asked_at),
            ASKED,
            sent.request.charter,
            what,
            sent.tenant,
            "what needs it waits",
            None,
            f"{sent.uid} request {sent.number}",
        )


def names_of(person: str) -> list[str]:
    """By which names somebody may be known: an address, and what stands before its @."""
    return list(dict.fromkeys((person, person.partition("@")[0])))


def concerns(charter: Charter, person: str) -> bool:
    """Does a charter name somebody as owner or deputy?"""
    return bool(set(names_of(person)) & {n for who in (charter.owner, charter.deputy) if who for n in names_of(who)})


def of_person(office: Office, person: str) -> Iterator[Due]:
    """What belongs to somebody who may leave: tokens and keys of accounts of that name, asked of every tenant; where one cannot
    be asked, that is said. What has no end is due at once.
    """
    for name in office.workspace.file.tenants:
        try:
            tenant = office.tenants.reach(name)
            if tenant.profile.carried(CREDENTIAL) is None or tenant.profile.carried(ACCOUNT) is None:
                continue
            queries: list[Query[Any]] = [Query(ACCOUNT, "name", n) for n in names_of(person)]
            facts = tenant.facts(queries)
            for account in {r.id: r for f in facts.values() for r in f.records}.values():
                held: Query[Any] = Query(CREDENTIAL, "principal", account.id)
                found = tenant.facts([held])[held]
                if not found.known:
                    office.settings.say(f"the credentials of {person} at {name} are not shown: {found.unknown}")
                yield from (_belongs(name, person, r, office.tenants.now(name)) for r in found.records)
            dark = next((f.unknown for f in facts.values() if not f.known), "")
            if dark:
                office.settings.say(f"whether {person} has an account at {name} is not shown: {dark}")
        except SigillumError as problem:
            if problem.outcome in (Outcome.MACHINE, Outcome.INTERRUPTED):
                raise
            office.settings.say(f"{name} was not asked: {problem.what}")


def _belongs(tenant: str, person: str, record: Record[Any], now: datetime) -> Due:
    body = record.body
    what = f"the {body.type or 'credential'} {body.name or record.id} of {person}"
    ends = "" if body.until is not None else ", which has no end,"
    then = "whatever runs with it stops when it ends, or when the account goes"
    return Due(body.until or now, PERSONAL, "", f"{what}{ends}", tenant, then, now, f"{tenant} {record.id}")


def calendar(office: Office, all_: list[Due], now: datetime) -> bytes:
    """As a calendar (RFC 5545): the same thing keeps its UID, so that another import changes it; each has an alarm."""
    from icalendar import Alarm, Calendar, Event

    made = Calendar()
    made.add("prodid", f"-//Sigillum//{__version__}//EN")
    made.add("version", "2.0")
    for item in all_:
        event, alarm = Event(), Alarm()
        mark = hashlib.sha256(f"{office.workspace.file.workspace} {item.key}".encode()).hexdigest()[:32]
        event.add("uid", f"{mark}@{office.workspace.file.workspace}")
        event.add("dtstamp", now.replace(microsecond=0))
        event.add("dtstart", item.at.replace(microsecond=0))
        event.add("summary", f"{item.charter}: {item.what}" if item.charter else item.what)
        event.add("description", f"{item.kind}{f' in {item.tenant}' if item.tenant else ''}. Then: {item.stops}.")
        alarm.add("action", "DISPLAY")
        alarm.add("description", f"{item.kind} of {item.charter or 'a loan'} ends")
        alarm.add("trigger", (item.renew - item.at) if item.renew is not None else -ALARM)
        event.add_component(alarm)
        made.add_component(event)
    return bytes(made.to_ical())
