"""`sigillum loans`"""

from __future__ import annotations

import argparse
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import common, formats
from sigillum.core.values.errors import Outcome

EXAMPLE = """examples:
  sigillum loans
  sigillum loans --all --format csv         also what was recalled or cleared"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "loans",
        parents=[common()],
        epilog=EXAMPLE,
        description="What is lent, to whom, and until when by the tenant's clock. A loan that has ended is shown as ended "
        "until `sigillum sweep` clears it.",
    )
    parser.add_argument("--all", action="store_true", help="also what was recalled, cleared or refused")
    formats(parser, "table", "csv")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import loans as view
    from sigillum.cli.views.common import comma_separated, table
    from sigillum.workflows.lending.lend import loans

    found = loans(context.office, all_=args.all)
    if args.format == "json":
        context.show_json("loans", {"loans": [view.as_json(loan, state, []) for loan, state in found]})
    elif args.format == "csv":
        context.show_text(comma_separated(view.COLUMNS, [view.row(*f, context.ident) for f in found]))
    elif found:
        context.show(table(view.COLUMNS[:-1], [view.row(*f, context.ident)[:-1] for f in found], view.WHOLE))
    else:
        context.say("Nothing is lent.")
    return Outcome.DONE
