"""`sigillum reinstate`"""

from __future__ import annotations

import argparse
import sys
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import answering, charters, common, ours
from sigillum.core.values.errors import Outcome, UsageError, worst

EXAMPLE = """examples:
  sigillum reinstate wind-ingest --because 'the laptop was found'
  sigillum reinstate --key found.pem --because 'it was a test key'"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "reinstate",
        parents=[common()],
        epilog=EXAMPLE,
        description="Switch on again what this workspace suspended. What somebody else switched off as well, or before, "
        "stays off: exit code 6.",
    )
    charters(parser)
    parser.add_argument("--key", default="", metavar="FILE", help="a key's file, or its thumbprint, instead of charters")
    parser.add_argument("--because", required=True, metavar="WHY", help="why; it stands in the ledger")
    parser.add_argument("--switch-on", action="store_true", help="also where it is not known whether somebody else was at it")
    ours(parser)
    answering(parser)
    parser.add_argument("--yes", action="store_true", help="do not ask, at a terminal")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    context.answered(args)
    from sigillum.cli.commands.suspend import key_of
    from sigillum.cli.views import suspensions as view
    from sigillum.workflows.enacting.doubts import said_ours
    from sigillum.workflows.stopping.suspend import reinstate, reinstate_key

    if not args.because.strip():
        raise UsageError("it is not said why", where="--because", mend="say why, in a few words")
    if args.ours and args.key:
        raise UsageError("--ours is about what charters name", where="--ours", mend="use --switch-on with --key")
    what = f"the key {args.key}" if args.key else ", ".join(c.name for c in context.charters(args))
    if what and not args.yes and sys.stdin.isatty() and not context.agreed(f"Switch {what} on again?"):
        context.say("Nothing was changed.")
        return Outcome.NO
    if args.key:
        found = [reinstate_key(context.office, key_of(args, context), args.because, switch_on=args.switch_on)]
    else:
        charters_ = context.charters(args)
        if args.ours:
            said_ours(context.office, charters_, args.ours)
        found = list(reinstate(context.office, charters_, args.because, switch_on=args.switch_on))
    context.give(
        "reinstated",
        lambda: {"reinstated": [view.as_json(s) for s in found]},
        *(view.reinstated(s, context.ident) for s in found),
    )
    return worst([s.outcome() for s in found])
