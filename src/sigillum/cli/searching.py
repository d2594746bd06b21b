"""The verbs of `key` that look for keys where none should be."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.options import common, formats
from sigillum.core.values.errors import FileError, Outcome

if TYPE_CHECKING:
    pass


def looking(verbs: Any, example: str) -> None:
    """The verbs that look for keys where none should be."""
    look = verbs.add_parser(
        "scan",
        parents=[common()],
        help="find keys and secrets that lie about",
        epilog=example,
        description="Find private keys, tokens and secrets that stand literally in files, scripts and "
        "shell history: where, which are ours, whether they live by the ledger, and what they "
        "could do. Nothing that is found is shown. Exit code 1 where something is found.",
    )
    look.add_argument("folders", nargs="+", type=Path, metavar="DIR", help="folders or files")
    formats(look, "text", "sarif", about="sarif: SARIF 2.1.0")
    attest = verbs.add_parser(
        "attest",
        parents=[common()],
        help="that no private key of an identity exists",
        epilog=example,
        description="One page for a reviewer: each place where a private key of a charter's identity "
        "could be, how it was looked at, and how the identity is used instead. Exit code "
        "1 where one is found, 6 where a place could not be looked at.",
    )
    attest.add_argument("charter", metavar="CHARTER")
    attest.add_argument("folders", nargs="*", type=Path, metavar="DIR", help="search these, too")
    formats(attest)


def attest(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import keys as view
    from sigillum.workflows.surveying.attest import attest

    found = attest(context.office, args.charter, args.folders)
    if args.format == "json":
        context.show_json("attest", view.attested_json(found))
    else:
        context.show(view.attested(found, context.ident))
    return found.outcome()


def scan(args: argparse.Namespace, context: Context) -> Outcome:
    import json

    from sigillum.cli.views import keys as view
    from sigillum.workflows.surveying.scan import Lying, look

    try:
        office = context.office
    except FileError:  # without a workspace nothing is known to be ours
        office = None
        context.say("There is no workspace here, so it cannot be told what of it is ours.")
    found = list[Lying]()
    looked = look(office, args.folders, found)
    if args.format == "sarif":
        context.show_text(json.dumps(view.sarif(found), indent=1))
    elif args.format == "json":
        context.show_json(
            "scan",
            {
                "files": looked.files,
                "left_out": [{"file": f, "why": w} for f, w in looked.left_out],
                "found": [view.lying_json(one) for one in found],
            },
        )
    else:
        context.show_lines(view.lying(one) for one in found)
        alive = sum(1 for one in found if one.ours is not None and one.ours.alive)
        ours = sum(1 for one in found if one.ours is not None)
        rest = f" {len(looked.left_out)} files were left out." if looked.left_out else ""
        context.show_text(f"{looked.files} files: {len(found)} found, {ours} of them ours, {alive} alive.{rest}")
        for path, why in looked.left_out:
            context.say(f"left out  {path}: {why}")
    return Outcome.NO if found else Outcome.DONE
