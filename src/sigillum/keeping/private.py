"""Private files: whole or not at all, 0600 in folders 0700, and refused where others can read them."""

from __future__ import annotations

import os
import stat
from pathlib import Path
from typing import Any

from sigillum.core.values.errors import MachineError
from sigillum.core.values.outside import json_of

MAX_BYTES = 1_000_000
FRESH = ".new"  # ends the name of a file that is not whole yet


def private_folder(path: Path) -> Path:
    """Make a folder that only its owner can enter; one that is there already keeps its rights. Raises MachineError."""
    try:
        for folder in (*reversed(path.parents), path) if not path.is_dir() else ():
            if not folder.exists():
                folder.mkdir(exist_ok=True, mode=0o700)
    except OSError as problem:
        raise MachineError(
            f"the folder cannot be made: {problem.strerror}",
            where=str(path),
            mend="make sure that you own it and that the disk has room",
        ) from problem
    return path


def guard(folder: Path) -> str:
    """Make sure that nobody else gets into a private folder; what was mended, in words. Raises MachineError where others may
    have written into it.
    """
    try:
        mode = stat.S_IMODE(folder.stat().st_mode)
        if mode & 0o022:
            raise MachineError(
                f"others may write into the private folder (mode {mode:04o}), and may have",
                where=str(folder),
                mend=f"find out who did; then `chmod 700 {folder}`, and `sigillum ledger verify`",
            )
        if not mode & 0o077:
            return ""
        folder.chmod(0o700)
    except FileNotFoundError:
        return ""
    except OSError as problem:
        raise MachineError(
            f"others may read the private folder, and that cannot be mended: {problem.strerror}",
            where=str(folder),
            mend="have its owner run `chmod 700`",
        ) from problem
    return f"{folder} could be read by others (mode {mode:04o}); it is mended"


def write_private(path: Path, text: str | bytes) -> None:
    """Write `text` durably: a new file, fsync, rename, fsync of the folder; a link of that name is replaced, never followed.

    Raises MachineError.
    """
    private_folder(path.parent)
    fresh = path.with_name(f".{path.name}{FRESH}")
    try:
        fresh.unlink(missing_ok=True)  # what a kill left behind
        handle = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
        with os.fdopen(handle, "wb") as file:
            file.write(text.encode() if isinstance(text, str) else text)
            file.flush()
            os.fsync(file.fileno())
        fresh.replace(path)
        sync_folder(path.parent)
    except OSError as problem:
        fresh.unlink(missing_ok=True)
        raise MachineError(
            f"the file cannot be written: {problem.strerror}",
            where=str(path),
            mend="free some space or mend the folder's rights, then run the same command again",
        ) from problem


def left_behind(folder: Path) -> list[Path]:
    """Files that were being written when somebody was killed; they may hold secrets, and nobody reads them any more."""
    return sorted(folder.glob(f".*{FRESH}"))


def sync_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def read_private(path: Path) -> str:
    """Read a file that must not be open to others. Raises MachineError."""
    try:
        with path.open(encoding="utf-8") as file:
            mode = stat.S_IMODE(os.fstat(file.fileno()).st_mode)
            if mode & 0o077:
                raise MachineError(
                    f"the file can be read by others (mode {mode:04o})",
                    where=str(path),
                    mend=f"run `chmod 600 {path}`, and replace what it holds if others may have seen it",
                )
            text = file.read(MAX_BYTES + 1)
    except (OSError, UnicodeDecodeError) as problem:
        raise MachineError(
            f"the file cannot be read: {getattr(problem, 'strerror', None) or 'not UTF-8 text'}",
            where=str(path),
            mend="check its path and rights",
        ) from problem
    if len(text) > MAX_BYTES:
        raise MachineError("the file is larger than a credential can be", where=str(path), mend="check the path")
    return text


def read_private_json(path: Path) -> dict[str, Any]:
    """The JSON object in a private file. Raises MachineError."""
    try:
        found = json_of(read_private(path))
    except ValueError as problem:
        raise MachineError("the file is not JSON", where=str(path), mend="restore it from a copy") from problem
    if not isinstance(found, dict):
        raise MachineError("the file does not hold a JSON object", where=str(path), mend="restore it from a copy")
    return found
