"""What a chapter of the demo is made of: scenes, each a command with why it is typed."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

BOTH = "    admins: [{name: nils.brack, token: 'file:.sigillum/sandbox/roster.nils.brack.token'}]\n"


class Edit(NamedTuple):
    """One text in a file becomes another; where `old` is empty, it is put at the end."""

    file: str
    old: str
    new: str


class Scene(NamedTuple):
    """One command, why it is typed, and the exit code that it must have. `edits` are made before.

    `stopped`: an order of the sandbox that has to be under way before Ctrl-C is pressed.
    """

    why: str
    command: str
    code: int = 0
    edits: tuple[Edit, ...] = ()
    stopped: bool = False


class Chapter(NamedTuple):
    """A name, what it shows, and its scenes; `add` tells how a tenant is added."""

    name: str
    about: str
    scenes: Callable[[Callable[[str, str], str]], list[Scene]]


Add = Callable[[str, str], str]
