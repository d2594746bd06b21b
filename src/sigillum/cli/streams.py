"""Standard output and error, however odd (closed, broken, in a small alphabet): none of that loses a result or a code."""

from __future__ import annotations

import os
import sys
from io import TextIOWrapper

TYPE_CHECKING = False  # `typing` and `pathlib` are not loaded for a version or a broken pipe
if TYPE_CHECKING:
    from typing import TextIO


def make_whole() -> None:
    """What was closed becomes nothing (else the next file that is opened would take its number, and be written over);
    letters that a stream's alphabet does not have become question marks.
    """
    while (free := os.open(os.devnull, os.O_RDWR)) <= 2:
        pass
    os.close(free)
    for name in ("stdin", "stdout", "stderr"):
        if getattr(sys, name) is None:
            from pathlib import Path

            setattr(sys, name, Path(os.devnull).open("r" if name == "stdin" else "w", encoding="utf-8"))  # noqa: SIM115 (for good)
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, TextIOWrapper):
            stream.reconfigure(errors="replace")


def write(stream: TextIO, text: str) -> None:
    """Write and flush; where whoever read has gone, the rest is written to nowhere. Raises OSError for a full disk."""
    try:
        stream.write(text)
        stream.flush()
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())
