"""What a command is given: a file by its name, or standard input."""

from __future__ import annotations

import sys
from pathlib import Path

from sigillum.core.values.errors import FileError


def data_of(file: str, most: int) -> bytes:
    """The bytes of a file, or of standard input (`-`); of a bigger one, one byte more than `most`. Raises FileError."""
    try:
        if file == "-":
            return sys.stdin.buffer.read(most + 1)
        with Path(file).open("rb") as opened:
            return opened.read(most + 1)
    except OSError as problem:
        raise FileError(
            f"the file cannot be read: {problem.strerror}", where=file, mend="check its path and rights"
        ) from problem
