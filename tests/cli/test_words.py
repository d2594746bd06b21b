"""What the program says of itself: help, the README, the demo, completion, the stable form of its JSON."""

from __future__ import annotations

import argparse
import re
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import Desk
from sigillum import __version__
from sigillum.cli.options import resolve
from sigillum.cli.registry import COMMANDS, command_of
from sigillum.cli.running import build, split, with_verb
from sigillum.cli.scenes import chapters

ROOT = Path(__file__).parents[2]
README = (ROOT / "README.md").read_text()


@pytest.mark.parametrize("command", COMMANDS)
def test_help_with_an_example(bare: Desk, command: str) -> None:
    ran = bare.run(command, "-h")
    assert ran.code == 0
    assert "example" in ran.out
    assert f"sigillum {command}" in ran.out
    assert "Traceback" not in ran.err


def test_the_readme_shows_the_help_of_today(bare: Desk) -> None:
    shown = subprocess.run(
        [sys.executable, "-m", "sigillum", "-h"], capture_output=True, text=True, env={"COLUMNS": "100", "PATH": ""}, check=True
    ).stdout
    block = re.search(r"```text\n(usage: sigillum.*?)```", README, re.S)
    assert block is not None
    assert block[1] == shown


def test_every_command_in_the_readme_and_docs_is_understood() -> None:
    parser = build(list(COMMANDS))
    texts = [README, *(p.read_text() for p in (ROOT / "docs").glob("*.md"))]
    commands = [
        line.strip().removeprefix("$ ")
        for text in texts
        for block in re.findall(r"```sh\n(.*?)```", text, re.S)
        for line in block.replace("\\\n", " ").splitlines()
        if line.strip().removeprefix("$ ").startswith("sigillum ")
    ]
    assert len(commands) >= 12
    for command in commands:
        import shlex

        words = shlex.split(command, comments=True)[1:]
        if words != ["-h"]:
            name = command_of(words)
            assert name is not None, command
            parser.parse_args(with_verb(name, split(name, words)[0]))


def test_screenshots_are_there_and_linked() -> None:
    shots = {p.name for p in (ROOT / "docs" / "screenshots").glob("*.png")}
    assert set(re.findall(r"screenshots/([\w-]+\.png)", README)) == shots
    assert 4 <= len(shots) < 20


def test_the_demo_has_chapters(bare: Desk) -> None:
    listed = bare.run("demo", "--list").out
    assert [line.split()[0] for line in listed.splitlines()] == list(chapters())
    wrong = bare.run("demo", "clint")
    assert (wrong.code, "did you mean clients?" in wrong.err) == (2, True)


def test_the_demo_plays_to_its_end_and_leaves_nothing_running(tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "sigillum", "demo", "--folder", "played"],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        timeout=300,
        stdin=subprocess.DEVNULL,
    )
    assert done.returncode == 0, done.stdout[-2000:] + done.stderr
    for told in (
        "did you mean `role`?",
        "Stopping. What is under way is finished first",
        "4 proofs held",
        "window-ended",
        "lent stream-keeper at",
        "The sandbox has ended.",
        "What was played stays in played",
        "sigillum demo clients",
    ):
        assert told in done.stdout, told
    assert not (tmp_path / "played" / ".sigillum" / "sandbox" / "running.json").exists()
    again = subprocess.run(
        [sys.executable, "-m", "sigillum", "demo", "--folder", "played"],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )
    assert (again.returncode, "the folder is there already" in again.stderr) == (8, True)


def test_the_version_and_the_overview(bare: Desk) -> None:
    assert bare.program("--version").out == f"sigillum {__version__}\n"
    overview = bare.program("-h")
    assert (overview.code, all(c in overview.out for c in COMMANDS)) == (0, True)
    assert bare.program().code == 2
    assert command_of(["-v", "--timeout", "3", "enact", "x"]) == "enact"


def test_options_mean_the_same_before_and_after_the_command(desk: Desk) -> None:
    before, after = desk.run("-v", "tenant", "inspect", "summit"), desk.run("tenant", "inspect", "summit", "-v")
    assert sorted(line.split(" ")[0] for line in before.err.splitlines()) == sorted(
        line.split(" ")[0] for line in after.err.splitlines()
    )
    given = build(["rehearse"]).parse_args(["--timeout", "3", "rehearse", "x"])
    options = resolve(given, {"SIGILLUM_TIMEOUT": "9", "SIGILLUM_WORKSPACE": "/w", "NO_COLOR": "1"})
    assert (options.timeout_seconds, str(options.workspace), options.colour) == (3, "/w", False)
    assert options.sources == {"workspace": "environment variable SIGILLUM_WORKSPACE", "timeout": "flag"}


def test_the_json_keeps_its_form(desk: Desk) -> None:
    rehearsal = desk.run("rehearse", "wind-ingest", "--format", "json").json
    assert (rehearsal["version"], rehearsal["kind"]) == (1, "rehearsal")
    charter = rehearsal["charters"][0]
    assert list(charter) == ["charter", "tenant", "tenant_time", "steps", "notes", "mistakes", "undecided", "taken", "summary"]
    assert list(charter["steps"][0]) == [
        "id",
        "step",
        "tenant",
        "facet",
        "name",
        "about",
        "generation",
        "needs",
        "power",
        "why",
        "before",
        "after",
    ]
    enacted = desk.run("enact", "wind-ingest", "--yes", "--format", "json").json["charters"][0]
    assert list(enacted) == ["charter", "outcome", "summary", "steps", "proofs"]
    assert list(enacted["proofs"]) == [
        "charter",
        "principal",
        "ran_as",
        "credential",
        "held",
        "proofs",
        "before",
        "before_why",
        "waited_seconds",
    ]
    entry = desk.run("ledger", "show", "--entries", "--format", "json").json["entries"][-1]
    assert set(entry) == {
        "version",
        "stream",
        "sequence",
        "previous",
        "at",
        "writer",
        "key_id",
        "kind",
        "charter",
        "body",
        "hash",
        "signature",
    }


def test_a_command_with_verbs_lists_each_with_a_line(bare: Desk) -> None:
    def verbs(parser: argparse.ArgumentParser, name: str) -> None:
        for action in parser._actions:
            if isinstance(action, argparse._SubParsersAction):
                told = {a.dest: a.help for a in action._choices_actions}
                assert set(told) == set(action.choices) and all(told.values()), name
                for verb, inner in action.choices.items():
                    verbs(inner, f"{name} {verb}")

    verbs(build(list(COMMANDS)), "sigillum")
    for command in ("handover", "requests", "sandbox", "charter", "tenant", "ledger"):
        assert "verbs:" in bare.run(command, "-h").out
    assert "--connection" in bare.run("handover", "connected", "-h").out


def test_what_is_packed_holds_tests_and_docs() -> None:
    packed = (ROOT / "MANIFEST.in").read_text()
    tracked = subprocess.run(["git", "ls-files"], cwd=ROOT, capture_output=True, text=True, check=True).stdout.split("\n")
    for top in {line.partition("/")[0] for line in tracked if line} - {
        ".gitignore",
        ".git-blame-ignore-revs",
        ".ci",
        "src",
        "pyproject.toml",
        "MANIFEST.in",
    }:
        assert re.search(rf"^(graft {top}$|include .*\b{top}\b)", packed, re.M), top
