"""Private files: what they do to folders, links and what a kill leaves behind."""

from __future__ import annotations

import os
import signal
import stat
from pathlib import Path

import pytest

from sigillum.core.values.errors import MachineError
from sigillum.core.values.secret import Secret
from sigillum.keeping.files import FileKeeping
from sigillum.keeping.private import left_behind, read_private, write_private
from sigillum.keeping.vaults import Keyring
from sigillum.keys import material


def mode(path: Path) -> int:
    return stat.S_IMODE(path.stat().st_mode)


def test_a_folder_that_we_did_not_make_keeps_its_rights(tmp_path: Path) -> None:
    theirs = tmp_path / "theirs"
    theirs.mkdir()
    theirs.chmod(0o755)
    write_private(theirs / "mine" / "deep" / "key.json", "x")
    assert [
        mode(theirs),
        mode(theirs / "mine"),
        mode(theirs / "mine" / "deep"),
        mode(theirs / "mine" / "deep" / "key.json"),
    ] == [0o755, 0o700, 0o700, 0o600]


def test_a_link_is_replaced_and_never_written_through(tmp_path: Path) -> None:
    for name in ("key.json", ".key.json.new"):
        (tmp_path / name).symlink_to(tmp_path / "elsewhere")
    write_private(tmp_path / "key.json", "secret")
    assert (read_private(tmp_path / "key.json"), (tmp_path / "key.json").is_symlink(), (tmp_path / "elsewhere").exists()) == (
        "secret",
        False,
        False,
    )
    assert left_behind(tmp_path) == []


def test_what_a_kill_left_half_written_goes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    keeping = FileKeeping(tmp_path, material, lambda where: Keyring())
    child = os.fork()
    if not child:
        monkeypatch.setattr(os, "fsync", lambda handle: os.kill(os.getpid(), signal.SIGKILL))
        keeping.keep_secret("tok", 1, Secret("verysecret"), {})
        os._exit(0)
    assert os.WTERMSIG(os.waitpid(child, 0)[1]) == signal.SIGKILL
    assert ([p.read_text() != "" for p in left_behind(tmp_path)], keeping.held()) == ([True], {})
    keeping.clear()
    assert (left_behind(tmp_path), list(tmp_path.iterdir())) == ([], [])
    keeping.keep_secret("tok", 1, Secret("verysecret"), {"tenant": "away"})
    assert (keeping.held(), keeping.secret("tok", 1), keeping.about("tok", 1)["tenant"]) == (
        {("tok", 1): "secret"},
        Secret("verysecret"),
        "away",
    )


def test_a_file_that_others_can_read_is_not_read(tmp_path: Path) -> None:
    path = tmp_path / "key.json"
    write_private(path, "x")
    path.chmod(0o640)
    with pytest.raises(MachineError, match="can be read by others"):
        read_private(path)
