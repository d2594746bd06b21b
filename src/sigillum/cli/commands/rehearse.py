"""`sigillum rehearse`"""

from __future__ import annotations

import argparse
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import FEW, charters, common, formats
from sigillum.core.values.errors import Outcome, worst

EXAMPLE = """examples:
  sigillum rehearse wind-ingest
  sigillum rehearse --all --strict          for a timer: exit code 1 where anything differs"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "rehearse",
        parents=[common()],
        epilog=EXAMPLE,
        description="Compare charters with their tenants: what enacting would do, in order, and what would go wrong. "
        "Changes nothing; an administrator who may only look is enough.",
    )
    charters(parser)
    parser.add_argument("--strict", action="store_true", help="exit code 1 where anything differs")
    parser.add_argument("--adopt", action="store_true", help="as if a thing of the same name were taken over")
    parser.add_argument("--end-extra", action="store_true", help="as if extra grants were to be ended")
    parser.add_argument("--revive", action="store_true", help="as if what was retired were to be begun anew")
    parser.add_argument("--switch-on", action="store_true", help="as if what somebody else switched off were to be on again")
    formats(parser)


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import rehearsal
    from sigillum.core.facets.seen import Choices
    from sigillum.workflows.enacting.rehearse import rehearse_all

    charters = context.charters(args)
    found, outcomes, same = [], list[Outcome](), list[str]()
    choices = Choices(args.adopt, args.end_extra, args.switch_on, revive=args.revive)
    for result in rehearse_all(context.office, charters, choices):
        outcomes.append(result.outcome(strict=args.strict))
        if args.format == "json":
            found.append(rehearsal.as_json(result))
        elif len(charters) > FEW and result.unchanged and not context.options.verbose:
            same.append(result.charter.name)
        else:
            context.show(rehearsal.text(result, context.ident))
    orphans = context.office.books.orphans() if args.all else []
    if orphans and args.strict:
        outcomes.append(Outcome.NO)
    if args.format == "json":
        left = [
            {
                "charter": o.charter,
                "left": [{"tenant": t, "what": w, "id": i} for t, w, i in o.left],
                "requests": list(o.requests),
            }
            for o in orphans
        ]
        context.show_json("rehearsal", {"charters": found, "gone": left})
        return worst(outcomes)
    if orphans:
        context.show(rehearsal.gone(orphans, context.ident))
    if same:
        told = (
            ": nothing to do in any of them"
            if len(same) == len(charters)
            else f", {len(charters) - len(same)} told above; nothing to do in the other {len(same)}"
        )
        context.show_text(f"{len(charters)} charters{told}. (-v tells of each.)")
    return worst(outcomes)
