"""`sigillum loans`"""

from __future__ import annotations

import argparse
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import common
from sigillum.core.values.errors import Outcome

EXAMPLE = """examples:
  sigillum loans
  sigillum loans --all --format csv         also what was recalled or cleared"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "loans",
        parents=[common("table", tables=True)],
        epilog=EXAMPLE,
        description="What is lent, to whom, and until when by the tenant's clock. A loan that has ended is shown as ended "
        "until `sigillum sweep` clears it.",
    )
    parser.add_argument("--all", action="store_true", help="also what was recalled, cleared or refused")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views.loans import listing
    from sigillum.workflows.lending.lend import loans

    context.give_list("loans", listing(loans(context.office, all_=args.all)))
    return Outcome.DONE
