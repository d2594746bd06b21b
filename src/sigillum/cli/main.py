"""The program's entry: as little as possible before the first answer."""

from __future__ import annotations

import gc
import sys

from sigillum import __version__

COLLECT_AFTER = 200_000  # objects
INTERRUPTED = 130


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
