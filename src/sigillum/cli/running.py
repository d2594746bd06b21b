"""Parsing, dispatch, and the one place where errors become text."""

from __future__ import annotations

import argparse
import json
import re
import shutil
import sys
from collections.abc import Iterator
from itertools import pairwise
from typing import Any, NoReturn, Protocol, cast

from sigillum import __version__
from sigillum.core.values.errors import FileError, MachineError, Outcome, Position, SigillumError, UsageError
from sigillum.core.values.secret import masked
from sigillum.core.values.text import did_you_mean, visible

from .context import Context
from .forms import JSON_VERSION
from .options import GIVEN, NO_FORM, common, once, resolve
from .registry import COMMANDS, command_of, load
from .streams import write

EPILOG = """\
Begin with `sigillum demo`, or with `sigillum init` in a new folder.
`sigillum COMMAND -h` explains each command with an example.

exit codes: 0 done, and as wished · 1 done, and the answer is no · 2 usage · 3 a file of yours is wrong ·
4 the tenant refused · 5 the tenant could not be reached in time · 6 somebody else must act first ·
7 not yet · 8 trouble on this machine · 130 interrupted"""


THUMBPRINT_LENGTH = 43  # SHA-256 in base64url without padding (RFC 7638)


class Passed(int):
    """The exit code of another program, which is passed on and means what that says."""


class Command(Protocol):
    """What each module in `commands` offers."""

    def add_parser(self, subparsers: Any) -> None:
        """Describe the command's arguments."""
        ...

    def run(self, args: argparse.Namespace, context: Context) -> Outcome:
        """Do it."""
        ...


class _Lines(argparse.RawDescriptionHelpFormatter):
    """Examples as they stand, and no line longer than people read, or than the terminal is wide."""

    def __init__(self, prog: str, **more: Any) -> None:
        super().__init__(prog, **{"width": min(shutil.get_terminal_size().columns - 2, WIDEST), **more})

    def _fill_text(self, text: str, width: int, indent: str) -> str:
        paragraphs, lines = list[list[str]](), text.splitlines()
        for line in lines:  # prose is laid out anew; an example is a line
            if paragraphs and paragraphs[-1] and _prose(line) and _prose(paragraphs[-1][-1]):
                paragraphs[-1].append(line)
            else:
                paragraphs.append([line])
        return "\n".join(part for p in paragraphs for part in _folded([indent + line for line in p], width))


WIDEST = 100  # columns of help
_GOES_WITH = re.compile(r"with (--[a-z-]+(?: [a-z-]+)?(?: or --[a-z-]+(?: [a-z-]+)?)*)(?::|$)")  # how a help begins
_EXAMPLE = re.compile(r"(  \S.*?\S)\s{2,}(\S.*)")  # a command, and what it does
_WORD = re.compile(r"(?:--[a-z-]+ )?(?:'[^']*'|[^\s'])+")  # of a command; an option and its value stay together


def _prose(line: str) -> bool:
    return bool(line.strip()) and not line.startswith("  ")


def _folded(lines: list[str], most: int) -> list[str]:
    """What a command does goes under it, where both do not fit; a longer command goes on after a backslash."""
    from textwrap import wrap

    if max(map(len, lines)) <= (most if _prose(lines[0]) else WIDEST):
        return lines
    if _prose(lines[0]):
        return wrap(" ".join(lines), most)
    found = _EXAMPLE.match(lines[0])
    command, about = found.groups() if found is not None else (lines[0], "")
    parts = [""]
    for word in _WORD.findall(command):
        if len(parts[-1]) + len(word) > WIDEST - 5:
            parts.append("    ")
        parts[-1] += f" {word}"
    under = wrap(about, WIDEST, initial_indent=" " * 6, subsequent_indent=" " * 6)
    return [*(f" {p} \\" for p in parts[:-1]), f" {parts[-1]}", *under]


