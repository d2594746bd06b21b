"""The program: finds the command, loads only its module, and turns errors into text and exit codes."""

from __future__ import annotations

import gc
import sys
from importlib import import_module

from sigillum import __version__

COLLECT_AFTER = 200_000  # objects

# name -> what it is for; the order is that of an administrator's day.
COMMANDS = {
    "init": "begin a workspace",
    "demo": "play the demo: every command, for real, against simulated tenants",
    "sandbox": "start, stop and disturb the simulated tenants",
    "tenant": "add, list and inspect tenants",
    "charter": "write, check, show and rename charters",
    "rehearse": "say what enacting would do, in order, and what would go wrong",
    "enact": "rehearse, ask, carry out, read back and prove",
    "prove": "sign in as the identity and try what must work and what must not",
    "ledger": "show and verify what was done, and where the ledger stands",
    "completion": "print shell completion for bash, zsh or fish",
}


def command_of(arguments: list[str]) -> str | None:
    """The command among the arguments: the first that is no option and no option's value."""
    from .options import VALUED
    skip = False
    for argument in arguments:
        if skip:
            skip = False
        elif argument in VALUED:
            skip = True
        elif not argument.startswith("-"):
            return argument
    return None


def main(arguments: list[str] | None = None) -> int:
    """Run the program; returns its exit code."""
    arguments = sys.argv[1:] if arguments is None else arguments
    if arguments == ["--version"]:
        sys.stdout.write(f"sigillum {__version__}\n")
        return 0
    # A command lives for a moment and makes thousands of lasting objects while it loads: collecting them early
    # finds nothing and costs a tenth of the start-up.
    gc.set_threshold(COLLECT_AFTER)
    from .running import run
    return run(arguments)


def load(name: str) -> object:
    """The module of a command."""
    return import_module(f"sigillum.cli.commands.{name}")
