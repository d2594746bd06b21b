"""Options that every command has, resolved once: flag, then environment, then default; where from is remembered."""

from __future__ import annotations

import argparse
import os
from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from types import MappingProxyType
from typing import Any, NamedTuple

from sigillum.core.values.errors import UsageError

from .forms import PEOPLE, forms_of

VALUED = ("--workspace", "-w", "--timeout")
USUAL_TIMEOUT_SECONDS = 15.0
USUAL_FORM, NO_FORM = PEOPLE[0], ""
FEW = 5  # charters of which each is shown; of more, those that are as wished get little room


GIVEN: dict[tuple[str, ...], Any] = {}  # by the program's one parser: what was given for an option that has one value


class _Once(argparse._StoreAction):
    """An option that has one value: said twice, before the command and after it, say, it is not clear which one is meant."""

    def __call__(self, parser: Any, namespace: Any, values: Any, option: str | None = None) -> None:
        name = tuple(self.option_strings)
        if option is not None and GIVEN.setdefault(name, values) != values:
            raise argparse.ArgumentError(self, f"it is given twice: {GIVEN[name]} and {values}")
        super().__call__(parser, namespace, values, option)


def once(parser: argparse.ArgumentParser) -> argparse.ArgumentParser:
    """Options of this parser are given once, but for those that collect."""
    parser.register("action", None, _Once)
    parser.register("action", "store", _Once)
    return parser


class Options(NamedTuple):
    """The resolved options. `sources` tells for each where its value came from."""

    workspace: Path | None = None
    timeout_seconds: float = USUAL_TIMEOUT_SECONDS
    verbose: bool = False
    debug: bool = False
    colour: bool = True
    presenting: bool = False
    form: str = USUAL_FORM
    sources: Mapping[str, str] = MappingProxyType({})


def common(usual: str = USUAL_FORM, *, tables: bool = False, more: Sequence[str] = ()) -> argparse.ArgumentParser:
    """The parser of the common options: the same before and after the command, with the same meaning.

    `usual` is the form of the result for people, `text` or `table`; empty where the result has one form only. `tables` says
    that it can be one, `more` names forms that it alone has; `Context.give` does the rest.
    """
    parser = once(argparse.ArgumentParser(add_help=False, argument_default=argparse.SUPPRESS))
    group = parser.add_argument_group("options of every command")
    if usual:
        forms = [*forms_of(usual, tables=tables), *more]
        group.add_argument("--format", choices=forms, help=f"how the result is given (default: {usual})")
    group.add_argument(
        "-w",
        "--workspace",
        metavar="FOLDER",
        help="the workspace (SIGILLUM_WORKSPACE; default: this folder or the nearest one above)",
    )
    group.add_argument(
        "--timeout",
        metavar="SECONDS",
        help=f"how long one answer may take (SIGILLUM_TIMEOUT; default: {USUAL_TIMEOUT_SECONDS:g})",
    )
    group.add_argument("-v", "--verbose", action="store_true", help="tell of every exchange, on stderr")
    group.add_argument("--no-colour", action="store_true", help="no colours (also NO_COLOR)")
    group.add_argument("--no-color", dest="no_colour", action="store_true", help=argparse.SUPPRESS)  # as others spell it
    group.add_argument("--presenting", action="store_true", help="mask identifiers and addresses too")
    group.add_argument("--debug", action="store_true", help="show tracebacks")
    return parser


def verbs_of(parser: argparse.ArgumentParser, dest: str = "verb", *, required: bool = True) -> Any:
    """Where a command's verbs are added; its help lists each with its line."""
    return parser.add_subparsers(dest=dest, metavar="VERB", required=required, title="verbs")


def verb_names(parser: argparse.ArgumentParser, command: str) -> list[str]:
    """The verbs of a command of the whole parser."""

    def inner(of: argparse.ArgumentParser) -> dict[str, argparse.ArgumentParser]:
        return next((dict(a.choices) for a in of._actions if isinstance(a, argparse._SubParsersAction)), {})

    return list(inner(inner(parser)[command]))


