"""`sigillum completion`"""

from __future__ import annotations

import argparse
from typing import Any

from sigillum.cli.context import Context
from sigillum.cli.options import NO_FORM, common
from sigillum.core.values.errors import Outcome

EXAMPLE = """examples:
  sigillum completion bash > ~/.local/share/bash-completion/completions/sigillum
  sigillum completion zsh > ~/.zfunc/_sigillum"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "completion", parents=[common(NO_FORM)], epilog=EXAMPLE, description="Print a completion script for your shell."
    )
    parser.add_argument("shell", choices=("bash", "zsh", "fish"))


def run(args: argparse.Namespace, context: Context) -> Outcome:
    import shtab

    from sigillum.cli.registry import COMMANDS
    from sigillum.cli.running import build

    parser = build(list(COMMANDS))
    _complete(parser)
    context.document(shtab.complete(parser, shell=args.shell))
    return Outcome.DONE


NAMES = {"CHARTER": "charters", "TENANT": "tenants", "CLUSTER": "tenants", "CREDENTIAL": "credentials", "WHO": "charters"}
FILES, FOLDERS = ("FILE", "PATH"), ("DIR", "FOLDER")


def _names(kind: str) -> dict[str, Any]:
    """How each shell asks for names, and only when it needs them: a function in bash and zsh, a command in fish."""
    function, command = f"_sigillum_{kind}", f"sigillum completion names {kind} 2>/dev/null"
    return {
        "bash": function,
        "zsh": function,
        "fish": f"({command})",
        "preamble": {
            "bash": f'{function}() {{ compgen -W "$({command})" -- "$1"; }}',
            "zsh": f'{function}() {{ compadd -- ${{(f)"$({command})"}}; }}',
        },
    }


def _complete(parser: argparse.ArgumentParser) -> None:
    """What means a name of the workspace, a file or a folder is completed as such."""
    import shtab

    for action in parser._actions:  # argparse has no other way to them
        for inner in set(action.choices.values()) if isinstance(action, argparse._SubParsersAction) else ():
            _complete(inner)
        usual = "" if action.option_strings else action.dest.upper()
        what = "CREDENTIAL" if action.dest == "credential" else str(action.metavar or usual)
        if what == "WHO" and action.option_strings:
            continue  # a person
        if what in NAMES:
            action.complete = _names(NAMES[what])  # type: ignore[attr-defined]
        elif what in (*FILES, *FOLDERS):
            action.complete = shtab.FILE if what in FILES else shtab.DIRECTORY  # type: ignore[attr-defined]
