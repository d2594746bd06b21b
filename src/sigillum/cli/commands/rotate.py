"""`sigillum rotate`"""

from __future__ import annotations

import argparse
from datetime import date
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.forms import listing_of
from sigillum.cli.options import answering, charters, common, duration, ours, person, waiting
from sigillum.core.values.errors import Outcome, UsageError, worst

if TYPE_CHECKING:
    from sigillum.workflows.rotating.rotate import RotationWish

EXAMPLE = """examples:
  sigillum rotate wind-ingest                           begin, or go on: it can be interrupted for days
  sigillum rotate wind-ingest --taken 'mira.sol'        somebody says that the new one is in use
  sigillum rotate wind-ingest --taken 'mira.sol' --last-used 2027-03-01   and the old one was used last on that day
  sigillum rotate --status                              where each stands, and what it waits for
  sigillum rotate wind-ingest --exposed                 the old one is known to others: off first, then a new one
  sigillum rotate wind-ingest --pause                   switch the old one off for a while before it ends
  sigillum rotate wind-ingest --back                    somebody misses it: on again
  sigillum rotate wind-ingest --bridge 7d --accepted-by 'mira.sol'   the old key may be used for seven days more
  sigillum rotate wind-ingest --end-old                 end the old one although somebody still uses it"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "rotate",
        parents=[common(tables=True)],
        epilog=EXAMPLE,
        description="Bring in the next generation of a credential without an outage: it is made where no consumer looks, tried "
        "until the tenant takes it for sure, put where consumers read; and only when the new one is used, and the "
        "old one no more, that one ends and is proved dead. Exit code 7 while it waits for time, 6 for somebody.",
    )
    charters(parser)
    parser.add_argument("--credential", default="", metavar="NAME", help="only this one (default: all of the charter)")
    parser.add_argument("--status", action="store_true", help="only say where open rotations stand; changes nothing")
    parser.add_argument("--because", default="", metavar="WHY", help="why; it stands in the ledger")
    parser.add_argument("--taken", type=person, default=None, metavar="WHO", help="who says that consumers use the new one")
    parser.add_argument(
        "--consumer",
        action="append",
        default=[],
        metavar="NAME",
        help="with --taken: that this one uses it (default: that all do)",
    )
    parser.add_argument(
        "--last-used",
        default="",
        metavar="DAY",
        help="with --taken: the day (UTC, 2027-03-01) on which they saw the old one used last",
    )
    stops = parser.add_mutually_exclusive_group()
    stops.add_argument("--end-old", action="store_true", help="end the old one, whether somebody uses it or not")
    stops.add_argument("--pause", action="store_true", help="before the old one ends, switch it off to see who misses it")
    stops.add_argument("--back", action="store_true", help="switch on again what --pause switched off; it ends later")
    stops.add_argument(
        "--bridge", default="", metavar="TIME", help="register the old public key again: it may be used so much longer"
    )
    parser.add_argument("--accepted-by", type=person, default=None, metavar="WHO", help="with --bridge: who accepts that")
    parser.add_argument("--exposed", action="store_true", help="the old one is known to others: it ends first")
    parser.add_argument("--gap", action="store_true", help="where a tenant takes one at a time: the new one ends the old one")
    ours(parser)
    waiting(parser)
    answering(parser)
    parser.add_argument("--yes", action="store_true", help="do not ask before the old one is ended")


def _day(text: str) -> date | None:
    try:
        return date.fromisoformat(text) if text else None
    except ValueError as problem:
        raise UsageError(f"{text!r} is no day", where="--last-used", mend="write it as 2027-03-01") from problem


def _wish(args: argparse.Namespace) -> RotationWish:
    """What is asked for. Raises UsageError."""
    from sigillum.workflows.rotating.rotate import RotationWish

    if args.consumer and not args.taken:
        raise UsageError("the person who confirms it is not specified", where="--consumer", mend="add `--taken WHO`")
    day = _day(args.last_used)
    if day is not None and not args.taken:
        raise UsageError("it is not said who saw it", where="--last-used", mend="write `--taken WHO` beside it")
    if bool(args.bridge) != bool(args.accepted_by):
        raise UsageError("a bridge is accepted by somebody", where="--bridge", mend="write `--bridge 7d --accepted-by WHO`")
    return RotationWish(
        args.credential,
        args.because,
        args.exposed,
        args.gap,
        args.end_old,
        args.taken or "",
        day,
        args.pause,
        args.back,
        duration(args.bridge, "--bridge") if args.bridge else 0,
        args.accepted_by or "",
        tuple(args.consumer),
    )


def run(args: argparse.Namespace, context: Context) -> Outcome:
    context.answered(args)
    from sigillum.cli.views import rotations as view
    from sigillum.workflows.enacting.doubts import said_ours
    from sigillum.workflows.rotating.rotate import chosen, rotate, status, under_way

    context.wait_seconds = duration(args.wait, "--wait") if args.wait else 0
    everywhere = args.status and not (args.charters or args.all)
    found = context.office.charters(under_way(context.office)) if everywhere else context.charters(args)
    if args.credential:
        for charter in found:
            chosen(charter, args.credential)
    if args.status:
        standing = [s for s in status(context.office, found) if not args.credential or s.rotation.name == args.credential]
        rows = [view.standing_json(s) for s in standing]
        context.give(
            "rotations",
            {"rotations": rows},
            lambda: view.standing(standing, context.ident),
            listing=listing_of("rotations", f"{view.DATA} waits old_used_at old_used_from new_used_at", rows),
        )
        return Outcome.SOMEBODY if any(s.late for s in standing) else Outcome.DONE
    gap = [flag for flag in ("end-old", "pause", "exposed", "gap") if getattr(args, flag.replace("-", "_"))]
    if gap and not args.yes and not context.agreed(view.QUESTIONS[gap[-1]]):
        context.say("Nothing was changed.")
        return Outcome.NO
    wish = _wish(args)
    if args.ours:
        said_ours(context.office, found, args.ours)
    done = []
    for rotated in rotate(context.office, found, wish):
        done.append(rotated)
        context.show(view.rotated(rotated, context.ident))
    told = [view.as_json(rotated) for rotated in done]
    context.give("rotate", {"rotations": told}, listing=listing_of("rotations", f"{view.DATA} waits.what waits.do", told))
    return worst([rotated.outcome() for rotated in done])