class Parser(argparse.ArgumentParser):
    """argparse, with errors in our three parts, and help that comes through any stream."""

    def __init__(self, **more: Any) -> None:
        more.setdefault("formatter_class", _Lines)
        super().__init__(allow_abbrev=False, **more)
        once(self)

    def parse_args(self, *args: Any, **more: Any) -> Any:
        GIVEN.clear()
        return super().parse_args(*args, **more)

    def _print_message(self, message: str, file: Any = None) -> None:
        if message:
            write(file or sys.stderr, message)

    def error(self, message: str) -> NoReturn:
        raise UsageError(message, where=self.prog, mend=f"`{self.prog} -h` explains it with an example")


def build(names: list[str]) -> Parser:
    """The program's parser with the commands named: one for running, all for help and completion."""
    parser = Parser(prog="sigillum", description="Charters for machine identities.", epilog=EPILOG, parents=[common(NO_FORM)])
    parser.add_argument("--version", action="version", version=f"sigillum {__version__}")
    subparsers = parser.add_subparsers(dest="command", metavar="COMMAND", required=True, parser_class=Parser)
    for name in names:
        cast(Command, load(name)).add_parser(_Helpful(subparsers))
    return parser


class _Helpful:
    """Adds commands with the line that the overview has of them: completion shows those that have one."""

    def __init__(self, subparsers: Any) -> None:
        self._subparsers = subparsers

    def add_parser(self, name: str, **more: Any) -> Any:
        return self._subparsers.add_parser(name, help=COMMANDS[name], **more)


def _overview() -> str:
    """What `sigillum -h` shows, without loading any command."""
    parser = Parser(
        prog="sigillum",
        description="Charters for machine identities.",
        epilog=EPILOG,
        parents=[common(NO_FORM)],
        usage="sigillum [options] COMMAND ...",
    )
    subparsers = parser.add_subparsers(title="commands", metavar="COMMAND", parser_class=Parser)
    for name, about in COMMANDS.items():
        subparsers.add_parser(name, help=about, add_help=False)
    return parser.format_help()


def run(arguments: list[str]) -> int:
    """Run the program with these arguments; returns its exit code."""
    own = arguments[: arguments.index("--")] if "--" in arguments else arguments
    debug = "--debug" in own
    try:
        return _dispatch(arguments)
    except SystemExit as end:  # argparse after -h, or another program's exit code
        return end.code if isinstance(end.code, Passed) else int(end.code or 0)
    except Exception as problem:
        if debug:
            raise
        known = _known(problem)
        write(sys.stderr, visible(masked(tell(known))))
        if _wants_json(own):
            from .views.hints import problem_json

            told = json.dumps({"version": JSON_VERSION, "kind": "problem", **problem_json(known)}, indent=1)
            write(sys.stdout, masked(told) + "\n")
        return int(known.outcome)


def _wants_json(arguments: list[str]) -> bool:
    """Was JSON asked for? Looked for in what was typed, since that may be what cannot be understood."""
    return "--format=json" in arguments or any(pair == ("--format", "json") for pair in pairwise(arguments))


def _dispatch(arguments: list[str]) -> int:
    name = command_of(arguments)
    if name is None:
        return _without_command(arguments)
    if name not in COMMANDS:
        raise UsageError(f"there is no command {name!r}", where="sigillum", mend=did_you_mean(name, COMMANDS))
    own, another = split(name, arguments)
    parser = build([name])
    args = parser.parse_args(list(_joined(with_verb(name, own))))
    _belong_together(_leaf(parser, name, getattr(args, "verb", None)), args)
    args.another = another
    context = Context(resolve(args))
    try:
        code = int(cast(Command, load(name)).run(args, context))
        context.left_over()
        return code
    finally:
        context.close()


def _leaf(parser: argparse.ArgumentParser, *names: str | None) -> argparse.ArgumentParser:
    """The parser of a command, or of its verb."""
    for name in names:
        inner = next((a for a in parser._actions if isinstance(a, argparse._SubParsersAction)), None)
        parser = inner.choices.get(name or "", parser) if inner is not None else parser
    return parser


