"""`sigillum requests list | show | answer | done`"""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.forms import Column, Listing
from sigillum.cli.options import common, verbs_of
from sigillum.core.values.errors import Outcome

if TYPE_CHECKING:
    from sigillum.core.undertakings.requests import SentRequest

EXAMPLE = """examples:
  sigillum requests                                   what others have to do for us
  sigillum requests show 1
  sigillum requests answer 0001-avalanche-mailer.json where the power is: compare anew, carry out, write a receipt
  sigillum requests done 1 --receipt 0001-avalanche-mailer.receipt.json --from THUMBPRINT
  sigillum requests answer 0002-depot-feed.json --value 4711-0815      a value that only you can tell
  sigillum requests done 1                            confirmed by hand, where there is no receipt"""
COLUMNS: tuple[Column[SentRequest], ...] = (
    Column("no", lambda k: k.number, unbroken=True),
    Column("state", lambda k: k.ended or "open", unbroken=True),
    Column("charter", lambda k: k.request.charter),
    Column("tenant", lambda k: k.tenant, unbroken=True),
    Column("power", lambda k: k.request.power, people=False),
    Column("to", lambda k: k.request.to, people=False, mask="whole"),
    Column("whose", lambda k: k.request.to or "whoever has it", head="to", data=False, mask="in"),
    Column("what", lambda k: k.request.about, head="what, and its file"),
    Column("file", lambda k: k.file, under="what"),
    Column("asked_at", lambda k: k.asked_at, people=False),
)


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "requests",
        parents=[common("table", tables=True)],
        epilog=EXAMPLE,
        description="Steps that somebody else has the power for: `enact` writes each into a signed file with exact values "
        "and nothing secret.",
    )
    verbs = verbs_of(parser, required=False)
    list_ = verbs.add_parser(
        "list",
        parents=[common("table", tables=True)],
        help="those that are open; the usual verb",
        description="The open requests; the same as without a verb.",
    )
    for one in (parser, list_):
        one.add_argument("--all", action="store_true", help="also those that have ended")
    show = verbs.add_parser(
        "show", parents=[common()], help="one, with every value", description="One request, with every value."
    )
    show.add_argument("number", type=int)
    _add_answer(verbs)
    _add_done(verbs)


def _add_answer(verbs: Any) -> None:
    answer = verbs.add_parser(
        "answer",
        parents=[common()],
        help="check, compare, carry out, and write a receipt",
        epilog=EXAMPLE,
        description="Check one that arrived, "
        "compare it anew with the tenant, ask, carry it out, and write a signed receipt beside it.",
    )
    answer.add_argument("file", type=Path)
    answer.add_argument("--value", default="", help="of a request for a value: what is told")
    answer.add_argument("--yes", action="store_true", help="do not ask; its signer has to be known")
    answer.add_argument(
        "--from",
        dest="from_",
        action="append",
        default=[],
        metavar="THUMBPRINT",
        help="whose signature is known, beside `signers` in sigillum.yaml",
    )


def _add_done(verbs: Any) -> None:
    done = verbs.add_parser(
        "done",
        parents=[common()],
        help="confirm one, by its receipt or by hand",
        epilog=EXAMPLE,
        description="Confirm a request.",
    )
    done.add_argument("number", type=int)
    done.add_argument("--value", default="", help="of a request for a value: what was told, where there is no receipt")
    done.add_argument("--receipt", type=Path, metavar="FILE", help="the signed receipt that came back")
    done.add_argument(
        "--from",
        dest="from_",
        action="append",
        default=[],
        metavar="THUMBPRINT",
        help="whose signature is known, beside `signers` in sigillum.yaml",
    )


def run(args: argparse.Namespace, context: Context) -> Outcome:
    return {None: _list, "list": _list, "show": _show, "answer": _answer, "done": _done}[args.verb](args, context)


def _list(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.handing.requests import listed

    found = listed(context.office, ended=args.all)
    context.give_list("requests", Listing("requests", found, COLUMNS, empty="No request is open."))
    if found and context.for_people:
        context.say(_told(context))
    return Outcome.DONE


def _show(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import requests as view
    from sigillum.core.records.requests import read
    from sigillum.workflows.handing.requests import numbered, read_json

    known = numbered(context.office, args.number)
    body = read_json(context.office.workspace.folder / known.file)
    as_sent = {"json": lambda: json.dumps(body, indent=1)}  # what is signed, and nothing of ours round it
    context.give("request", body, lambda: view.text(read(body, known.file), context.ident), also=as_sent)
    if context.for_people:
        context.say(_told(context))
    return Outcome.DONE


def _told(context: Context) -> str:
    """What the other side needs to know us by."""
    ours = context.ident(context.office.books.signing_key().key_id)
    return f"Whoever answers needs the thumbprint of our key, on another way: {ours}"


def _answer(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import requests as view
    from sigillum.core.records.requests import read
    from sigillum.core.values.errors import SomebodyError, UsageError
    from sigillum.workflows.handing.answer import answer, compare, is_question, tell
    from sigillum.workflows.handing.requests import read_json

    if is_question(args.file):
        if not args.value:
            raise UsageError("it asks for a value", where=str(args.file), mend="tell it: --value VALUE")
        asked = read(read_json(args.file), str(args.file))
        context.show(lambda: view.text(asked, context.ident))  # whoever tells it sees for what
        request, written = tell(context.office, args.file, args.value, args.from_)
        return _answered(context, request.digest, False, str(written), f"Told: {request.about}")
    found = compare(context.office, args.file, args.from_)
    if args.from_ and found.key_id not in args.from_:
        raise SomebodyError(
            f"it is signed by another key than `--from` says: {found.key_id}",
            where=str(args.file),
            mend="compare the thumbprint with its sender out of band; nothing was done",
        )
    context.show(lambda: view.answering(found, context.ident))
    if not found.stands and args.yes and not found.known:
        raise SomebodyError(
            f"the request is signed by a key that is not known here ({found.key_id})",
            where=str(args.file),
            mend="compare the thumbprint with its sender on another way, and say `--from THUMBPRINT`; or leave "
            "--yes out and answer at a terminal",
        )
    if not found.stands and not args.yes and not context.agreed(f"Carry it out at {found.tenant} as {found.hand}?"):
        context.say("Nothing was changed.")
        return Outcome.NO
    receipt, results = answer(context.office, found, args.file)
    if receipt is None:
        raise results[0].error or SomebodyError("it was not carried out", where=found.tenant)
    how = "It is so already" if found.stands else "Done, and read back"
    return _answered(context, found.request.digest, bool(found.stands), str(receipt), how)


def _answered(context: Context, request: str, stood: bool, receipt: str, how: str) -> Outcome:
    context.give(
        "answered", {"request": request, "stood": stood, "receipt": receipt}, f"{how}. Send the receipt back: {receipt}"
    )
    if context.for_people:
        context.say(_told(context).replace("Whoever answers", "Whoever asked"))
    return Outcome.DONE


def _done(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.handing.requests import done

    known, said = done(context.office, args.number, args.receipt, args.from_, args.value)
    how = f": {said}" if said else ", by hand"
    context.give(
        "confirmed",
        {"request": known.number, "charter": known.request.charter, "by": said or "by hand"},
        f"Request {known.number} is confirmed{how}. `sigillum enact {known.request.charter}` compares anew what is so.",
    )
    return Outcome.DONE
