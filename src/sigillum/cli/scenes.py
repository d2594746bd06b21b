"""The chapters of the demo, as `demo.yaml` has them: scenes, each a command with why it is typed."""

from __future__ import annotations

from functools import cache
from pathlib import Path
from typing import NamedTuple


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
    """A name, what it shows, and its scenes, in which PORT stands for where the sandbox listens."""

    name: str
    about: str
    scenes: tuple[Scene, ...]


def _add(tenant: str, admin: str) -> str:
    """How a tenant of the sandbox becomes known."""
    path, driver = ("", " --driver dialect") if tenant == "lanterns" else ("/scim/v2", "")
    return (
        f"sigillum tenant add {tenant} http://127.0.0.1:PORT/{tenant}{path}{driver} --admin {admin} "
        f"--token file:.sigillum/sandbox/{tenant}.{admin}.token"
    )


@cache
def chapters() -> dict[str, Chapter]:
    """All of them, in their order."""
    from sigillum.reading.document import parse

    path = Path(__file__).with_name("demo.yaml")
    return {
        name: Chapter(
            name,
            about["shows"],
            tuple(
                Scene(
                    s.get("say", ""),
                    s["run"] if "run" in s else _add(*s["add"].split()),
                    s.get("ends", 0),
                    tuple(Edit(e["file"], e.get("from", ""), e.get("to", "")) for e in s.get("edit", ())),
                    s.get("stopped", False),
                )
                for s in about["scenes"]
            ),
        )
        for name, about in parse(path.read_text(encoding="utf-8"), path.name).data.items()
    }
