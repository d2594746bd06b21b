"""The verbs of `key` that look for keys where none should be."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.forms import listing_of
from sigillum.cli.options import common
from sigillum.core.values.errors import FileError, Outcome

if TYPE_CHECKING:
    pass


def looking(verbs: Any, example: str) -> None:
    """The verbs that look for keys where none should be."""
    look = verbs.add_parser(
        "scan",
        parents=[common(tables=True, more=("sarif",))],
        help="find keys and secrets that lie about",
        epilog=example,
        description="Find private keys, tokens and secrets that stand literally in files, scripts and "
        "shell history: where, which are ours, whether they live by the ledger, and what they "
        "could do; in the history of a git repository, too. Nothing that is found is shown. Exit code 1 where something "
        "is found; 6 where nothing is, and something could not be read (an archive, a locked key store).",
    )
    look.add_argument("folders", nargs="+", type=Path, metavar="DIR", help="folders or files")
    attest = verbs.add_parser(
        "attest",
        parents=[common(tables=True)],
        help="that no private key of an identity exists",
        epilog=example,
        description="One page for a reviewer: each place where a private key of a charter's identity "
        "could be, how it was looked at, and how the identity is used instead. Exit code "
        "1 where one is found, 6 where a place could not be looked at.",
    )
    attest.add_argument("charter", metavar="CHARTER")
    attest.add_argument("folders", nargs="*", type=Path, metavar="DIR", help="search these, too")


def attest(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import keys as view
    from sigillum.workflows.surveying.attest import attest

    found = attest(context.office, args.charter, args.folders)
    told = view.attested_json(found)
    table = listing_of("looked", "where found how", told["looked"])
    context.give("attest", told, lambda: view.attested(found, context.ident), listing=table)
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
    if context.for_people:
        context.show_lines(view.lying(key) for key in found)
    alive = sum(1 for key in found if key.ours is not None and key.ours.alive)
    ours = sum(1 for key in found if key.ours is not None)
    rest = f" {len(looked.left_out)} could not be read or told." if looked.left_out else ""
    rest += f" {looked.kept} was not searched: what this workspace keeps belongs there." if looked.kept else ""
    rows = [view.lying_json(key) for key in found]
    context.give(
        "scan",
        lambda: {
            "files": looked.files,
            "left_out": [{"file": f, "why": w} for f, w in looked.left_out],
            "kept": looked.kept,
            "found": rows,
        },
        f"{looked.files} files: {len(found)} found, {ours} of them ours, {alive} alive.{rest}",
        listing=listing_of("found", "file line column what mark ours.what ours.alive ours.could", rows),
        also={"sarif": lambda: json.dumps(view.sarif(found), indent=1)},
    )
    for path, why in looked.left_out if context.for_people else ():
        context.say(f"left out  {path}: {why}")
    return Outcome.NO if found else Outcome.SOMEBODY if looked.left_out else Outcome.DONE
