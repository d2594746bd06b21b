"""The program's entry: as little as possible before the first answer."""

from __future__ import annotations

import gc
import os
import sys

from sigillum import __version__

from .streams import make_whole, write

COLLECT_AFTER = 200_000  # objects
INTERRUPTED = 130  # as `core.values.errors.Outcome` has them, which is not loaded yet


def main(arguments: list[str] | None = None) -> int:
    """Run the program; returns its exit code."""
    arguments = sys.argv[1:] if arguments is None else arguments
    make_whole()
    if arguments == ["--version"]:
        write(sys.stdout, f"sigillum {__version__}\n")
        return 0
    if arguments[:2] == ["completion", "names"] and len(arguments) == 3:  # asked by a shell while somebody types
        from sigillum.charters.names import names

        write(sys.stdout, "".join(f"{name}\n" for name in names(arguments[2])))
        return 0
    # A command lives for a moment and makes thousands of lasting objects while it loads: collecting them early
    # finds nothing and costs a tenth of the start-up.
    gc.set_threshold(COLLECT_AFTER)
    try:
        from .running import Passed, run

        code = run(arguments)
        if code != INTERRUPTED or isinstance(code, Passed):
            return code
    except KeyboardInterrupt:  # even while it is still loading
        write(sys.stderr, "\n")
    write(sys.stderr, "Interrupted. Nothing is lost: run the same command again, and it goes on.\n")
    return INTERRUPTED


def program() -> None:
    """The installed program. Everything is closed when `main` returns; taking the interpreter apart piece by piece as well
    would cost a fifth of a short command.
    """
    code = main()
    os._exit(code)
