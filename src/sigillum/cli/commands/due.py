"""`sigillum due`"""

from __future__ import annotations

import argparse
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import common, duration, formats, instant
from sigillum.core.values.errors import FileError, Outcome

EXAMPLE = """examples:
  sigillum due
  sigillum due --within 365d --calendar due.ics     a calendar that can be imported again and again
  sigillum due --at 2027-03-01T00:00:00Z            what will have ended by then"""
COLUMNS = ("at", "state", "kind", "charter", "what", "tenant", "then", "renew_from")
YEAR_2100 = datetime(2100, 1, 1, tzinfo=UTC)


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "due",
        parents=[common()],
        epilog=EXAMPLE,
        description="What ends, is to be renewed, looked at again, or waits for somebody, in order of time: credentials, "
        "grants, loans, reviews, sealed sheets, requests. It asks no tenant. Exit code 1 where something is over, "
        "3 where a charter has mistakes and is left out.",
    )
    parser.add_argument("charters", nargs="*", metavar="CHARTER", help="only these (default: all)")
    parser.add_argument("--within", default="60d", metavar="DURATION", help="what ends so soon (default: 60d)")
    parser.add_argument("--at", metavar="INSTANT", help="as it will be then, if nothing is done")
    parser.add_argument("--calendar", type=Path, metavar="FILE", help="write a calendar (RFC 5545), with an alarm for each")
    formats(parser, "table", "csv")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views.common import comma_separated, table
    from sigillum.core.values.times import format_instant, rough_duration, whole_second
    from sigillum.workflows.stopping.due import calendar, due, summaries

    at = instant(args.at, "--at") if args.at else None
    now = at or datetime.now(UTC)
    within = timedelta(seconds=min(duration(args.within, "--within"), (YEAR_2100 - now).total_seconds()))
    charters, odd = summaries(context.office, args.charters)
    for name in odd:
        context.say(f"{name} is left out: its file has mistakes, which `sigillum charter check {name}` tells")
    found = due(context.office, charters, within, at, only=bool(args.charters))
    rows = [
        (
            format_instant(d.at),
            d.state(now),
            d.kind,
            d.charter,
            d.what,
            d.tenant,
            d.stops,
            format_instant(d.renew) if d.renew is not None else "",
        )
        for d in found
    ]
    if args.calendar is not None:
        try:
            args.calendar.write_bytes(calendar(context.office, found, datetime.now(UTC)))
        except OSError as problem:
            raise FileError(
                f"the calendar cannot be written: {problem.strerror}", where=str(args.calendar), mend="name another file"
            ) from problem
        context.say(f"{args.calendar} holds {len(found)} of them; importing it again changes those that are there.")
    if args.format == "json":
        context.show_json(
            "due", {"at": format_instant(whole_second(now)), "due": [dict(zip(COLUMNS, r, strict=True)) for r in rows]}
        )
    elif args.format == "csv":
        context.show_text(comma_separated(COLUMNS, rows))
    elif rows:
        shown = []
        for d in found:
            left = rough_duration((d.at - now).total_seconds())
            when = f"{left} ago" if d.at <= now else f"in {left}"
            what = f"{d.charter}: {d.what}" if d.charter else d.what
            shown.append((format_instant(whole_second(d.at)), when, d.state(now), f"{what}\nthen {d.stops}"))
        context.show(table(("at", "that is", "state", "what ends, and what then"), shown, ("at", "that is", "state")))
    else:
        context.say(f"Nothing ends within {args.within}.")
    return Outcome.FILE if odd else Outcome.NO if any(r[1] == "over" for r in rows) else Outcome.DONE
