"""`sigillum handover [sheet] | open | key | received | connected`"""

from __future__ import annotations

import argparse
import os
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.options import NO_FORM, charters, common, verbs_of
from sigillum.cli.sheets import (
    must_be_free,
    must_be_variables,
    must_be_whole,
    put_out,
    reveal_sheet,
    seal_sheet,
    seal_sheets,
    sealing_or_revealing,
)
from sigillum.core.values.errors import FileError, Outcome, UsageError, worst

if TYPE_CHECKING:
    from sigillum.core.charter.charter import Charter

EXAMPLE = """examples:
  sigillum handover avalanche-mailer                              what there is, secrets masked
  sigillum handover avalanche-mailer --form env --reveal avalanche-mailer --out mailer.env
  sigillum handover wind-ingest --form snippet --language shell   the first thing that must work, as one line
  sigillum handover avalanche-mailer --seal-to supplier.jwk --lasts 7d --out mailer.sealed
  sigillum handover key receiving.jwk                             at the receiver: a key pair for receiving
  sigillum handover open mailer.sealed --with-key file:receiving.jwk --from THUMBPRINT --form env --out mailer.env
  sigillum handover open mailer.sealed --with-key file:receiving.jwk --receipt mailer.receipt.json
  sigillum handover received mailer.receipt.json                  at the sender: it was opened
  sigillum handover connected avalanche-mailer --consumer mail-desk --connection 4711"""
LANGUAGES = ("shell", "python")
FORMS = ("text", "env", "json", "yaml", "snippet")


USUAL_VERB = "sheet"  # where no verb is typed


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "handover",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        description="The values that the consumer of an identity asks for, checked, complete or not. Secrets are masked, "
        "unless you reveal them, or seal the sheet to the receiver's public key.",
    )
    verbs = verbs_of(parser)
    _add_sheet(verbs)
    _add_open(verbs)
    _add_key(verbs)
    _add_got(verbs)
    _add_done(verbs)


def _add_sheet(verbs: Any) -> None:
    sheet = verbs.add_parser(
        "sheet",
        parents=[common()],
        epilog=EXAMPLE,
        help="the values of charters; the usual verb",
        description="The values of charters: masked, revealed, or sealed to the receiver's key.",
    )
    charters(sheet)
    sheet.add_argument(
        "--form",
        dest="form",
        choices=FORMS,
        help="the form (default: the charter's, else text); a snippet holds references only",
    )
    sheet.add_argument(
        "--language",
        dest="language",
        choices=LANGUAGES,
        help="the first thing that must work, as a call that `sigillum with` runs: a snippet",
    )
    sheet.add_argument("--consumer", default="", metavar="NAME", help="the kind of consumer (default: the charter's)")
    sheet.add_argument("--credential", default="", metavar="NAME", help="which (default: the consumer's, or the only one)")
    sheet.add_argument("--reveal", default="", metavar="WORD", help="show secrets: WORD is the charter's name once more")
    sheet.add_argument("--seal-to", type=Path, metavar="FILE", help="sign, and encrypt to this public JWK")
    sheet.add_argument("--seal", action="store_true", help="sign, and encrypt to the key of the consumer in sigillum.yaml")
    sheet.add_argument("--lasts", default="7d", metavar="DURATION", help="with --seal or --seal-to: how long it can be opened")
    sheet.add_argument(
        "--out",
        type=Path,
        metavar="FILE",
        help="write it there, readable by you only; of several that are sealed: the folder for them",
    )