def _belong_together(parser: argparse.ArgumentParser, args: argparse.Namespace) -> None:
    """What the help of an option says it goes with has to be there: without, it would have no effect. Raises UsageError."""
    by_name = {o: a for a in parser._actions for o in a.option_strings}

    def given(action: argparse.Action) -> bool:
        return bool(getattr(args, action.dest, action.default) != action.default)

    for action in parser._actions:
        needs = _GOES_WITH.match(action.help or "") if action.option_strings and given(action) else None
        if needs is None:
            continue
        others = [one.split(" ") for one in needs[1].split(" or ")]
        for option, *value in others:
            other = by_name[option]
            if getattr(args, other.dest) == value[0] if value else given(other):
                break
        else:
            option = action.option_strings[-1]
            raise UsageError(
                f"{option} has no effect without {needs[1]}", where=option, mend=f"write {needs[1]}, or leave it out"
            )


def split(name: str, arguments: list[str]) -> tuple[list[str], list[str]]:
    """The arguments of ours, and what stands behind `--`, for a command that runs another program."""
    if not getattr(load(name), "RUNS_ANOTHER", False) or "--" not in arguments:
        return arguments, []
    at = arguments.index("--")
    return arguments[:at], arguments[at + 1 :]


def with_verb(name: str, arguments: list[str]) -> list[str]:
    """A command that has a usual verb gets it where none is typed."""
    usual, at = getattr(load(name), "USUAL_VERB", ""), arguments.index(name) + 1
    if not usual or arguments[at : at + 1] in (["-h"], ["--help"]):
        return arguments
    from .options import verb_names

    parser = build([name])
    return (
        arguments
        if arguments[at : at + 1] and arguments[at] in verb_names(parser, name)
        else [*arguments[:at], usual, *arguments[at:]]
    )


def _joined(arguments: list[str]) -> Iterator[str]:
    """A thumbprint can begin with a dash (RFC 4648 §5), which argparse would take for an option; behind `--` it takes none."""
    whole = list[str]()
    for argument in arguments:
        thumbprint = len(argument) == THUMBPRINT_LENGTH and argument.startswith("-")
        if thumbprint and whole and "--" not in whole and whole[-1].startswith("--") and "=" not in whole[-1]:
            whole[-1] += f"={argument}"
        else:
            whole.append(argument)
    yield from whole


def _without_command(arguments: list[str]) -> int:
    if not arguments or {"-h", "--help"} & set(arguments):
        write(sys.stdout, _overview())
        return int(Outcome.DONE if arguments else Outcome.USAGE)
    if "--version" in arguments:
        write(sys.stdout, f"sigillum {__version__}\n")
        return 0
    raise UsageError("no command is given", where="sigillum", mend="`sigillum -h` lists them")


def _known(problem: Exception) -> SigillumError:
    """Any error as one of ours."""
    if isinstance(problem, SigillumError):
        return problem
    if isinstance(problem, OSError):
        return MachineError(
            f"{problem.strerror or problem}",
            where=str(problem.filename or ""),
            mend="mend that, then run the same command again",
        )
    return MachineError(
        f"this is a fault of ours ({type(problem).__name__})", mend="run it again with --debug and report what it shows"
    )


def tell(problem: SigillumError) -> str:
    """An error in its three parts: what, where, what to do; or every mistake of a file."""
    if isinstance(problem, FileError) and problem.mistakes:
        from .views.hints import advised

        lines = []
        for mistake in sorted(problem.mistakes, key=lambda m: m.position or Position("")):
            where = str(mistake.position or problem.where)
            lines.append(f"{f'{where}: ' if where else ''}{mistake.what}\n    {advised(mistake.code, mistake.mend)}\n")
        count = len(problem.mistakes)
        return "".join(lines) + f"{count} mistake{'s' if count != 1 else ''}. Nothing was done.\n"
    text = f"sigillum: {problem.what}\n"
    text += f"  where  {problem.where}\n" if problem.where else ""
    return text + (f"  do     {problem.mend}\n" if problem.mend else "")
