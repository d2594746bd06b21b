"""`sigillum ledger show | verify | head | key`"""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.forms import Column, Listing
from sigillum.cli.options import NO_FORM, common, verbs_of
from sigillum.core.values.errors import Outcome

if TYPE_CHECKING:
    from sigillum.core.records.chain import LedgerEntry
    from sigillum.core.records.deeds import Deed

EXAMPLE = """examples:
  sigillum ledger show wind-ingest
  sigillum ledger verify --checkpoint /elsewhere/head.json
  sigillum ledger head > /elsewhere/head.json"""
COLUMNS: tuple[Column[tuple[str, Deed]], ...] = (
    Column("entry", lambda f: f[1].sequence),
    Column("at", lambda f: f[1].at),
    Column("person", lambda f: f[1].person),
    Column("administrator", lambda f: f[1].administrator),
    Column("tenant", lambda f: f[1].tenant),
    Column("charter", lambda f: f[0]),
    Column("what", lambda f: f[1].what),
    Column("done", lambda f: f[1].done),
)


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "ledger", parents=[common(NO_FORM)], epilog=EXAMPLE, description="What was done: append-only, chained and signed."
    )
    verbs = verbs_of(parser)
    show = verbs.add_parser(
        "show",
        parents=[common("table", tables=True)],
        help="what was done, a line a change",
        description="What was done, a line a change, oldest first: when, "
        "who sat at the machine, what, where, and as which administrator.",
    )
    show.add_argument("charter", nargs="?", default="", help="only this charter's")
    show.add_argument("--newest", type=int, default=0, metavar="N", help="only the newest N lines")
    show.add_argument("--entries", action="store_true", help="the signed entries themselves: intents, and what came of them")
    verify = verbs.add_parser(
        "verify", parents=[common()], help="check every entry", description="Check every entry, its chain and signature."
    )
    verify.add_argument(
        "--checkpoint",
        type=Path,
        metavar="FILE",
        help="a checkpoint kept elsewhere: shows a rolled-back ledger (default: the `witness:` of sigillum.yaml)",
    )
    verify.add_argument("--rebuild", action="store_true", help="make the index beside the chain anew, if the chain is good")
    verbs.add_parser(
        "head",
        parents=[common(NO_FORM)],
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
    if context.for_people:
        context.show_lines(_line(deed, "" if args.charter else name, context) for name, deed in found)
    else:
        context.give_list("ledger", Listing("changes", list(found), COLUMNS))
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
    columns: tuple[Column[LedgerEntry], ...] = (
        Column("entry", lambda e: e.sequence),
        Column("at", lambda e: e.at),
        Column("writer", lambda e: e.writer),
        Column("what", lambda e: e.kind),
        Column("about", lambda e: about(e, words)),
    )
    if context.for_people:
        context.show_lines(f"{e.sequence:>6}  {_second(e.at)}  {e.writer}  {e.kind:<11}  {about(e, words)}" for e in found)
    else:
        signed = [{**e.content(), "hash": e.hash, "signature": e.signature} for e in found]
        context.give("ledger", {"entries": signed}, listing=Listing("entries", found, columns))
    return Outcome.DONE


def _verify(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.desk.ledgers import verify

    found = verify(context.office, args.checkpoint, rebuild=args.rebuild)
    also = (
        f", and it continues the checkpoint {found.against}"
        if found.against
        else "; only a checkpoint kept elsewhere shows a ledger that was rolled back as a whole (`ledger head`)"
    )
    lines = "\n".join(f"entry {f.sequence}: {f.what}" for f in found.findings[:50])
    changed = "The ledger was changed by somebody without its key, or damaged. Compare it with a copy."
    good = f"{found.head.sequence} entries, each chained and signed{also}."
    context.give(
        "verification",
        {
            "good": not found.findings,
            "entries": found.head.sequence,
            "head": found.head.hash,
            "against": found.against,
            "findings": [{"entry": f.sequence, "what": f.what} for f in found.findings],
        },
        f"{lines}\n{changed}" if found.findings else good,
    )
    return Outcome.NO if found.findings else Outcome.DONE


def _head(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.desk.ledgers import checkpoint

    context.document(json.dumps(checkpoint(context.office), indent=1))
    return Outcome.DONE


def _key(args: argparse.Namespace, context: Context) -> Outcome:
    mark = context.office.books.signing_key().key_id
    context.give("ledger-key", {"key": mark}, mark)
    return Outcome.DONE
