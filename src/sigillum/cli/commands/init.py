"""`sigillum init`"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import common
from sigillum.core.values.errors import Outcome

EXAMPLE = """examples:
  sigillum init brindlemoor --owner mara.teel@brindlemoor.example
  sigillum init brindlemoor --example       with charters, lists and consumers to try with"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "init",
        parents=[common()],
        epilog=EXAMPLE,
        description="Begin a workspace: sigillum.yaml, charters/, requests/ and the private .sigillum/ with its ledger.",
    )
    parser.add_argument("folder", nargs="?", default=".", help="where (default: this folder)")
    parser.add_argument(
        "--example",
        action="store_true",
        help="bring the example: charters, lists, consumers, the facts of a "
        "tenant by hand; in a workspace that is there already, what it does not have",
    )
    parser.add_argument("--owner", default="", metavar="MAIL", help="who answers for charters that name nobody else")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.charters.names import FILE
    from sigillum.workflows.writing.begin import example, init

    folder, told, brought, there, uid = Path(args.folder), list[str](), list[str](), list[str](), ""
    if not args.example or not (folder / FILE).exists():
        begun = init(folder, args.owner)
        uid = begun.workspace
        told.append(
            f"A workspace was begun in {begun.folder.resolve()}\n"
            f"  sigillum.yaml   tenants, house rules, defaults: keep it in version control\n"
            f"  charters/       one page an integration\n"
            f"  .sigillum/      the ledger and its key: private, and worth a backup\n"
            f"  .gitignore      keeps that folder, keys and tokens out of version control"
        )
    if args.example:
        brought, there = example(folder)
        told.append(f"The example brought {len(brought)} files: {', '.join(brought)}")
        told += [f"Left as it is: {', '.join(there)}"] if there else []
    context.give(
        "begun",
        lambda: {"folder": str(folder.resolve()), "workspace": uid, "brought": brought, "there": there},
        lambda: "\n".join(
            [*told, "", "Next: `sigillum sandbox start --background` for tenants to try with, or `sigillum tenant add`."]
        ),
    )
    return Outcome.DONE
