"""`sigillum due`"""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.forms import Column, Listing
from sigillum.cli.options import common, duration, moment
from sigillum.core.values.errors import FileError, Outcome

if TYPE_CHECKING:
    from sigillum.core.undertakings.due import Clock, Due

EXAMPLE = """examples:
  sigillum due
  sigillum due --within 365d --calendar due.ics     a calendar that can be imported again and again
  sigillum due --when +80d                          what will have ended by then
  sigillum due --of ada.rusk                        what belongs to somebody who leaves, at every tenant"""
YEAR_2100 = datetime(2100, 1, 1, tzinfo=UTC)


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "due",
        parents=[common("table", tables=True)],
        epilog=EXAMPLE,
        description="What ends, is to be renewed, looked at again, or waits for somebody, in order of time: credentials, "
        "grants, loans, reviews, sealed sheets, requests. It asks no tenant, "
        "but for its time where `clock: tenant` is written. Exit code 1 where something is over, "
        "3 where a charter has mistakes and is left out.",
    )
    parser.add_argument("charters", nargs="*", metavar="CHARTER", help="only these (default: all)")
    parser.add_argument("--within", default="60d", metavar="DURATION", help="what ends so soon (default: 60d)")
    parser.add_argument("--when", metavar="TIME", default="", help="as it will be, if nothing is done: `+80d`, or an instant")
    parser.add_argument(
        "--of", metavar="PERSON", default="", help="what belongs to somebody: charters, and tokens and keys at every tenant"
    )
    parser.add_argument("--calendar", type=Path, metavar="FILE", help="write a calendar (RFC 5545), with an alarm for each")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.core.values.times import format_instant, whole_second
    from sigillum.workflows.stopping.due import calendar, clock_of, concerns, due, of_person, readable, summaries

    at, later = moment(args.when, "--when")
    clock = clock_of(context.office, at, timedelta(seconds=later))
    now = clock("")
    within = timedelta(seconds=min(duration(args.within, "--within"), (YEAR_2100 - now).total_seconds()))
    names = [c.name for c in readable(context.office) if concerns(c, args.of)] if args.of else args.charters
    charters, odd = summaries(context.office, names) if names or not args.of else ([], [])
    for name in odd:
        context.say(f"{name} is left out: its file has mistakes, which `sigillum charter check {name}` tells")
    found = due(context.office, charters, within, clock, only=bool(args.charters or args.of))
    found = sorted([*found, *(of_person(context.office, args.of) if args.of else ())], key=lambda d: d.at)
    if args.calendar is not None:
        try:
            args.calendar.write_bytes(calendar(context.office, found, datetime.now(UTC)))
        except OSError as problem:
            raise FileError(
                f"the calendar cannot be written: {problem.strerror}", where=str(args.calendar), mend="name another file"
            ) from problem
        context.say(f"{args.calendar} holds {len(found)} of them; importing it again changes those that are there.")
    listing = _listing(found, clock, f"Nothing ends within {args.within}.")
    asked = "tenants were asked for what belongs to them" if args.of else "no tenant was asked for more than its time"
    context.say(f"What follows is by the charters and the ledger; {asked}.")
    context.give_list("due", listing, at=format_instant(whole_second(now)), by="ledger and tenants" if args.of else "ledger")
    return Outcome.FILE if odd else Outcome.NO if any(d.state(clock(d.tenant)) == "over" for d in found) else Outcome.DONE


def _listing(found: Sequence[Due], clock: Clock, empty: str) -> Listing[Due]:
    from sigillum.core.values.times import rough_duration, whole_second

    def when(due: Due) -> str:
        now = clock(due.tenant)
        left = rough_duration((due.at - now).total_seconds())
        return f"{left} ago" if due.at <= now else f"in {left}"

    columns: tuple[Column[Due], ...] = (
        Column("at", lambda d: d.at, people=False),
        Column("on", lambda d: whole_second(d.at), head="at", data=False, unbroken=True),
        Column("when", when, head="that is", data=False, unbroken=True),
        Column("state", lambda d: d.state(clock(d.tenant)), unbroken=True),
        Column("kind", lambda d: d.kind, people=False),
        Column("charter", lambda d: d.charter, people=False),
        Column("of", lambda d: f"{d.charter}: {d.what}" if d.charter else d.what, head="what ends, and what then", data=False),
        Column("what", lambda d: d.what, people=False),
        Column("tenant", lambda d: d.tenant, people=False),
        Column("then", lambda d: d.stops, under="of", words="then {}"),
        Column("renew_from", lambda d: d.renew or "", people=False),
    )
    return Listing("due", found, columns, empty)
