"""`sigillum prove`"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.forms import listing_of
from sigillum.cli.options import FEW, charters, common, duration, waiting
from sigillum.core.values.errors import Outcome, worst
from sigillum.core.values.secret import Secret

EXAMPLE = """examples:
  sigillum prove wind-ingest
  sigillum prove wind-ingest --before       record what works now; then enact, then:
  sigillum prove wind-ingest --wait 12m     before and after, once the change is felt
  sigillum prove mast-reader --outside reader.jwt --outside clerk.jwt   a workload, and another one, by a trust
  sigillum prove wind-ingest --with ingest-key --format json"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "prove",
        parents=[common(tables=True)],
        epilog=EXAMPLE,
        description="Sign in as the identity with a fresh token, and try what must work and what must not. What could "
        "harm is asked of the tenant, not tried.",
    )
    charters(parser)
    parser.add_argument("--with", dest="with_", default="", metavar="CREDENTIAL", help="sign in with this one")
    parser.add_argument(
        "--outside",
        action="append",
        default=[],
        metavar="FILE",
        help="a token from outside that is at hand: tried by the charter's trusts",
    )
    parser.add_argument(
        "--with-token", metavar="FILE", help="where the tenant signs for it: the token that it got where it is attached"
    )
    parser.add_argument("--before", action="store_true", help="only record what holds now: later proofs show before and after")
    parser.add_argument("--answers", type=Path, metavar="FILE", help="of a manual tenant: what people said, by the work sheet")
    waiting(parser)


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import enacted
    from sigillum.workflows.desk.ledgers import keep_witness
    from sigillum.workflows.proving.prove import prove_all
    from sigillum.workflows.tokens.assertions import mint
    from sigillum.workflows.tokens.claims import text_of

    context.wait_seconds = duration(args.wait, "--wait") if args.wait else 0
    context.answer_from(args.answers)
    charters = context.charters(args)
    if args.all:
        charters = [c for c in charters if c.expectations]
    context.office.books.writable_ledger()
    outcomes, found, held = list[Outcome](), [], 0
    tokens = [text_of(file).strip() for file in args.outside]
    own = text_of(args.with_token).strip() if args.with_token else ""

    def by_tenant(charter: str) -> Secret:
        return mint(context.office, charter, token=own).signed()

    signed = by_tenant if own else None
    for report in prove_all(context.office, charters, with_=args.with_, before_=args.before, tokens=tokens, signed=signed):
        outcomes.append(report.outcome())
        found.append(report)
        if len(charters) > FEW and report.held and not context.options.verbose:
            held += 1
        else:
            context.show(lambda report=report: enacted.report(report, context.ident))
    keep_witness(context.office)
    good = outcomes.count(Outcome.DONE)
    told = f"{len(charters)} charters: the proofs of {good} hold" + (", in all of them." if good == len(charters) else ".")
    reports = [enacted.proofs_json(r) for r in found]
    proofs = ({**proof, "charter": r["charter"]} for r in reports for proof in r["proofs"])
    context.give(
        "proofs",
        {"charters": reports},
        *([told + (" (-v tells of each.)" if held else "")] if len(charters) > 1 else []),
        listing=listing_of("proofs", "charter expectation held how said outlook.state outlook.text", proofs),
    )
    return worst(outcomes)
