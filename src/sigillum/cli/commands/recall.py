"""`sigillum recall`"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.options import common
from sigillum.core.values.errors import Outcome, UsageError, worst

if TYPE_CHECKING:
    from sigillum.core.undertakings.loans import Loan
    from sigillum.workflows.carrying.run import StepResult

EXAMPLE = """examples:
  sigillum recall 3f9a1c                    the loan of that number, as `sigillum loans` shows it
  sigillum recall --to wind-ingest          everything that is lent to it"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser("recall", parents=[common()], epilog=EXAMPLE, description="End loans before their end.")
    parser.add_argument("loans", nargs="*", metavar="LOAN", help="numbers of loans")
    parser.add_argument("--to", default="", metavar="PRINCIPAL", help="all loans to this one, by its name or id")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views.common import masked
    from sigillum.workflows.lend import recall
    if not args.loans and not args.to:
        raise UsageError("no loan is named", where="recall", mend="name some, or say --to; `sigillum loans` lists them")
    outcomes = list[Outcome]()

    def finished(loan: Loan, results: list[StepResult]) -> None:
        errors = [r.error for r in results if r.error is not None]
        outcomes.extend(e.outcome for e in errors)
        if errors:
            context.say(f"{loan.number}: {errors[0].what}\n  do     {errors[0].mend}")
        else:
            what = masked(loan.about, context.ident)
            context.show_text(f"{loan.number}: {what} is recalled." if results else f"{loan.number}: {what} stands no more.")
    recall(context.office, args.loans, args.to, finished)
    return worst(outcomes)
