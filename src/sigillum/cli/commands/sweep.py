"""`sigillum sweep`"""

from __future__ import annotations

import argparse
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import common
from sigillum.core.values.errors import Outcome, worst

EXAMPLE = """examples:
  sigillum sweep
  sigillum sweep --tenant summit --yes      for a timer"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "sweep", parents=[common()], epilog=EXAMPLE,
        description="Clear grants whose window has ended and which still stand at their tenant. Only what Sigillum made, by a "
                    "loan or a charter; they grant nothing any more.")
    parser.add_argument("--tenant", default="", help="at this one only")
    parser.add_argument("--yes", action="store_true", help="do not ask")
    parser.add_argument("--format", choices=("text", "json"), default="text")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views.common import masked
    from sigillum.cli.views.words import plural
    from sigillum.workflows.lend import ended, sweep
    found = ended(context.office, args.tenant)
    for one in found if args.format == "text" else ():
        why = one.how or f"ended at {one.until}"
        context.show_text(f"{one.tenant}: {masked(one.about, context.ident)}, {why}")
    if found and not args.yes and not context.agreed(f"Clear {plural(len(found), 'grant')}?"):
        context.say("Nothing was cleared.")
        return Outcome.NO
    cleared, results, problem = sweep(context.office, found) if found else ([], [], None)
    failed = [r for r in results if r.error is not None]
    if args.format == "json":
        context.show_json("sweep", {"cleared": [
            {"tenant": r.step.tenant, "about": r.step.about, "state": r.state} for r in results]
            + [{"tenant": e.tenant, "about": e.about, "state": "gone"} for e in cleared
               if not any(e.about.startswith(r.step.about.removeprefix("loan of ")) for r in results)]})
    else:
        for result in failed:
            context.say(f"{result.step.about}: {result.error}")
        context.show_text(f"Cleared: {plural(len(cleared), 'grant')}." if found else
                          "Nothing to clear: no window of ours has ended.")
    if problem is not None and all(r.error is not problem for r in results):
        raise problem
    return worst([r.error.outcome for r in failed if r.error is not None])
