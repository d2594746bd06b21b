"""`sigillum trust try`"""

from __future__ import annotations

import argparse
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import common, verbs_of
from sigillum.core.values.errors import Outcome

EXAMPLE = """examples:
  sigillum trust try claims.json mast-reader       would such a token act as it? which condition does not hold?
  sigillum trust try token.jwt mast-reader --trust valley
  sigillum trust try - mast-reader < token.jwt"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser("trust", parents=[common()], epilog=EXAMPLE,
                                   description="Trusts in outside issuers: who may act as an identity without any key of it.")
    verbs = verbs_of(parser)
    try_ = verbs.add_parser("try", parents=[common()], help="hold a token or claims against a charter's trusts", epilog=EXAMPLE,
                            description="Hold a token, or claims as JSON, against the trusts of a charter, condition by "
                                        "condition. Nobody is asked, and no signature is looked at. Exit code 1: no match.")
    try_.add_argument("file", metavar="FILE", help="a token or a JSON object of claims; or - for standard input")
    try_.add_argument("charter", metavar="CHARTER")
    try_.add_argument("--trust", default="", metavar="NAME", help="only this one")
    try_.add_argument("--format", choices=("text", "json"), default="text")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import tokens as view
    from sigillum.workflows.tokens import text_of, try_trusts
    found = try_trusts(context.office, text_of(args.file), args.charter, args.trust)
    if args.format == "json":
        context.show_json("trust", view.trial_json(found))
    else:
        context.show(view.trial(found))
    return Outcome.DONE if found.matching else Outcome.NO
