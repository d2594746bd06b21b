"""Giving a sheet away: revealed to a file or the screen, or sealed to its receiver's key."""

from __future__ import annotations

import argparse
import os
from pathlib import Path
from typing import TYPE_CHECKING

from sigillum.cli.context import Context
from sigillum.cli.options import duration
from sigillum.core.values.errors import FileError, Outcome, UsageError

if TYPE_CHECKING:
    from sigillum.core.charter.sheet import Sheet


def sealing_or_revealing(args: argparse.Namespace) -> bool:
    """Is a sheet with its secrets asked for?"""
    return bool(args.seal or args.seal_to or args.reveal)


def reveal_sheet(args: argparse.Namespace, context: Context, sheet: Sheet, form: str) -> Outcome:
    from sigillum.cli.views import sheet as view
    from sigillum.workflows.handing.handover import reveal

    if args.reveal != sheet.charter:
        raise UsageError(
            "the word of confirmation is another one",
            where="--reveal",
            mend=f"write `--reveal {sheet.charter}` if its secrets are to be shown",
        )
    if context.options.presenting:
        raise UsageError("secrets are not shown while presenting", where="--presenting", mend="leave one of the two out")
    must_be_whole(sheet)
    must_be_variables(sheet, form)
    once = reveal(context.office, sheet, form)
    put_out(args, context, view.formatted(sheet, form, reveal=True))
    context.say(
        f"It is not revealed again: `sigillum rotate {sheet.charter} {sheet.credential}` makes the next one."
        if once
        else "It can be revealed again, as long as it is kept here; `handover: reveal: once` in the charter forbids that."
    )
    return Outcome.DONE


def must_be_whole(sheet: Sheet) -> None:
    """What is handed on is complete. Raises SomebodyError."""
    from sigillum.core.values.errors import SomebodyError

    if sheet.values and not sheet.complete:
        wrong = next(v for v in sheet.values if v.problem)
        raise SomebodyError(
            f"the sheet of {sheet.charter} is not complete: {wrong.name}: {wrong.problem}",
            where=sheet.charter,
            mend=f"`sigillum handover {sheet.charter}` shows all of it",
        )


def must_be_variables(sheet: Sheet, form: str) -> None:
    """A name that becomes a variable of a shell cannot be a command, or steer other programs. Raises UsageError."""
    from sigillum.core.charter.sheet import unfit

    odd = unfit(v.name for v in sheet.values) if form in ("env", "snippet") else ""
    if odd:
        raise UsageError(
            f"{odd!a} cannot be a variable of a shell",
            where=f"--form {form}",
            mend="use another form, or have the value called otherwise (`as:` at the consumer)",
        )


def must_be_free(path: Path | None) -> None:
    """Nothing is written over. Raises FileError."""
    if path is not None and os.path.lexists(path):
        raise FileError("the file is there already", where=str(path), mend="name another one, or take that one away")


def put_out(args: argparse.Namespace, context: Context, text: str) -> None:
    """To the file that was named, which is made for its owner only; otherwise to stdout."""
    if args.out is None:
        context.document(text)
        return
    from sigillum.keeping.private import write_private

    must_be_free(args.out)
    write_private(args.out.absolute(), text if text.endswith("\n") else text + "\n")
    context.say(f"Written to {args.out}, readable by you only.")


def seal_sheets(args: argparse.Namespace, context: Context, sheets: list[Sheet]) -> Outcome:
    """Each into a file of its own, in the folder that was named. Nothing is sealed where one is not complete."""
    if args.out is None:
        raise UsageError("it is not said where the sealed sheets go", where="--out", mend="name a folder for them")
    folder: Path = args.out
    for sheet in sheets:
        must_be_whole(sheet)
        args.out = folder / f"{sheet.charter}.sealed"
        must_be_free(args.out)
    for sheet in sheets:
        args.out = folder / f"{sheet.charter}.sealed"
        seal_sheet(args, context, sheet)
    return Outcome.DONE


def seal_sheet(args: argparse.Namespace, context: Context, sheet: Sheet) -> Outcome:
    from sigillum.core.values.times import format_instant
    from sigillum.workflows.handing.handover import give_away, leaves, record
    from sigillum.workflows.handing.sealing import seal

    away = leaves(context.office, sheet)
    if away and args.out is None:
        raise UsageError(
            "it is not said where the sealed sheet goes, and what is in it is kept here no more",
            where="--out",
            mend="name a file for it",
        )
    sealed = seal(context.office, sheet, args.seal_to, duration(args.lasts, "--lasts"))
    context.say(f"Sealing {sheet.charter} to the key {context.ident(sealed.receiver)}: only its owner can open it.")
    record(
        context.office,
        sheet,
        "sealed",
        sheet.consumer or sealed.receiver,
        sealed=sealed.id,
        receiver=sealed.receiver,
        ends=format_instant(sealed.ends),
        code=sealed.code,
    )
    put_out(args, context, sealed.text)
    if away:  # the sheet stands on the disk
        give_away(context.office, sheet)
    ours = context.ident(context.office.books.signing_key().key_id)
    context.say(
        f"It can be opened until {format_instant(sealed.ends)}.\n"
        f"The receiver needs the thumbprint of our key, on another way: {ours}"
    )
    return Outcome.DONE
