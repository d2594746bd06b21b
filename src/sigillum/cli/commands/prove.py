"""`sigillum prove`"""

from __future__ import annotations

import argparse
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import charters, common, duration, waiting
from sigillum.core.values.errors import Outcome, worst

EXAMPLE = """examples:
  sigillum prove wind-ingest
  sigillum prove wind-ingest --before       record what works now; then enact, then:
  sigillum prove wind-ingest --wait 12m     before and after, once the change is felt
  sigillum prove wind-ingest --with ingest-key --format json"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "prove", parents=[common()], epilog=EXAMPLE,
        description="Sign in as the identity with a fresh token, and try what must work and what must not. What could "
                    "harm is asked of the tenant, not tried.")
    charters(parser)
    parser.add_argument("--with", dest="with_", default="", metavar="CREDENTIAL", help="sign in with this one")
    parser.add_argument("--before", action="store_true", help="only record what holds now: later proofs show before and after")
    waiting(parser)
    parser.add_argument("--format", choices=("text", "json"), default="text")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from rich.console import Group
    from rich.text import Text

    from sigillum.cli.views import enacted
    from sigillum.workflows.ledgers import keep_witness
    from sigillum.workflows.prove import before, prove
    context.wait_seconds = duration(args.wait, "--wait") if args.wait else 0
    charters = context.charters(args)
    if args.all:
        charters = [c for c in charters if c.expectations]
    context.office.books.ledger(write=True)
    reports = [before(context.office, c) if args.before else prove(context.office, c, with_=args.with_) for c in charters]
    keep_witness(context.office)
    if args.format == "json":
        context.show_json("proofs", {"charters": [enacted.proofs_json(r) for r in reports]})
    for report in reports if args.format == "text" else ():
        context.show(Group(Text(report.charter, "bold"), enacted.proofs(report, context.ident), "",
                           Text(enacted.proof_summary(report), "bold")))
    return worst([r.outcome() for r in reports])
