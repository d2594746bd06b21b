"""What the documents say is run: every line, in its order, from a fresh workspace, as somebody would type it."""

from __future__ import annotations

import io
import os
import re
import shlex
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import pytest

from sigillum.cli.main import main

ROOT = Path(__file__).parents[2]
BLOCK = re.compile(r"^```(\w*)\n(.*?)^```", re.M | re.S)
SAYS = re.compile(r"in\s+`(?P<file>[\w./-]+\.yaml)`")
TRIED = "To try it"
EXIT = re.compile(r"\s+#\s*(?P<code>\d+):")


class Typed(NamedTuple):
    """A line to run with the exit code it must have, or a text for the end of a file (perhaps a new one)."""

    line: str
    code: int = 0
    file: str = ""


def typed(text: str) -> Iterator[Typed]:
    """The commands of a document, and the edits that it asks for: `in `FILE``, and then a block of YAML."""
    end = 0
    for block in BLOCK.finditer(text):
        before, end = text[end : block.start()], block.end()
        if block[1] == "yaml" and (says := list(SAYS.finditer(before))):
            yield Typed(block[2], file=says[-1]["file"])
        for line in block[2].replace("\\\n", " ").splitlines() if block[1] == "sh" else ():
            code = EXIT.search(line)
            if line.strip() and not line.startswith("make "):
                yield Typed(line, int(code["code"]) if code else 0)


class Person(io.StringIO):
    """Whoever sits at the terminal and says yes to everything."""

    def isatty(self) -> bool:
        return True

    def readline(self, size: int | None = -1) -> str:  # type: ignore[override]
        return "yes\n"


class Shell:
    """Runs lines in this process, as a shell would: `cd`, and what a command tells inside another one's line."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> None:
        self.capsys = capsys
        monkeypatch.setattr(sys, "stdin", Person())

    def run(self, one: Typed) -> None:
        if one.file:
            path = Path(one.file)
            path.write_text((path.read_text() if path.exists() else "") + one.line)
            return
        words = [re.sub(r"\$\((.*)\)", lambda told: self.tells(told[1]), word) for word in shlex.split(one.line, comments=True)]
        words = [
            found for word in words for found in ([str(p) for p in sorted(Path().glob(word))] if "/*/" in word else [word])
        ]
        if words[0] == "cd":
            os.chdir(words[1])
            return
        code, out = self.program(words)
        assert code == one.code, f"{one.line}: {code}\n{out}"
        assert "Traceback" not in out

    def program(self, words: list[str]) -> tuple[int, str]:
        assert words[0] == "sigillum", words
        if words[1] == "with":  # it may become the other program
            ran = subprocess.run([sys.executable, "-m", *words], capture_output=True, text=True)
            return ran.returncode, ran.stdout + ran.stderr
        self.capsys.readouterr()
        code = main(words[1:])
        told = self.capsys.readouterr()
        return code, told.out + told.err

    def tells(self, line: str) -> str:
        self.capsys.readouterr()
        assert main(shlex.split(line)[1:]) == 0
        return self.capsys.readouterr().out.strip()


def jobs() -> list[tuple[str, str]]:
    """The jobs of the guide: each begins as its first section says."""
    first, *sections = re.split(r"^## ", (ROOT / "docs" / "guide.md").read_text(), flags=re.M)
    return [(section.splitlines()[0], first + section) for section in sections]


def page(name: str) -> str:
    return (ROOT / "docs" / f"{name}.md").read_text()


FIRST = re.split(r"^## ", page("guide"), flags=re.M)[0]  # the workspace of the example, as the guide begins it
DOCUMENTS = [
    ("README", (ROOT / "README.md").read_text()),
    *((n, page(n)) for n in ("sandbox", "by-hand")),
    *((n, FIRST + page(n)[page(n).index(TRIED) :]) for n in ("refusals", "dialects", "keyless")),  # postgresql: `make real`
    *jobs(),
]


@pytest.mark.parametrize(("name", "text"), DOCUMENTS, ids=[name for name, _ in DOCUMENTS])
def test_every_line_runs_in_its_order(
    name: str, text: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(tmp_path)
    port, shell = 8000 + os.getpid() % 50_000, Shell(monkeypatch, capsys)
    lines = list(typed(re.sub(r"\b847\d\b", str(port), text)))
    assert any(one.line.startswith("sigillum ") for one in lines)
    try:
        for one in lines:
            shell.run(one)
            if one.line.startswith("sigillum init "):  # what the example says of its sandbox's port
                for file in tmp_path.glob("*/sigillum.yaml"):
                    file.write_text(re.sub(r"\b847\d\b", str(port), file.read_text()))
    finally:
        for folder in tmp_path.glob("**/.sigillum/sandbox"):
            main(["-w", str(folder.parents[1]), "sandbox", "stop"])


def test_a_newcomer_needs_few_commands_and_edits() -> None:
    """From an empty folder to a proof, in a world of one's own."""
    lines = list(typed((ROOT / "docs" / "sandbox.md").read_text()))
    path = lines[: next(n for n, one in enumerate(lines) if one.line.startswith("sigillum prove")) + 1]
    commands, edits = [one for one in path if not one.file], [one for one in path if one.file]
    assert (len(commands) <= 15, len(edits) <= 3) == (True, True)
