"""`sigillum suspend`"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.options import answering, charters, common, duration, instant
from sigillum.core.values.errors import Outcome, UsageError, worst

if TYPE_CHECKING:
    from sigillum.workflows.stopping.suspend import Found

EXAMPLE = """examples:
  sigillum suspend wind-ingest --because 'a laptop was stolen'
  sigillum suspend wind-ingest --because 'mast 4 is being moved' --for 8h      comes back by `sigillum sweep`
  sigillum suspend --key found.pem --because 'it lay in a ticket'             in every tenant that knows it"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "suspend",
        parents=[common()],
        epilog=EXAMPLE,
        description="Switch an identity off in every tenant where it is, or a key wherever it is registered, and try each way "
        "in before and after. With an end it comes back by `sigillum sweep`; without, by `sigillum reinstate`. "
        "What was off before stays off afterwards.",
    )
    charters(parser)
    parser.add_argument(
        "--key",
        default="",
        metavar="FILE",
        help="instead of charters: a key's file, or a thumbprint (of "
        "RFC 7638, a certificate's, or of the SubjectPublicKeyInfo)",
    )
    parser.add_argument("--because", required=True, metavar="WHY", help="why; it stands in the ledger")
    end = parser.add_mutually_exclusive_group()
    end.add_argument("--for", dest="lasts", metavar="DURATION", help="10m, 8h ...")
    end.add_argument("--until", metavar="INSTANT", help="when it comes back")
    parser.add_argument(
        "--back-anyway",
        action="store_true",
        help="with an end: also where no versions are shown, if nothing shows another hand",
    )
    answering(parser)
    parser.add_argument("--yes", action="store_true", help="do not ask")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    context.answered(args)
    from datetime import datetime, timedelta

    from sigillum.cli.views import suspensions as view
    from sigillum.workflows.stopping.suspend import suspend, suspend_key, targets

    if not args.because.strip():
        raise UsageError("a suspension always has a reason", where="--because", mend="say why, in a few words")
    if args.back_anyway and not (args.lasts or args.until):
        raise UsageError("it is not said when it comes back", where="--back-anyway", mend="write `--for 8h --back-anyway`")
    fixed = instant(args.until, "--until") if args.until else None
    lasts = timedelta(seconds=duration(args.lasts, "--for")) if args.lasts else None

    def until(now: datetime) -> datetime | None:
        return now + lasts if lasts is not None else fixed

    if args.key:
        found = key_of(args, context)
        for line in view.found(found, context.ident):
            context.say(line)
        if not found.targets:
            return Outcome.UNREACHABLE
        if not args.yes and not context.agreed("Switch it off there?"):
            context.say("Nothing was changed.")
            return Outcome.NO
        stopped = [suspend_key(context.office, found, args.because, until, back=args.back_anyway)]
        more = [Outcome.UNREACHABLE] if found.unsearched else []
    else:
        wanted, more = context.charters(args), list[Outcome]()
        if not args.yes:
            found_ = [t for c in wanted for t in targets(context.office, c)]
            names = [f"{t.record.kind.name} {t.name} in {t.tenant}" for t in found_]
            for tenant in () if args.back_anyway else sorted({t.tenant for t in found_ if not t.record.state}):
                context.say(view.without_versions(tenant))
            if not context.agreed(f"Switch off {', '.join(names)}?"):
                context.say("Nothing was changed.")
                return Outcome.NO
        stopped = list(suspend(context.office, wanted, args.because, until, back=args.back_anyway))
    context.give(
        "suspended",
        lambda: {"suspended": [view.as_json(s) for s in stopped]},
        *(view.suspended(s, context.ident) for s in stopped),
    )
    return worst([*(s.outcome() for s in stopped), *more])


def key_of(args: argparse.Namespace, context: Context) -> Found:
    """Where the key that somebody names is registered. Raises UsageError, FileError."""
    from sigillum.workflows.stopping.suspend import find_key

    if args.charters or args.all:
        raise UsageError("charters and a key are named", where="--key", mend="name one or the other")
    marks = [args.key]
    if Path(args.key).exists():
        from sigillum.cli.commands.key import thumbprints

        marks = thumbprints(args.key)
    return find_key(context.office, marks)
