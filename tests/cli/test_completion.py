"""Completion in the shells themselves: commands, verbs, their options and values, each completed as somebody would type it."""

from __future__ import annotations

import os
import pty
import select
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest

from conftest import CHARTER, Desk

WANTED = [
    ("sigillum hando", {"handover"}),
    ("sigillum handover ", {"sheet", "open", "key", "received", "connected"}),
    ("sigillum sandbox world ch", {"check"}),
    ("sigillum handover open --rev", {"--reveal"}),
    ("sigillum ledger show --format c", {"csv"}),
    ("sigillum charter new --memb", {"--member", "--member-of"}),
    ("sigillum enact wind-", {"wind-ingest"}),
    ("sigillum rotate wind-ingest --credential inge", {"ingest-key"}),
    ("sigillum tenant inspect sum", {"summit"}),
    ("sigillum explain wind-ingest --tenant sum", {"summit"}),
    ("sigillum charter show wind-", {"wind-ingest"}),
    ("sigillum key read sigil", {"sigillum.yaml"}),
    ("sigillum handover sheet wind-ingest --seal-to sigil", {"sigillum.yaml"}),
]
TENANTS = """\
tenants:
  # the platform
  summit:
    address: https://summit.example/scim/v2
    admin: {name: ada.rusk, token: 'env:T'}
    admins:
      - {name: else, token: 'env:U'}
"""


@pytest.fixture
def house(bare: Desk, monkeypatch: pytest.MonkeyPatch) -> Desk:
    """A workspace in which somebody stands, with the program on the path."""
    file = bare.folder / "sigillum.yaml"
    file.write_text(file.read_text().replace("tenants: {}\n", TENANTS))
    bare.charter(CHARTER)
    monkeypatch.chdir(bare.folder)
    monkeypatch.setenv("PATH", f"{Path(sys.executable).parent}:{os.environ['PATH']}")
    return bare


BASH = """
source {script}
words=({line}); [[ "{line}" == *' ' ]] && words+=('')
COMP_WORDS=("${{words[@]}}"); COMP_CWORD=$(( ${{#COMP_WORDS[@]}} - 1 )); COMPREPLY=()
made=$(complete -p sigillum | sed 's/.*-F \\([^ ]*\\).*/\\1/'); $made sigillum "${{COMP_WORDS[-1]}}" "${{COMP_WORDS[-2]}}"
printf '%s\\n' "${{COMPREPLY[@]}}"
"""


def script(bare: Desk, shell: str, path: Path) -> Path:
    if shutil.which(shell) is None:
        pytest.skip(f"{shell} is not installed here")
    ran = bare.run("completion", shell)
    assert ran.code == 0
    path.write_text(ran.out)
    return path


def test_in_bash(house: Desk, tmp_path: Path) -> None:
    made = script(house, "bash", tmp_path / "c")
    for line, wanted in WANTED:
        told = subprocess.run(
            ["bash", "-c", BASH.format(script=made, line=line)], capture_output=True, text=True, check=True
        ).stdout
        assert set(told.split()) == wanted, (line, told)


def test_in_fish(house: Desk, tmp_path: Path) -> None:
    made = script(house, "fish", tmp_path / "c")
    for line, wanted in WANTED:
        told = subprocess.run(
            ["fish", "--no-config", "-c", f"source {made}; complete -C '{line}'"],
            capture_output=True,
            text=True,
            check=True,
            env={**os.environ, "HOME": str(tmp_path)},
        ).stdout
        assert {one.partition("\t")[0] for one in told.splitlines()} == wanted, (line, told)


def test_in_zsh(house: Desk, tmp_path: Path) -> None:
    script(house, "zsh", tmp_path / "_sigillum")
    process, ours = pty.fork()
    if process == 0:
        os.execvpe(
            "zsh", ["zsh", "-f", "-i"], {"PATH": os.environ["PATH"], "HOME": str(tmp_path), "TERM": "dumb", "PS1": "ready> "}
        )
    seen = bytearray()

    def until(text: str) -> None:
        end = time.monotonic() + 60
        while text.encode() not in seen and time.monotonic() < end:
            if select.select([ours], [], [], 0.1)[0]:
                seen.extend(os.read(ours, 65536))
        assert text.encode() in seen, bytes(seen)
        del seen[: seen.index(text.encode()) + len(text)]

    try:
        os.write(
            ours,
            b"fpath=("
            + str(tmp_path).encode()
            + b" $fpath); autoload -Uz compinit; compinit -u -D; setopt no_beep; print beg''un\n",
        )
        until("begun")
        until("ready> ")
        for line, wanted in WANTED:
            if len(wanted) > 1:  # of several it completes what they share, and lists them
                continue
            word = next(iter(wanted))
            os.write(ours, f"{line}\t".encode())
            until(word[len(line.rpartition(" ")[2]) :] if not word.startswith("-") else word)
            os.write(ours, b"\x15print -r -- don''e\n")
            until("done\r\n")
            until("ready> ")
    finally:
        os.close(ours)
        os.waitpid(process, 0)
