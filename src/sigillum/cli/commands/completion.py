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

    context.document(shtab.complete(build(list(COMMANDS)), shell=args.shell))
    return Outcome.DONE
