"""A disk that is full, or read-only: what only reads works, what writes says what to do, and JSON is one document."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import Desk

READING = (
    "ledger show wind-ingest",
    "ledger verify",
    "ledger head",
    "due",
    "rehearse wind-ingest",
    "rehearse --all --strict",
    "explain wind-ingest stream.append brindlemoor/sensing-prod",
    "loans",
    "requests",
    "rotate --status",
    "tenant inspect summit",
    "handover wind-ingest",
    "charter check wind-ingest",
)
WRITING = ("enact other --yes", "suspend wind-ingest --because x --yes")


@pytest.fixture
def small(desk: Desk, tmp_path: Path) -> Iterator[Desk]:
    """The workspace on a file system of 4 MB."""
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    desk.charter((desk.folder / "charters" / "wind-ingest.yaml").read_text().replace("wind-ingest", "other"), "other")
    disk = tmp_path / "disk"
    disk.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=4m", "tmpfs", disk], check=False, capture_output=True).returncode:
        pytest.skip("no file system can be mounted here")
    try:
        shutil.copytree(desk.folder, disk / "house", ignore=shutil.ignore_patterns("sandbox"))
        shutil.copytree(desk.folder / ".sigillum", tmp_path / "private")  # where tokens of the sandbox are named by path
        yield Desk(disk / "house", desk.capture)
    finally:
        subprocess.run(["umount", "-l", disk], check=False)


def reads(small: Desk) -> None:
    for words in READING:
        ran = small.run(*words.split())
        assert (ran.code in (0, 1), "cannot be written" in ran.err, "Traceback" in ran.err) == (True, False, False), (
            words,
            ran.err,
        )


def test_what_only_reads_works_on_a_read_only_disk(small: Desk) -> None:
    subprocess.run(["mount", "-o", "remount,ro", small.folder.parent], check=True)
    reads(small)
    for words in WRITING:
        ran = small.run(*words.split(), "--format", "json")
        assert (ran.code, json.loads(ran.out)["exit"]) == (8, 8), (words, ran.out)
        assert "its file system is read-only: mount it for writing" in ran.err


def test_what_only_reads_works_on_a_full_disk_and_what_writes_goes_on_afterwards(small: Desk) -> None:
    fill = small.folder.parent / "fill"
    subprocess.run(["dd", "if=/dev/zero", f"of={fill}", "bs=1k"], check=False, capture_output=True)
    reads(small)
    for words in WRITING:
        ran = small.run(*words.split(), "--format", "json")
        assert (ran.code, json.loads(ran.out)["exit"]) == (8, 8), (words, ran.out)
        assert ("free some space" in ran.err, "ledger verify" in ran.err) == (True, False), ran.err
    os.truncate(fill, fill.stat().st_size - 160 * 1024)
    ran = small.run("enact", "other", "--yes", "--format", "json")  # it ends in the middle, or not at all
    assert (ran.code in (0, 8), "Traceback" in ran.err, next(iter(json.loads(ran.out)))) == (True, False, "version"), ran.err
    fill.unlink()
    assert small.run("enact", "other", "--yes").code == 0
    assert small.run("rehearse", "other", "--strict").code == 0


def test_a_private_folder_of_somebody_else_is_said_to_be_that(desk: Desk, tmp_path: Path) -> None:
    nobody = [shutil.which("setpriv") or "", "--reuid=65534", "--regid=65534", "--clear-groups"]
    house = desk.folder
    for folder in (house, *house.parents[:4]):
        folder.chmod(folder.stat().st_mode | 0o055)
    (house / ".sigillum").chmod(0o700)

    def run(*words: str) -> subprocess.CompletedProcess[str]:
        words = (*nobody, sys.executable, "-m", "sigillum", *words)
        return subprocess.run(words, cwd=house, check=False, capture_output=True, text=True, timeout=60)

    if not nobody[0] or os.getuid() or run("--version").returncode:
        pytest.skip("nobody else can run it here")
    assert run("charter", "check", "wind-ingest").returncode == 0
    for words in ("rehearse wind-ingest", "ledger show", "enact wind-ingest --yes", "due"):
        ran = run(*words.split())
        assert (ran.returncode, "belongs to the user" in ran.stderr, "Traceback" in ran.stderr) == (8, True, False), ran.stderr
