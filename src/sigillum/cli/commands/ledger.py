"""`sigillum ledger show | verify | head | key`"""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.options import common, formats, verbs_of
from sigillum.core.values.errors import Outcome

if TYPE_CHECKING:
    from sigillum.core.records.deeds import Deed

EXAMPLE = """examples:
  sigillum ledger show wind-ingest
  sigillum ledger verify --against /elsewhere/head.json
  sigillum ledger head > /elsewhere/head.json"""
COLUMNS = ("entry", "at", "person", "administrator", "tenant", "charter", "what", "done")
ENTRY = ("entry", "at", "writer", "what", "about")


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "ledger", parents=[common()], epilog=EXAMPLE, description="What was done: append-only, chained and signed."
    )
    verbs = verbs_of(parser)
    show = verbs.add_parser(
        "show",
        parents=[common()],
        help="what was done, a line a change",
        description="What was done, a line a change, oldest first: when, "
        "who sat at the machine, what, where, and as which administrator.",
    )
    show.add_argument("charter", nargs="?", default="", help="only this charter's")
    show.add_argument("--newest", type=int, default=0, metavar="N", help="only the newest N lines")
    show.add_argument("--entries", action="store_true", help="the signed entries themselves: intents, and what came of them")
    formats(show, "table", "csv")
    verify = verbs.add_parser(
        "verify", parents=[common()], help="check every entry", description="Check every entry, its chain and signature."
    )
    verify.add_argument(
        "--against",
        type=Path,
        metavar="FILE",
        help="a checkpoint kept elsewhere: shows a rolled-back ledger (default: the `witness:` of sigillum.yaml)",
    )
    verify.add_argument("--rebuild", action="store_true", help="make the index beside the chain anew, if the chain is good")
    formats(verify)
    verbs.add_parser(
        "head",
        parents=[common()],
        help="a signed checkpoint, to be kept elsewhere",
        description="A signed checkpoint, as JSON: keep it elsewhere.",
    )
    verbs.add_parser(
        "key",
        parents=[common()],
        help="the thumbprint of the key that signs here",
        description="The thumbprint (RFC 7638) of the key that signs this workspace's ledger, requests and "
        "sheets: whoever gets one of these has to be told it, on another way.",
    )


def run(args: argparse.Namespace, context: Context) -> Outcome:
    return {"show": _show, "verify": _verify, "head": _head, "key": _key}[args.verb](args, context)


def _show(args: argparse.Namespace, context: Context) -> Outcome:
    newest = max(0, args.newest)
    if args.entries:
        return _entries(args, context, newest)
    from sigillum.workflows.desk.ledgers import deeds_told

    found = deeds_told(context.office, args.charter, newest)
    if args.format == "table":
        context.show_lines(_line(deed, "" if args.charter else name, context) for name, deed in found)
        return Outcome.DONE
    rows = [(d.sequence, d.at, d.person, d.administrator, d.tenant, name, d.what, d.done) for name, d in found]
    if args.format == "json":
        context.show_json("ledger", {"changes": [dict(zip(COLUMNS, r, strict=True)) for r in rows]})
    else:
        from sigillum.cli.views.common import comma_separated

        context.show_text(comma_separated(COLUMNS, rows))
    return Outcome.DONE


def _line(deed: Deed, name: str, context: Context) -> str:
    """When, who sat at the machine, for which charter, what was done, where, and as whom."""
    where = f", in {deed.tenant}" if deed.tenant else ""
    as_ = f" as {context.ident(deed.administrator)}" if deed.administrator else ""
    return f"{_second(deed.at)}  {context.ident(deed.person)}  {f'{name}: ' if name else ''}{deed.what}{where}{as_}"


def _second(at: str) -> str:
    return at[:19] + "Z"


def _entries(args: argparse.Namespace, context: Context, newest: int) -> Outcome:
    """The entries themselves: what was intended before it was sent, and what came of it."""
    from sigillum.core.facets.registry import words
    from sigillum.core.records.deeds import about
    from sigillum.workflows.desk.ledgers import entries

    found = entries(context.office, args.charter, newest)
    if args.format == "json":
        context.show_json("ledger", {"entries": [{**e.content(), "hash": e.hash, "signature": e.signature} for e in found]})
    elif args.format == "csv":
        from sigillum.cli.views.common import comma_separated

        context.show_text(comma_separated(ENTRY, ((e.sequence, e.at, e.writer, e.kind, about(e, words)) for e in found)))
    else:
        context.show_lines(f"{e.sequence:>6}  {_second(e.at)}  {e.writer}  {e.kind:<11}  {about(e, words)}" for e in found)
    return Outcome.DONE


def _verify(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.desk.ledgers import verify

    found = verify(context.office, args.against, rebuild=args.rebuild)
    if args.format == "json":
        context.show_json(
            "verification",
            {
                "good": not found.findings,
                "entries": found.head.sequence,
                "head": found.head.hash,
                "against": found.against,
                "findings": [{"entry": f.sequence, "what": f.what} for f in found.findings],
            },
        )
    elif found.findings:
        lines = "\n".join(f"entry {f.sequence}: {f.what}" for f in found.findings[:50])
        context.show_text(f"{lines}\nThe ledger was changed by somebody without its key, or damaged. Compare it with a copy.")
    else:
        also = (
            f", and it continues the checkpoint {found.against}"
            if found.against
            else "; only a checkpoint kept elsewhere shows a ledger that was rolled back as a whole (`ledger head`)"
        )
        context.show_text(f"{found.head.sequence} entries, each chained and signed{also}.")
    return Outcome.NO if found.findings else Outcome.DONE


def _head(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.desk.ledgers import checkpoint

    context.show_text(json.dumps(checkpoint(context.office), indent=1))
    return Outcome.DONE


def _key(args: argparse.Namespace, context: Context) -> Outcome:
    context.show_text(context.office.books.signing_key().key_id)
    return Outcome.DONE
