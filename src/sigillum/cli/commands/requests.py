"""`sigillum requests list | show | answer | done | withdraw | again`"""

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
    from sigillum.workflows.handing.answer import Arrived
    from sigillum.workflows.handing.arrived import Letter
    from sigillum.workflows.handing.requests import Confirmed

EXAMPLE = """examples:
  sigillum requests                                   what others have to do for us
  sigillum requests show 1
  sigillum requests answer 0001-avalanche-mailer.json where the permission is: compare, carry out, write a receipt
  sigillum requests answer 0001-avalanche-mailer.json --refuse "the team reads that mailbox itself"
  sigillum requests done --receipt 0001-avalanche-mailer.receipt.json --from THUMBPRINT
  sigillum requests withdraw 1 --because "the charter is being rewritten"
  sigillum requests answer 0002-depot-feed.json --value 4711-0815      a value that only you can tell
  sigillum requests done 1                            confirmed by hand, where there is no receipt"""
COLUMNS: tuple[Column[SentRequest], ...] = (
    Column("no", lambda k: k.number, unbroken=True),
    Column("state", lambda k: str(k.state), unbroken=True),
    Column("how", lambda k: k.ended, people=False),
    Column("charter", lambda k: k.request.charter),
    Column("tenant", lambda k: k.tenant, unbroken=True),
    Column("power", lambda k: k.request.power, people=False),
    Column("to", lambda k: k.request.to, people=False, mask="whole"),
    Column("whose", lambda k: k.request.to or "whoever has it", head="to", data=False, mask="in"),
    Column("what", lambda k: k.request.about, head="what, and its file"),
    Column("file", lambda k: k.file, under="what"),
    Column("how it ended", lambda k: k.ended, data=False, under="what"),
    Column("when it ends", lambda k: k.request.expires if k.open else "", data=False, under="what", words="expires {}"),
    Column("asked_at", lambda k: k.asked_at, people=False),
    Column("expires", lambda k: k.request.expires, people=False),
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
    withdraw = verbs.add_parser(
        "withdraw",
        parents=[common()],
        help="say, signed, that one is not wanted any more",
        epilog=EXAMPLE,
        description="Withdraw an open request: a signed withdrawal is written next to it. Send it to the administrator who got "
        "the request; `requests answer` accepts it there, and refuses the request from then on. `enact` does not ask for the "
        "same again.",
    )
    withdraw.add_argument("number", type=int)
    withdraw.add_argument("--because", default="", metavar="WHY", help="the reason, which the other side reads")
    again = verbs.add_parser(
        "again",
        parents=[common()],
        help="ask once more for what was refused, withdrawn, or answered without effect",
        epilog=EXAMPLE,
        description="Let the next `enact` ask once more for what the charter still wants, under a new number.",
    )
    again.add_argument("number", type=int)


def _add_answer(verbs: Any) -> None:
    answer = verbs.add_parser(
        "answer",
        parents=[common()],
        help="check, compare, carry out, and write a receipt",
        epilog=EXAMPLE,
        description="Check a file that arrived, compare its requests with the tenant, ask, carry them out, and write a signed "
        "receipt next to it. A withdrawal is written down: what it names is not answered any more.",
    )
    answer.add_argument("file", type=Path)
    answer.add_argument(
        "--value", action="append", default=[], help="of a request for a value: what is told; of several: NUMBER=VALUE, again"
    )
    answer.add_argument("--refuse", default="", metavar="WHY", help="do not carry it out: sign a refusal with this reason")
    answer.add_argument(
        "--only", type=int, action="append", default=[], metavar="NUMBER", help="of a file with several requests: this one"
    )
    answer.add_argument("--yes", action="store_true", help="do not ask; its signer has to be known")
    _add_from(answer)


def _add_done(verbs: Any) -> None:
    done = verbs.add_parser(
        "done",
        parents=[common()],
        help="confirm one, by its receipt or by hand",
        epilog=EXAMPLE,
        description="Confirm a request.",
    )
    done.add_argument("number", type=int, nargs="?", help="which one; with a receipt: all that it answers, where none is given")
    done.add_argument("--value", default="", help="of a request for a value: what was told, where there is no receipt")
    done.add_argument("--receipt", type=Path, metavar="FILE", help="the signed receipt that came back")
    _add_from(done)


def _add_from(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--from",
        dest="from_",
        action="append",
        default=[],
        metavar="THUMBPRINT",
        help="whose signature is known, next to `signers` in sigillum.yaml",
    )


def run(args: argparse.Namespace, context: Context) -> Outcome:
    verbs = {"show": _show, "answer": _answer, "done": _done, "withdraw": _withdraw, "again": _again}
    return verbs.get(args.verb, _list)(args, context)


def _list(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.handing.requests import listed

    found = listed(context.office, ended=args.all)
    context.give_list("requests", Listing("requests", found, COLUMNS, empty="No request is open."))
    if found and context.for_people:
        context.say(_told(context))
    return Outcome.DONE


def _show(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import requests as view
    from sigillum.core.records.letters import read
    from sigillum.workflows.handing.requests import numbered, read_json

    known = numbered(context.office, args.number)
    body = read_json(context.office.workspace.folder / known.file)
    as_sent = {"json": lambda: json.dumps(body, indent=1)}  # what is signed, and nothing of ours round it
    wanted = [r for r in read(body, known.file) if r.number == args.number]
    context.give("request", body, lambda: view.texts(wanted, context.ident), also=as_sent)
    if context.for_people:
        if known.ended:
            context.say(f"It has ended: {known.ended}")
        context.say(_told(context))
    return Outcome.DONE


def _told(context: Context) -> str:
    """What the other side needs to know us by."""
    ours = context.ident(context.office.books.signing_key().key_id)
    return f"Whoever answers needs the thumbprint of our key, on another way: {ours}"


def _answer(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import requests as view
    from sigillum.core.records.requests import TELL, WITHDRAWAL
    from sigillum.core.values.errors import SomebodyError, UsageError
    from sigillum.workflows.handing.answer import answer, compare, note_replaced
    from sigillum.workflows.handing.arrived import letter_of, opened, refuse, take_withdrawal

    body, signer = opened(args.file)
    if args.from_ and signer.key_id not in args.from_:
        raise SomebodyError(
            f"it is signed by another key than `--from` says: {signer.key_id}",
            where=str(args.file),
            mend="compare the thumbprint with its sender out of band; nothing was done",
        )
    if body.get("kind") == WITHDRAWAL:
        noted = take_withdrawal(context.office, body, signer, str(args.file))
        context.give("withdrawn", {"requests": [{"number": n, "carried_out_at": at} for n, at in noted]}, _noted(noted))
        return Outcome.DONE
    letter = letter_of(args.file, body, signer)
    asked = letter.requests
    if args.refuse:
        if args.value or args.yes:
            raise UsageError("what is refused is not answered", where="--refuse", mend="leave --value and --yes out")
        context.show(lambda: view.texts(asked, context.ident))
        requests, written = refuse(context.office, letter, args.refuse, args.only)
        return _answered(context, [(r.number, r.digest, False) for r in requests], str(written), "Refused")
    if asked[0].do == TELL:
        return _tell(args, context, letter)
    if args.value:
        raise UsageError("it asks for something to be done, not told", where="--value", mend="leave it out")
    found = compare(context.office, letter, args.from_, args.only)
    note_replaced(context.office, found)
    context.show(lambda: view.answering(found, context.ident))
    if not found.stands and args.yes and not found.known:
        raise SomebodyError(
            f"the request is signed by a key that is not known here ({signer.key_id})",
            where=str(args.file),
            mend="compare the thumbprint with its sender on another way, and say `--from THUMBPRINT`; or leave "
            "--yes out and answer at a terminal",
        )
    if args.yes and any(a.changes is not None for a in found.asked):
        raise SomebodyError(
            "what is asked to be made is there already, and carrying it out would change it",
            where=str(args.file),
            mend="answer at a terminal, without --yes; or refuse it, with `--refuse WHY`",
        )
    if not found.stands and not args.yes and not context.agreed(_question(found)):
        context.say("Nothing was changed. `--refuse WHY` says so to whoever asked.")
        return Outcome.NO
    receipt, problems = answer(context.office, found)
    if receipt is None:
        raise problems[0]
    done = [(a.request.number, a.request.digest, bool(a.stands)) for a in found.asked]
    answered = _answered(context, done, str(receipt), "It is so already" if found.stands else "Done, and read back")
    if problems:  # what was done has its receipt, and what was not is told
        raise problems[0]
    return answered


def _tell(args: argparse.Namespace, context: Context, letter: Letter) -> Outcome:
    """Answer what only this side can tell."""
    from sigillum.cli.views import requests as view
    from sigillum.core.values.errors import UsageError
    from sigillum.workflows.handing.arrived import meant, tell

    meant_ = meant(letter, args.only)
    if not args.value:
        told = " ".join(f"--value {r.number}=VALUE" for r in meant_) if len(meant_) > 1 else "--value VALUE"
        raise UsageError("it asks for a value", where=str(args.file), mend=f"tell it: {told}")
    context.show(lambda: view.texts(meant_, context.ident))  # whoever tells it sees for what
    requests, written = tell(context.office, letter, args.value, args.from_, args.only)
    about = ", ".join(r.about for r in requests)
    return _answered(context, [(r.number, r.digest, False) for r in requests], str(written), f"Told: {about}")


def _question(found: Arrived) -> str:
    them = "it" if len(found.asked) == 1 else f"these {len(found.asked)}"
    return f"Carry {them} out at {found.tenant} as {found.hand}?"


def _noted(noted: list[tuple[str, str]]) -> str:
    lines = [
        f"Request {number} is withdrawn: it is not answered here any more."
        + (f" It was carried out here at {at}: whoever asked is told by their own next run." if at else "")
        for number, at in noted
    ]
    return "\n".join(lines)


def _answered(context: Context, done: list[tuple[int, str, bool]], receipt: str, how: str) -> Outcome:
    answers = [{"number": n, "request": digest, "stood": stood} for n, digest, stood in done]
    context.give("answered", {"answers": answers, "receipt": receipt}, f"{how}. Send the receipt back: {receipt}")
    if context.for_people:
        context.say(_told(context).replace("Whoever answers", "Whoever asked"))
    return Outcome.DONE


def _done(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.core.undertakings.requests import RequestState
    from sigillum.workflows.handing.requests import done

    found, said = done(context.office, args.number, args.receipt, args.from_, args.value)
    rows = [
        {
            "request": c.sent.number,
            "charter": c.sent.request.charter,
            "state": str(c.state),
            "how": c.how,
            "by": said or "by hand",
            "ended_before": c.late,
        }
        for c in found
    ]
    context.give("confirmed", {"requests": rows}, "\n".join(_confirmed(c, said) for c in found))
    return Outcome.NO if any(c.state is RequestState.REFUSED for c in found) else Outcome.DONE


def _confirmed(found: Confirmed, said: str) -> str:
    from sigillum.core.records.requests import ADD, MAKE

    number, charter = found.sent.number, found.sent.request.charter
    how = f", {said}" if said else ", by hand"
    if found.state == "refused":
        further = f"`enact` does not ask for the same again; `requests again {number}` does."
        return f"Request {number} is {found.how}\n({said}). {further}"
    if found.late:
        made = (
            f" What was made for it is known now: `sigillum enact {charter}` compares it with what the charter wants."
            if found.sent.request.do in (MAKE, ADD)
            else ""
        )
        return f"Request {number} had ended before ({found.late}){how}.{made}"
    return f"Request {number} is confirmed{how}. `sigillum enact {charter}` compares again what is so."


def _withdraw(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.handing.requests import withdraw

    sent, path = withdraw(context.office, args.number, args.because)
    to = sent.request.to or "whoever has the request"
    shown = f"Request {sent.number} is withdrawn. Send the withdrawal to {context.ident(to)}: {path}"
    context.give("withdrawn", {"request": sent.number, "charter": sent.request.charter, "file": str(path)}, shown)
    return Outcome.DONE


def _again(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.handing.requests import ask_again

    sent = ask_again(context.office, args.number)
    shown = f"`sigillum enact {sent.request.charter}` asks once more for what request {sent.number} asked for."
    context.give("asked-again", {"request": sent.number, "charter": sent.request.charter}, shown)
    return Outcome.DONE
