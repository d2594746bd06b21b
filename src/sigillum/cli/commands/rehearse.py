"""`sigillum rehearse`"""

from __future__ import annotations

import argparse
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import charters, common
from sigillum.core.values.errors import Outcome, worst

EXAMPLE = """examples:
  sigillum rehearse wind-ingest
  sigillum rehearse --all --strict          for a timer: exit code 1 where anything differs"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "rehearse", parents=[common()], epilog=EXAMPLE,
        description="Compare charters with their tenants: what enacting would do, in order, and what would go wrong. "
                    "Changes nothing; an administrator who may only look is enough.")
    charters(parser)
    parser.add_argument("--strict", action="store_true", help="exit code 1 where anything differs")
    parser.add_argument("--adopt", action="store_true", help="as if a thing of the same name were taken over")
    parser.add_argument("--end-extra", action="store_true", help="as if extra grants were to be ended")
    parser.add_argument("--switch-on", action="store_true", help="as if what somebody else switched off were to be on again")
    parser.add_argument("--format", choices=("text", "json"), default="text")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import rehearsal
    from sigillum.core.facets.seen import Choices
    from sigillum.workflows.rehearse import rehearse
    found, outcomes = [], []
    for charter in context.charters(args):
        result = rehearse(context.office, charter, Choices(args.adopt, args.end_extra, args.switch_on))
        outcomes.append(result.outcome(strict=args.strict))
        found.append(rehearsal.as_json(result))
        if args.format == "text":
            context.show(rehearsal.text(result, context.ident))
    orphans = context.office.books.orphans() if args.all else []
    if orphans and args.strict:
        outcomes.append(Outcome.NO)
    if args.format == "json":
        left = [{"charter": o.charter, "left": [{"tenant": t, "what": w, "id": i} for t, w, i in o.left],
                 "requests": list(o.requests)} for o in orphans]
        context.show_json("rehearsal", {"charters": found, "gone": left})
    elif orphans:
        context.show(rehearsal.gone(orphans, context.ident))
    return worst(outcomes)