def _add_open(verbs: Any) -> None:
    open_ = verbs.add_parser(
        "open",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        help="open a sealed sheet, at the receiver",
        description="Open a sealed sheet, where the receiving key is. No workspace is needed.",
    )
    open_.add_argument("file", type=Path, metavar="FILE")
    open_.add_argument("--with-key", required=True, metavar="REFERENCE", help="where the private receiving key is")
    open_.add_argument(
        "--from",
        dest="from_",
        action="append",
        default=[],
        metavar="THUMBPRINT",
        help="whose signature is taken, beside `signers` in sigillum.yaml",
    )
    open_.add_argument("--form", dest="form", choices=FORMS, help="the form (default: text)")
    open_.add_argument("--reveal", default="", metavar="WORD", help="show secrets: WORD is the charter's name")
    open_.add_argument("--out", type=Path, metavar="FILE", help="write it there, with its secrets, readable by you only")
    open_.add_argument("--receipt", type=Path, metavar="FILE", help="write a receipt for the sender, signed by this workspace")


def _add_key(verbs: Any) -> None:
    key = verbs.add_parser(
        "key",
        parents=[common()],
        epilog=EXAMPLE,
        help="make a key pair for receiving",
        description="Make a key pair for receiving: the private half in a file, the public half beside it.",
    )
    key.add_argument("file", type=Path, metavar="FILE", help="of the private half, a new file")


def _add_got(verbs: Any) -> None:
    got = verbs.add_parser(
        "received",
        parents=[common()],
        epilog=EXAMPLE,
        help="take the receipt of a sheet that was opened",
        description="Take down that a sealed sheet was opened, by its receiver's receipt.",
    )
    got.add_argument("file", type=Path, metavar="FILE")
    got.add_argument(
        "--from",
        dest="from_",
        action="append",
        default=[],
        metavar="THUMBPRINT",
        help="whose signature is taken, beside `signers` in sigillum.yaml",
    )


def _add_done(verbs: Any) -> None:
    done = verbs.add_parser(
        "connected",
        parents=[common()],
        epilog=EXAMPLE,
        help="record that a consumer is connected",
        description="Record that a consumer connects with this identity; one connection has one identity.",
    )
    done.add_argument("charter", metavar="CHARTER")
    done.add_argument("--consumer", metavar="NAME", required=True, help="who connects")
    done.add_argument("--connection", required=True, metavar="NUMBER", help="the consumer's own number for it")


def run(args: argparse.Namespace, context: Context) -> Outcome:
    return {"sheet": _sheets, "open": _open, "key": _key, "received": _received, "connected": _connected}[args.verb](
        args, context
    )


