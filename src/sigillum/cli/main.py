"""The program's entry: as little as possible before the first answer."""

from __future__ import annotations

import gc
import os
import sys

from sigillum import __version__

COLLECT_AFTER = 200_000  # objects
INTERRUPTED, MACHINE = 130, 8  # as `core.values.errors.Outcome` has them, which is not loaded yet


def main(arguments: list[str] | None = None) -> int:
    """Run the program; returns its exit code."""
    arguments = sys.argv[1:] if arguments is None else arguments
    if arguments == ["--version"]:
        sys.stdout.write(f"sigillum {__version__}\n")
        return 0
    # A command lives for a moment and makes thousands of lasting objects while it loads: collecting them early
    # finds nothing and costs a tenth of the start-up.
    gc.set_threshold(COLLECT_AFTER)
    try:
        from .running import run
        return run(arguments)
    except KeyboardInterrupt:  # even while it is still loading
        sys.stderr.write("\nInterrupted. Nothing is lost: run the same command again, and it goes on.\n")
        return INTERRUPTED


def program() -> None:
    """The installed program. Everything is closed when `main` returns; taking the interpreter apart piece by piece as well
    would cost a fifth of a short command.
    """
    code = main()
    try:
        sys.stdout.flush()
        sys.stderr.flush()
    except OSError:  # whoever read has gone
        code = code or MACHINE
    os._exit(code)
