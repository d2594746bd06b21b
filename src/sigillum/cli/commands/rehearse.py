"""`sigillum rehearse`"""

from __future__ import annotations

import argparse
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.forms import listing_of
from sigillum.cli.options import FEW, charters, common
from sigillum.core.values.errors import Outcome, worst

EXAMPLE = """examples:
  sigillum rehearse wind-ingest
  sigillum rehearse --all --strict          for a timer: exit code 1 where anything differs"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "rehearse",
        parents=[common(tables=True)],
        epilog=EXAMPLE,
        description="Compare charters with their tenants: what enacting would do, in order, and what would go wrong. "
        "Changes nothing; an administrator who may only look is enough.",
    )
    charters(parser)
    parser.add_argument("--strict", action="store_true", help="exit code 1 where anything differs")
    parser.add_argument("--strict-advice", action="store_true", help="also where something about the set-up is advised")
    parser.add_argument("--adopt", action="store_true", help="as if a thing of the same name were taken over")
    parser.add_argument("--end-extra", action="store_true", help="as if extra grants were to be ended")
    parser.add_argument("--lost", action="store_true", help="as if a key that is not here were lost")
    parser.add_argument("--revive", action="store_true", help="as if what was retired were to be begun anew")
    parser.add_argument("--switch-on", action="store_true", help="as if what somebody else switched off were to be on again")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import rehearsal
    from sigillum.core.facets.seen import Choices
    from sigillum.workflows.enacting.rehearse import rehearse_all

    charters = context.charters(args)
    found, outcomes, same = [], list[Outcome](), list[str]()
    choices = Choices(args.adopt, args.end_extra, args.switch_on, revive=args.revive, lost=args.lost)
    for result in rehearse_all(context.office, charters, lambda charter: choices):
        outcomes.append(result.outcome(strict=args.strict or args.strict_advice, advice=args.strict_advice))
        found.append(result)
        if len(charters) > FEW and result.unchanged and not context.options.verbose:
            same.append(result.charter.name)
        else:
            context.show(lambda result=result: rehearsal.text(result, context.ident))
    orphans = context.office.books.orphans() if args.all else []
    if orphans and (args.strict or args.strict_advice):
        outcomes.append(Outcome.NO)
    told = (
        ": nothing to do in any of them"
        if len(same) == len(charters)
        else f", {len(charters) - len(same)} told above; nothing to do in the other {len(same)}"
    )
    context.give(
        "rehearsal",
        lambda: {
            "charters": [rehearsal.as_json(r) for r in found],
            "gone": [rehearsal.gone_json(o) for o in orphans],
        },
        *([lambda: rehearsal.gone(orphans, context.ident)] if orphans else []),
        *([f"{len(charters)} charters{told}. (-v tells of each.)"] if same else []),
        listing=listing_of("lines", "charter kind tenant text why", (line for r in found for line in rehearsal.lines(r))),
    )
    return worst(outcomes)
