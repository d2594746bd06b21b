"""`sigillum recall`"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.options import answering, common
from sigillum.core.values.errors import Outcome, UsageError, worst

if TYPE_CHECKING:
    from sigillum.core.undertakings.loans import Loan
    from sigillum.core.values.errors import SigillumError
    from sigillum.workflows.enacting.carrying.run import StepResult

_OVER = {"ended-elsewhere": "was ended by somebody else", "never-made": "was never made"}
EXAMPLE = """examples:
  sigillum recall 3f9a1c                    the loan of that number, as `sigillum loans` shows it
  sigillum recall --to wind-ingest          everything that is lent to it"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser("recall", parents=[common()], epilog=EXAMPLE, description="End loans before their end.")
    parser.add_argument("loans", nargs="*", metavar="LOAN", help="numbers of loans")
    parser.add_argument("--to", default="", metavar="PRINCIPAL", help="all loans to this one, by its name or id")
    answering(parser)


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views.common import masked
    from sigillum.cli.views.hints import problem_json
    from sigillum.core.values.times import format_instant, whole_second
    from sigillum.workflows.lending.lend import felt_until, recall

    context.answered(args)
    if not args.loans and not args.to:
        raise UsageError("no loan is named", where="recall", mend="name some, or say --to; `sigillum loans` lists them")
    outcomes, found = list[Outcome](), list[dict[str, Any]]()

    def finished(loan: Loan, results: list[StepResult], problem: SigillumError | None) -> None:
        errors = [r.error for r in results if r.error is not None] + ([problem] if problem is not None else [])
        outcomes.extend(e.outcome for e in errors)
        found.append({"loan": loan.number, "about": loan.about, **({"error": problem_json(errors[0])} if errors else {})})
        if errors:
            context.say(f"{loan.number}: {errors[0].what}\n  do     {errors[0].mend}")
        else:
            what = masked(loan.about, context.ident)
            until = felt_until(context.office, loan)
            over = "is recalled" if results or until is not None else _OVER.get(loan.closed, "stands no more")
            late = f"; it may be felt until {format_instant(whole_second(until))}" if until is not None else ""
            context.show(f"{loan.number}: {what} {over}{late}.")

    recall(context.office, args.loans, args.to, finished)
    context.give("recalled", {"loans": found})
    return worst(outcomes)
