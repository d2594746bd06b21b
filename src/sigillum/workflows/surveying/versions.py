"""Every version of every file that a git repository holds: what was removed from a folder is still there."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import IO

OBJECTS = "objects"  # the folder of a repository where they are
MOST_BYTES = 5_000_000  # of one file; a larger one is left out, and that is said
# nothing is fetched, and nothing of the user's own settings counts: only what is in the folder is read
QUIET = {
    "GIT_CONFIG_NOSYSTEM": "1",
    "GIT_CONFIG_GLOBAL": os.devnull,
    "GIT_NO_LAZY_FETCH": "1",
    "GIT_TERMINAL_PROMPT": "0",
    "GIT_OPTIONAL_LOCKS": "0",
    "GIT_NO_REPLACE_OBJECTS": "1",
}
NEVER = ("-c", "protocol.allow=never", "-c", "core.fsmonitor=false")


def versions(repository: Path, path: str) -> Iterator[tuple[str, bytes | str]]:
    """The content of each object of a repository, or why it is not read. `path`: where its objects are."""
    git = shutil.which("git")
    if git is None:
        yield path, "a repository, and `git` is not installed to read it"
        return
    command = [
        git,
        *NEVER,
        "--git-dir",
        str(repository.absolute()),
        "cat-file",
        "--batch-all-objects",
        "--batch",
        "--buffer",
        "--unordered",
    ]
    inherited = {n: v for n, v in os.environ.items() if not n.startswith("GIT_")}
    with subprocess.Popen(  # noqa: S603 - a fixed program, and no word of anybody else
        command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env={**inherited, **QUIET}
    ) as running:
        assert running.stdout is not None
        try:
            yield from _objects(running.stdout, path)
            if running.wait() != 0:
                yield path, "a repository that `git` cannot read"
        finally:
            running.kill()


def _objects(stream: IO[bytes], path: str) -> Iterator[tuple[str, bytes | str]]:
    """Files, commits and tags; a folder's listing holds names alone."""
    while len(header := stream.readline(200).split()) == 3:
        name, sort, size = header[0].decode("ascii", "replace"), header[1], int(header[2])
        where = f"{path}:{name[:12]}"
        if sort == b"tree" or size > MOST_BYTES:
            _skip(stream, size)
            if sort != b"tree":
                yield where, f"it is larger than {MOST_BYTES // 1_000_000} MB"
        else:
            yield where, stream.read(size)
        stream.read(1)


def _skip(stream: IO[bytes], size: int) -> None:
    while size > 0 and (part := stream.read(min(size, 1 << 20))):
        size -= len(part)