def charters(parser: argparse.ArgumentParser) -> None:
    """The arguments of commands that take several charters; `Context.charters` reads them."""
    parser.add_argument("charters", nargs="*", metavar="CHARTER", help="a charter's name, or its file")
    parser.add_argument("--all", action="store_true", help="all charters of the workspace")


def instant(text: str, where: str) -> datetime:
    """An RFC 3339 instant typed by somebody. Raises UsageError."""
    from sigillum.core.values.times import parse_instant

    try:
        return parse_instant(text)
    except ValueError as problem:
        raise UsageError(str(problem), where=where, mend="write it like 2027-03-01T08:00:00Z") from problem


def moment(text: str, where: str) -> tuple[datetime | None, int]:
    """An instant typed by somebody, or how many seconds later than now, like +80d. Raises UsageError."""
    if text.startswith("+"):
        return None, duration(text[1:], where)
    return (instant(text, where) if text else None), 0


def duration(text: str, where: str) -> int:
    """Seconds of a duration typed by somebody. Raises UsageError."""
    from sigillum.core.values.times import parse_duration

    try:
        return parse_duration(text)
    except ValueError as problem:
        raise UsageError(str(problem), where=where, mend="write 10m, 8h, 90d or ISO 8601 like PT10M") from problem


def waiting(parser: argparse.ArgumentParser) -> None:
    """The option of commands that can wait for a change; `Context.settings` reads it."""
    parser.add_argument(
        "--wait",
        metavar="DURATION",
        default="",
        help="wait so long for changes that are on their way: it tells *not yet* from *never*, and stops at once at the second",
    )


def resolve(given: argparse.Namespace, environment: Mapping[str, str] | None = None) -> Options:
    """Raises UsageError for a value that has no meaning."""
    environment = os.environ if environment is None else environment
    sources: dict[str, str] = {}

    def pick(name: str, variable: str) -> str | None:
        if hasattr(given, name):
            sources[name] = "flag"
            return str(getattr(given, name))
        if environment.get(variable):
            sources[name] = f"environment variable {variable}"
            return environment[variable]
        sources[name] = "default"
        return None

    workspace, timeout = pick("workspace", "SIGILLUM_WORKSPACE"), pick("timeout", "SIGILLUM_TIMEOUT")
    try:
        seconds = float(timeout) if timeout is not None else USUAL_TIMEOUT_SECONDS
        if not 0 < seconds <= 3600:
            raise ValueError
    except ValueError as problem:
        raise UsageError(
            f"{timeout!r} is not a number of seconds", where=sources["timeout"], mend="write a number above 0, 3600 at most"
        ) from problem
    no_colour = hasattr(given, "no_colour") or bool(environment.get("NO_COLOR"))
    return Options(
        Path(workspace) if workspace is not None else None,
        seconds,
        hasattr(given, "verbose"),
        hasattr(given, "debug"),
        not no_colour,
        hasattr(given, "presenting"),
        getattr(given, "format", USUAL_FORM),
        sources,
    )


def person(text: str) -> str:
    """Whose word it is. Raises ArgumentTypeError where nobody is named: an option without effect is refused."""
    if not text.strip():
        raise argparse.ArgumentTypeError("the person is not specified")
    return text.strip()


def ours(parser: argparse.ArgumentParser) -> None:
    """A person's word that ends a doubt; `said_ours` writes it down."""
    parser.add_argument(
        "--ours",
        type=person,
        default=None,
        metavar="WHO",
        help="whose word it is that Sigillum itself stopped what is in doubt",
    )


def answering(parser: argparse.ArgumentParser) -> None:
    """What a person may say to commands that make and end things at tenants; `Context.answered` reads it."""
    parser.add_argument(
        "--gone",
        action="store_true",
        help="what is to end, and was never shown since it was made, is surely not there: you looked",
    )
    parser.add_argument("--answers", type=Path, metavar="FILE", help="of a tenant by hand: what was done")
