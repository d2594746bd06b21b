"""A result is a value, and one place gives it: each table in each form, and a form that is added is known to every command."""

from __future__ import annotations

import argparse
import ast
import csv
import io
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import sigillum.cli
from conftest import Desk, Sandbox
from sigillum.cli.forms import FORMS, Form, Out, Shown
from sigillum.cli.registry import COMMANDS
from sigillum.cli.running import _GOES_WITH, build
from sigillum.core.values.errors import UsageError

TABLES = [  # a command that gives one, and the list of it in JSON; empty where its rows lie deeper
    ("loans --all", "loans"),
    ("tenant list", "tenants"),
    ("dialect list", "dialects"),
    ("tenant places --tenant summit", "places"),
    ("requests", "requests"),
    ("ledger show", "changes"),
    ("ledger show --entries", "entries"),
    ("due --within 365d", "due"),
    ("delegations roster", "delegations"),
    ("trust links stationyard", "links"),
    ("key scan .", "found"),
    ("key attest wind-ingest", "looked"),
    ("rotate --status --all", "rotations"),
    ("rehearse wind-ingest", ""),
    ("prove wind-ingest", ""),
    ("enact wind-ingest --yes", ""),
    ("explain wind-ingest --matrix", ""),
]


def parsers(parser: argparse.ArgumentParser, path: str = "") -> Iterator[tuple[str, argparse.ArgumentParser]]:
    """Every command and verb with its parser."""
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for name, inner in action.choices.items():
                yield f"{path} {name}".strip(), inner
                yield from parsers(inner, f"{path} {name}".strip())


def test_an_option_has_one_meaning_and_one_value() -> None:
    """Wherever it stands it takes the same sort of value; given twice it is refused, but where it collects."""
    sorts: dict[str, set[Any]] = {}
    for _, parser in parsers(build(list(COMMANDS))):
        for action in parser._actions:
            for option in action.option_strings:
                sorts.setdefault(option, set()).add(action.metavar if action.nargs != 0 else "a flag")
    assert {o: s for o, s in sorts.items() if len(s) > 1} == {}
    for words, what in (
        ("lend r --at a --at b", "--at"),
        ("-w a due --workspace b", "--workspace"),
        ("due --format json --format csv", "--format"),
    ):
        with pytest.raises(UsageError, match=f"{what}.*given twice"):
            build([next(w for w in words.split() if w in COMMANDS)]).parse_args(words.split())
    assert (
        build(["lend"]).parse_args(["lend", "r", "--at", "a", "--at", "a", "--to", "b", "--for", "1h", "--because", "c"]).at
        == "a"
    )


def test_no_line_of_help_is_longer_than_people_read(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("COLUMNS", "300")
    root = build(list(COMMANDS))
    told = [(path, line) for path, parser in [("", root), *parsers(root)] for line in parser.format_help().splitlines()]
    assert [(path, line) for path, line in told if len(line) > 100] == []


def forms_of(parser: argparse.ArgumentParser) -> list[str]:
    return next((list(a.choices or ()) for a in parser._actions if a.dest == "format"), [])


def test_every_table_is_given_in_every_form(desk: Desk, sandbox: Sandbox) -> None:
    desk.know(sandbox.tenant("roster"), "roster", "lena.frost")
    desk.know(yard := sandbox.tenant("stationyard"), "stationyard", next(iter(yard.tokens)))
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    lend = "lend stream-reader --to wind-ingest --at brindlemoor/cameras --for 1h --yes --because trying"
    assert desk.run(*lend.split()).code == 0
    for command, name in TABLES:
        given = command.replace(" .", f" {desk.folder / '.sigillum'}").split()
        lines = list(csv.reader(io.StringIO(desk.run(*given, "--format", "csv").out)))
        assert lines and all(len(line) == len(lines[0]) for line in lines), command
        content = desk.run(*given, "--format", "json").json
        assert not name or len(content[name]) == len(lines) - 1, command
        assert desk.run(*given).out.strip() or not content.get(name), command
    with_tables = {path for path, inner in parsers(build(list(COMMANDS))) if "csv" in forms_of(inner)}
    tried = {" ".join(path.split()[:n]) for path, _ in TABLES for n in (1, 2)}
    assert with_tables - {"requests list", "rotate", "dialect accept"} <= tried  # a table that is added is tried here, too


def test_a_form_is_one_line(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    """Nothing but the registry knows which there are: one more is offered wherever there is a table, and nowhere else."""

    def count(shown: Shown, out: Out) -> None:
        assert shown.listing is not None
        out.document(f"{shown.kind} {len(shown.listing.items)}")

    monkeypatch.setitem(FORMS, "count", Form(count, tables=True))
    offered = {path: forms_of(inner) for path, inner in parsers(build(list(COMMANDS)))}
    assert all(("count" in forms) == ("csv" in forms) for forms in offered.values())
    assert desk.run("tenant", "list", "--format", "count").out == "tenants 1\n"
    assert desk.run("loans", "--format", "count").out == "loans 0\n"
    assert desk.run("init", "--format", "count").code == 2
    root = Path(sigillum.cli.__file__).parent
    asking = [p.name for p in root.rglob("*.py") for n in ast.walk(ast.parse(p.read_text())) if ast.unparse(n) == "args.format"]
    assert asking == []


def options() -> Iterator[tuple[list[str], argparse.Action, str]]:
    """Each option whose help says what it goes with: the words before it, and that."""
    for words, parser in leaves(build(list(COMMANDS))):
        for action in parser._actions:
            if needs := _GOES_WITH.match(action.help or ""):
                yield words, action, needs[1]


def leaves(parser: argparse.ArgumentParser, *words: str) -> Iterator[tuple[list[str], argparse.ArgumentParser]]:
    inner = next((a for a in parser._actions if isinstance(a, argparse._SubParsersAction)), None)
    if inner is None:
        yield list(words), parser
    for name, below in inner.choices.items() if inner is not None else ():
        yield from leaves(below, *words, name)


def test_what_help_says_an_option_goes_with_is_demanded(bare: Desk) -> None:
    found = list(options())
    assert len(found) >= 18
    for words, action, needs in found:
        parser = next(p for w, p in leaves(build(list(COMMANDS))) if w == words)
        known = {o for a in parser._actions for o in a.option_strings}
        assert {n.split(" ")[0] for n in needs.split(" or ")} <= known, (words, needs)
        others = [a for a in parser._actions if a.required or (not a.option_strings and a.nargs in (None, "+"))]
        others += [g._group_actions[0] for g in parser._mutually_exclusive_groups if g.required]
        value = [] if action.nargs == 0 else [next(iter(action.choices or ["7"]))]
        typed = [*words, action.option_strings[-1], *value]
        for other in others:
            typed += [*other.option_strings[-1:], *([] if other.nargs == 0 else [str(next(iter(other.choices or ["x"])))])]
        ran = bare.run(*typed)
        assert (ran.code, "has no effect without" in ran.err) == (2, True), (typed, ran.err)
