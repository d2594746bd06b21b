"""Private files: what they do to folders, links and what a kill leaves behind."""

from __future__ import annotations

import os
import signal
import stat
from pathlib import Path

import pytest

from sigillum.core.values.errors import MachineError
from sigillum.core.values.secret import Secret
from sigillum.keeping.files import FileKeeping, NotKeptError
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


class Shelf:
    """A vault in memory that may lie."""

    def __init__(self) -> None:
        self.held: dict[str, str] = {}
        self.takes = True

    def get(self, name: str) -> str | None:
        return self.held.get(name)

    def put(self, name: str, content: str) -> None:
        if self.takes:
            self.held[name] = content

    def remove(self, name: str) -> None:
        self.held.pop(name, None)


def test_what_a_vault_holds_is_ours_or_is_not_used(tmp_path: Path) -> None:
    shelf = Shelf()
    keeping = FileKeeping(tmp_path / "uid", material, lambda where: shelf)
    shelf.takes = False
    with pytest.raises(MachineError, match="does not give it back"):
        keeping.keep_key("main", 1, "Ed25519", "keyring")
    assert not keeping.path("main", 1).exists()
    shelf.takes = True
    keeping.keep_key("main", 1, "Ed25519", "keyring")
    keeping.keep_key("main", 2, "Ed25519", "keyring")
    one, other = shelf.held["uid/main.1"], shelf.held["uid/main.2"]
    for wrong in ("", "{}", other, one.replace("uid/main.1", "x/main.1"), other.replace("main.2", "main.1")):
        shelf.held["uid/main.1"] = wrong
        with pytest.raises(NotKeptError):
            keeping.key("main", 1)
    shelf.held["uid/main.1"] = one
    assert keeping.key("main", 1)
    shelf.held |= {"uid/main.3": one.replace("main.1", "main.3"), "uid/main.4": one}  # left by a kill; and a stranger's
    assert keeping.swept("keyring", "main", range(1, 5)) == ["keyring: uid/main.3"]
    assert sorted(shelf.held) == ["uid/main.1", "uid/main.2", "uid/main.4"]
