"""`sigillum ledger show | verify | head`"""

from __future__ import annotations

import argparse
import json
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import common
from sigillum.core.records.chain import Entry
from sigillum.core.values.errors import Outcome

EXAMPLE = """examples:
  sigillum ledger show wind-ingest
  sigillum ledger verify --against /elsewhere/head.json
  sigillum ledger head > /elsewhere/head.json"""
COLUMNS = ("entry", "at", "writer", "what", "about")


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser("ledger", parents=[common()], epilog=EXAMPLE,
                                   description="What was done: append-only, chained and signed.")
    verbs = parser.add_subparsers(dest="verb", metavar="VERB", required=True)
    show = verbs.add_parser("show", parents=[common()], description="The entries, oldest first.")
    show.add_argument("charter", nargs="?", default="", help="only this charter's")
    show.add_argument("--newest", type=int, default=0, metavar="N", help="only the newest N")
    show.add_argument("--format", choices=("table", "json", "csv"), default="table")
    verify = verbs.add_parser("verify", parents=[common()], description="Check every entry, its chain and signature.")
    verify.add_argument("--against", type=Path, metavar="FILE", help="a checkpoint kept elsewhere: shows a rolled-back "
                        "ledger (default: the `witness:` of sigillum.yaml)")
    verify.add_argument("--rebuild", action="store_true", help="make the index beside the chain anew, if the chain is good")
    verify.add_argument("--format", choices=("text", "json"), default="text")
    verbs.add_parser("head", parents=[common()], description="A signed checkpoint, as JSON: keep it elsewhere.")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    return {"show": _show, "verify": _verify, "head": _head}[args.verb](args, context)


def _thing(body: Mapping[str, Any]) -> str:
    """What an entry is about, in the words of its facet."""
    from sigillum.core.facets.registry import words
    from sigillum.core.values.marks import mark_of
    return words(mark_of(body))


def _accepted(body: Mapping[str, Any]) -> str:
    """Who accepted a risk, why, and until when it is to be looked at again."""
    about = body.get("about") or {}
    return f"; accepted by {about['accepted_by']} until {about['review']}: {about['why']}" if "accepted_by" in about else ""


PHRASES: dict[str, Callable[[Mapping[str, Any]], str]] = {
    "intent": lambda b: f"{b['verb']} {_thing(b)} at {b['tenant']}, generation {b['generation']}{_accepted(b)}",
    "outcome": lambda b: f"of {b['attempt']}: {b['result']}" + (f" ({b['why']})" if b.get("why") else ""),
    "proved": lambda b: f"{len(b['results'])} proofs, {'all hold' if b['held'] else 'not all hold'}",
    "kept": lambda b: f"{_thing(b)}, generation {b['generation']}",
    "lent": lambda b: f"{g['role']} at {g['place']} to {b['principal_name']}, until {g['until']}: {g['reason']}"
    if (g := b["grant"]) else "",
    "before": lambda b: f"{len(b['held'])} proofs, {sum(1 for h in b['held'].values() if h)} held",
    "felt": lambda b: f"a change at {b['tenant']} was felt after {b['seconds']} s",
    "requested": lambda b: f"request {b['number']}: {b['request']['about']}", "received": lambda b: str(b["about"]),
    "closed": lambda b: f"{b['number'] if b['undertaking'] == 'loan' else 'request ' + b['number']}: {b['how']}",
    "recalled": lambda b: f"by {b['by']}", "confirmed": lambda b: f"{b['about']}, by {b['by']}",
    "handed-over": lambda b: f"{', '.join(b['values'])} {b['how']} to {b['to']} (generation {b['generation']})",
    "connected": lambda b: f"{b['consumer']}, its connection {b['connection']}",
}


def about(entry: Entry) -> str:
    """An entry in one phrase."""
    body = entry.body
    if entry.kind in PHRASES:
        return PHRASES[entry.kind](body)
    named = _thing(body) if "facet" in body else body.get("name") or body.get("workspace") or ""
    return f"{body['before']} became {named}" if "before" in body else str(named)


def _show(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views.common import comma_separated, table
    from sigillum.workflows.ledgers import entries
    found = entries(context.office, args.charter, max(0, args.newest))
    rows = [(e.sequence, e.at[:19] + "Z", e.writer, e.kind, about(e)) for e in found]
    if args.format == "json":
        context.show_json("ledger", {"entries": [
            {**e.content(), "hash": e.hash, "signature": e.signature} for e in found]})
    elif args.format == "csv":
        context.show_text(comma_separated(COLUMNS, rows))
    else:
        context.show(table(COLUMNS, rows))
    return Outcome.DONE


def _verify(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.ledgers import verify
    found = verify(context.office, args.against, rebuild=args.rebuild)
    if args.format == "json":
        context.show_json("verification", {
            "good": not found.findings, "entries": found.head.sequence, "head": found.head.hash,
            "against": found.against, "findings": [{"entry": f.sequence, "what": f.what} for f in found.findings]})
    elif found.findings:
        lines = "\n".join(f"entry {f.sequence}: {f.what}" for f in found.findings[:50])
        context.show_text(f"{lines}\nThe ledger was changed by somebody without its key, or damaged. "
                          "Compare it with a copy.")
    else:
        also = f", and it continues the checkpoint {found.against}" if found.against else \
            "; only a checkpoint kept elsewhere shows a ledger that was rolled back as a whole (`ledger head`)"
        context.show_text(f"{found.head.sequence} entries, each chained and signed{also}.")
    return Outcome.NO if found.findings else Outcome.DONE


def _head(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.ledgers import checkpoint
    context.show_text(json.dumps(checkpoint(context.office), indent=1))
    return Outcome.DONE