def _sheets(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import sheet as view
    from sigillum.workflows.handing.handover import Choice, collect_all, handed, used_since, wish_of

    choice, found, outcomes = Choice(args.consumer, args.credential), [], list[Outcome]()
    all_ = context.charters(args)
    sealing = bool(args.seal or args.seal_to)
    if len(all_) > 1 and (args.reveal or (args.out and not sealing)):
        raise UsageError(
            "a sheet is revealed or written one at a time", where="handover", mend="name one charter, or seal them"
        )
    if len(all_) > 1 and sealing:
        return seal_sheets(args, context, list(collect_all(context.office, all_, choice)))
    if args.language:
        return _calls(args, context, all_)
    must_be_free(args.out)
    for charter, sheet in zip(all_, collect_all(context.office, all_, choice), strict=True):
        outcomes.append(Outcome.DONE if sheet.complete else Outcome.NO)
        found.append(view.as_json(sheet))
        if not context.for_people:
            continue
        if sealing:
            return seal_sheet(args, context, sheet)
        form = args.form or wish_of(charter).form or "text"
        if args.reveal:
            return reveal_sheet(args, context, sheet, form)
        if form == "text":
            before = handed(context.office, charter.name)[-view.SHOWN :]
            since = [used_since(context.office, charter, b).words if b.get("credential") else "" for b in before]
            context.show(view.text(sheet, list(zip(before, since, strict=True)), context.ident))
        else:
            if args.out is not None and form != "snippet" and any(v.secret for v in sheet.values):
                raise UsageError(
                    "its secrets are masked, and a file of masks is of no use",
                    where="--out",
                    mend=f"write `--reveal {charter.name}` beside it, or `--seal-to FILE`",
                )
            if args.out is not None:
                must_be_whole(sheet)
            if not sheet.complete:  # nothing of it is printed that somebody could paste
                context.say(view.incomplete(sheet))
                continue
            must_be_variables(sheet, form)
            put_out(args, context, view.formatted(sheet, form, reveal=False))
            if form == "snippet" and any(v.reference for v in sheet.values):
                context.say("What it refers to is kept in this workspace only; `--seal-to FILE` takes a secret elsewhere.")
    context.give("sheets", {"sheets": found})
    return worst(outcomes)


def _calls(args: argparse.Namespace, context: Context, all_: list[Charter]) -> Outcome:
    """What must work, as calls."""
    from sigillum.core.charter.snippets import written
    from sigillum.workflows.tokens.programs import first_call

    if args.form not in (None, "snippet") or sealing_or_revealing(args):
        raise UsageError(
            "a call is a snippet, and holds no secret", where="--language", mend="write `--form snippet --language shell` only"
        )
    must_be_free(args.out)
    for charter in all_:
        put_out(args, context, written(first_call(context.office, charter), args.language))
    return Outcome.DONE


def _open(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import sheet as view
    from sigillum.workflows.handing.sealing import open_

    try:
        office = context.office if context.office.books.there else None
    except FileError:  # the receiver need not have a workspace
        office = None
    must_be_free(args.receipt)
    sheet = open_(office, args.file, args.with_key, args.from_, Path.cwd())
    form = args.form or "text"
    if args.reveal and args.reveal != sheet.charter:
        raise UsageError("the word of confirmation is another one", where="--reveal", mend=f"write `--reveal {sheet.charter}`")
    reveal = bool(args.reveal) or args.out is not None
    if form == "text" and not reveal:
        context.show(view.text(sheet, [], context.ident))
    else:
        must_be_variables(sheet, form)
        put_out(args, context, view.formatted(sheet, form, reveal=reveal))
    if args.receipt is not None:
        from sigillum.workflows.handing.receipts import write

        write(office, sheet, args.receipt)
        context.say(
            f"The receipt for its sender is {args.receipt}."
            if office is None
            else f"The receipt for its sender is {args.receipt}; they need the thumbprint of our key, on another way: "
            f"{context.ident(office.books.signing_key().key_id)}"
        )
    return Outcome.DONE


def _received(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.handing.receipts import take

    given, said = take(context.office, args.file, args.from_)
    context.give(
        "received",
        {n: given[n] for n in ("charter", "to", "credential", "generation")},
        f"Recorded: what {given['to']} was given of {given['charter']} was opened (the receipt is {said}).",
    )
    return Outcome.DONE


def _key(args: argparse.Namespace, context: Context) -> Outcome:
    """A key pair for receiving: the private half into a file, the public half beside it."""
    import json

    from sigillum.keeping.private import write_private
    from sigillum.keys.seal import receiving_key

    path = args.file.absolute()
    public_path = path.with_name(f"{path.stem}.public{path.suffix}")
    for one in (path, public_path):
        if os.path.lexists(one):
            raise FileError("the file is there already", where=str(one), mend="name another one; a key is never written over")
    private, public = receiving_key()
    write_private(path, private.reveal() + "\n")
    write_private(public_path, json.dumps(public) + "\n")
    public_path.chmod(0o644)
    context.give(
        "key",
        lambda: {"private": str(path), "public": str(public_path)},
        f"The private key stays here: {path.name}\nSend this one to whoever hands over: {public_path.name}",
    )
    return Outcome.DONE


def _connected(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.handing.handover import connected

    charter = context.office.charters([args.charter])[0]
    connected(context.office, charter, args.consumer, args.connection)
    context.give(
        "connected",
        {"charter": charter.name, "consumer": args.consumer, "connection": args.connection},
        f"Recorded: {args.consumer} uses {charter.name} as its connection {args.connection}.",
    )
    return Outcome.DONE
