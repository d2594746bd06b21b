"""Files in memory: on no disk, in a folder that only its owner can enter, replaced by one rename; gone with the program."""

from __future__ import annotations

import os
import secrets
import shutil
from pathlib import Path

from sigillum.core.values.errors import MachineError
from sigillum.core.values.secret import Secret

MEMORY = ("tmpfs", "ramfs")  # file systems that live in memory
_NAME = "sigillum-with"


def places(mounts: str, wanted: list[str]) -> list[Path]:
    """Those of the wanted folders that lie on a file system in memory, as `/proc/mounts` tells."""
    kinds = {fields[1]: fields[2] for line in mounts.splitlines() if len(fields := line.split()) > 2}

    def kind(path: Path) -> str:
        return next((kinds[str(p)] for p in (path, *path.parents) if str(p) in kinds), "")

    return [path for path in map(Path, wanted) if kind(path) in MEMORY]


def _place() -> Path:
    """Where such a folder can stand on this machine. Raises MachineError."""
    try:
        mounts = Path("/proc/mounts").read_text(encoding="utf-8", errors="replace")
    except OSError:
        mounts = ""
    wanted = [w for w in (os.environ.get("XDG_RUNTIME_DIR", ""), "/dev/shm") if w]  # noqa: S108
    found = [p for p in places(mounts, wanted) if os.access(p, os.W_OK | os.X_OK)]
    if not found:
        raise MachineError(
            "this machine has no file system in memory that can be written to",
            where=", ".join(wanted),
            mend="a token can be given in the environment instead, which this user's programs can read",
        )
    return found[0]


class MemoryFolder:
    """One program's files in memory. What a killed program left is removed by the next one of the same user."""

    def __init__(self, place: Path | None = None) -> None:
        self._place = place if place is not None else _place()
        _clear(self._place)
        self.folder = self._place / f"{_NAME}-{os.getuid()}-{os.getpid()}-{secrets.token_hex(4)}"
        try:
            self.folder.mkdir(mode=0o700)
        except OSError as problem:
            raise MachineError(
                f"no folder can be made in memory: {problem.strerror}",
                where=str(self._place),
                mend="free some memory, then run the same command again",
            ) from problem

    def path(self, name: str) -> Path:
        return self.folder / name

    def write(self, name: str, value: Secret) -> Path:
        """Put a value there; who reads finds the old one or the new one, whole. Raises MachineError."""
        path, fresh = self.path(name), self.path(f".{name}")
        try:
            fresh.unlink(missing_ok=True)
            handle = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
            with os.fdopen(handle, "w") as file:
                file.write(value.reveal())
            fresh.replace(path)
        except OSError as problem:
            raise MachineError(
                f"nothing can be written in memory: {problem.strerror}",
                where=str(path),
                mend="free some memory, then run the same command again",
            ) from problem
        return path

    def remove(self) -> None:
        shutil.rmtree(self.folder, ignore_errors=True)


def _clear(place: Path) -> None:
    """Remove the folders of our own programs that are no more."""
    for folder in place.glob(f"{_NAME}-{os.getuid()}-*-*"):
        number = folder.name.split("-")[-2]
        if number.isdigit() and not folder.is_symlink() and folder.stat().st_uid == os.getuid() and not _runs(int(number)):
            shutil.rmtree(folder, ignore_errors=True)


def _runs(number: int) -> bool:
    try:
        os.kill(number, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
