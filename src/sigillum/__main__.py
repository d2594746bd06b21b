"""`python -m sigillum` is the installed program."""

from sigillum.cli.main import program

program()
