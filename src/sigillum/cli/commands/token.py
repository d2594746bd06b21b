"""`sigillum token read`"""

from __future__ import annotations

import argparse
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import common, verbs_of
from sigillum.core.values.errors import Outcome

EXAMPLE = """examples:
  sigillum token read token.jwt                       header, claims, times in words, what is wrong with it
  sigillum token read - --against summit < token.jwt  and is it genuine, by its issuer's keys?
  sigillum token read token.jwt --audience summit     is it for whom it should be?"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser("token", parents=[common()], epilog=EXAMPLE,
                                   description="Look at signed tokens (JWT). A token itself is never shown.")
    verbs = verbs_of(parser)
    read = verbs.add_parser("read", parents=[common()], help="what a token says, and what is wrong with it", epilog=EXAMPLE,
                            description="Header, claims, times in words, and what is wrong with a token. Whether it is "
                                        "genuine, only its issuer's keys show. Exit code 1: nobody should take it.")
    read.add_argument("file", metavar="FILE", help="or - for standard input")
    read.add_argument("--against", metavar="TENANT", help="by its time and limits, and verified with the issuer's keys")
    read.add_argument("--audience", default="", metavar="TEXT", help="for whom it has to be")
    read.add_argument("--format", choices=("text", "json"), default="text")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import tokens as view
    from sigillum.workflows.tokens import look_against, look_at, text_of
    text = text_of(args.file)
    found = look_against(context.office, text, args.against, args.audience) if args.against else look_at(text, args.audience)
    if args.format == "json":
        context.show_json("token", view.as_json(found))
    else:
        context.show(view.text(found, context.ident))
    return Outcome.DONE if found.good else Outcome.NO
