"""`sigillum config check | schema`"""

from __future__ import annotations

import argparse
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import NO_FORM, common, verbs_of
from sigillum.core.values.errors import FileError, Outcome

EXAMPLE = """examples:
  sigillum config check                     is sigillum.yaml as it should be?
  sigillum config schema > .sigillum.schema.json     for an editor"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "config",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        description="The workspace's own file, sigillum.yaml: tenants, house rules, defaults, consumers and issuers.",
    )
    verbs = verbs_of(parser)
    verbs.add_parser(
        "check", parents=[common()], help="every mistake in it", description="Every mistake in sigillum.yaml, with its place."
    )
    verbs.add_parser(
        "schema",
        parents=[common(NO_FORM)],
        help="the JSON Schema, for editors",
        description="The JSON Schema of sigillum.yaml, for editors.",
    )


def run(args: argparse.Namespace, context: Context) -> Outcome:
    if args.verb == "schema":
        import json

        from sigillum.charters.workspace import schema

        context.document(json.dumps(schema(), indent=1))
        return Outcome.DONE
    try:
        file = context.office.workspace.file
    except FileError as problem:
        return context.mistaken(problem)
    names = sorted(file.tenants)
    context.give(
        "check",
        {"good": True, "tenants": names, "mistakes": []},
        f"sigillum.yaml has no mistakes. Its tenants: {', '.join(names) or 'none yet'}.",
    )
    return Outcome.DONE
