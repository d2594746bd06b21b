"""`sigillum demo`: the real commands, one after the other, as an administrator would type them."""

from __future__ import annotations

import argparse
import os
import shlex
import signal
import subprocess
import sys
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from sigillum.cli import sandboxes
from sigillum.cli.context import Context
from sigillum.cli.options import NO_FORM, common
from sigillum.cli.scenes import Chapter, Scene, chapters
from sigillum.cli.streams import write
from sigillum.core.values.errors import MachineError, Outcome, UsageError
from sigillum.core.values.text import did_you_mean

EXAMPLE = """examples:
  sigillum demo                             the short story
  sigillum demo --list                      the other chapters
  sigillum demo clients access --folder brindlemoor
  sigillum demo --all"""
OWNER = "mara.teel@brindlemoor.example"
UNDER_WAY_SECONDS = 20.0


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "demo",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        description="Play the demo: every command is the real one, run against simulated tenants on this machine. Each chapter "
        "stands alone. It takes some seconds, leaves one folder behind, and nothing running.",
    )
    parser.add_argument("chapters", nargs="*", metavar="CHAPTER", help="which to play (default: short)")
    parser.add_argument("--list", action="store_true", help="the chapters, and what each shows")
    parser.add_argument("--all", action="store_true", help="play all of them")
    parser.add_argument("--folder", type=Path, help="the folder to make (default: demo, or the next free demo-N)")


def _free_folder(wanted: Path | None) -> Path:
    if wanted is not None:
        if wanted.exists():
            raise MachineError("the folder is there already", where=str(wanted), mend="name a new one with --folder")
        return wanted
    return next(p for n in range(1, 1000) if not (p := Path("demo" if n == 1 else f"demo-{n}")).exists())


class Stage:
    """Runs commands in a chapter's folder and shows them."""

    def __init__(self, folder: Path, context: Context) -> None:
        self.folder = folder
        self.styled = sys.stdout.isatty() and context.options.colour
        self.environment = {**os.environ, "PYTHONIOENCODING": "utf-8"}
        for name in ("SIGILLUM_WORKSPACE", "SIGILLUM_TIMEOUT"):
            self.environment.pop(name, None)
        if self.styled:
            columns, _ = os.get_terminal_size()
            self.environment |= {"FORCE_COLOR": "1", "COLUMNS": str(columns)}

    def _style(self, code: str, text: str) -> str:
        return f"\033[{code}m{text}\033[0m" if self.styled else text

    def heading(self, text: str) -> None:
        write(sys.stdout, f"\n{self._style('1;4', text)}\n")

    def play(self, scene: Scene) -> None:
        """Raises MachineError where the command does not end as it must."""
        for edit in scene.edits:
            path = self.folder / edit.file
            text = path.read_text(encoding="utf-8")
            path.write_text(text.replace(edit.old, edit.new, 1) if edit.old else text + edit.new, encoding="utf-8")
        why = self._style("2", f"# {scene.why}") + "\n" if scene.why else ""
        write(sys.stdout, f"\n{why}{self._style('1', '$ ' + scene.command)}\n")
        process = subprocess.Popen(
            self._words(scene.command),
            cwd=self.folder,
            env=self.environment,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            preexec_fn=_interruptible if scene.stopped else None,
        )
        if scene.stopped:
            self._interrupt(process)
        write(sys.stdout, process.communicate()[0].decode("utf-8", "replace"))
        if process.returncode != scene.code:
            raise MachineError(
                f"the demo expected exit code {scene.code} and got {process.returncode}",
                where=scene.command,
                mend="report this: the demo is run by the tests, too",
            )

    def _words(self, command: str) -> list[str]:
        words = shlex.split(command)
        for number, word in enumerate(words):
            if word.startswith("$(") and word.endswith(")"):
                told = subprocess.run(
                    self._words(word[2:-1]), cwd=self.folder, env=self.environment, capture_output=True, text=True, check=True
                )
                words[number] = told.stdout.strip()
        return [sys.executable, "-m", "sigillum", *words[1:]] if words[0] == "sigillum" else words

    def _interrupt(self, process: subprocess.Popen[bytes]) -> None:
        """Press Ctrl-C as soon as the request that was ordered to be slow is under way."""
        until = time.monotonic() + UNDER_WAY_SECONDS
        while sandboxes.control(self.folder / ".sigillum" / "sandbox", "faults")["faults"] and time.monotonic() < until:
            time.sleep(0.05)
        process.send_signal(signal.SIGINT)


def _interruptible() -> None:
    """Ctrl-C ends it, even where the demo itself runs in the background of a shell."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


def run(args: argparse.Namespace, context: Context) -> Outcome:
    known = chapters()
    if args.list:
        context.document("\n".join(_listed(known)))
        return Outcome.DONE
    names = list(known) if args.all else args.chapters or ["short"]
    odd = next((n for n in names if n not in known), None)
    if odd is not None:
        raise UsageError(f"there is no chapter {odd!r}", where="demo", mend=did_you_mean(odd, known))
    folder = _free_folder(args.folder)
    for name in names:
        _chapter(known[name], folder if len(names) == 1 else folder / name, context)
    context.document(_closing(folder, names))
    return Outcome.DONE


def _listed(known: Mapping[str, Chapter]) -> list[str]:
    """A line for each."""
    widest = max(map(len, chapters()))
    return [f"{c.name:<{widest}}  {c.about}" for c in known.values()]


def _chapter(chapter: Chapter, folder: Path, context: Context) -> None:
    folder.parent.mkdir(parents=True, exist_ok=True)
    stage = Stage(folder.parent, context)
    stage.heading(f"{chapter.name}: {chapter.about}")
    stage.play(
        Scene(
            "A workspace: one folder with charters, house rules and a private ledger; here with the example's files.",
            f"sigillum init {shlex.quote(folder.name)} --owner {OWNER} --example",
        )
    )
    stage.folder = folder
    try:
        stage.play(
            Scene(
                "Simulated tenants, in a process of their own.",
                "sigillum sandbox start --background --state .sigillum/world.json --quiet",
            )
        )
        port = str(sandboxes.control_port(folder / ".sigillum" / "sandbox"))
        for scene in chapter.scenes:
            edits = tuple(e._replace(new=e.new.replace("PORT", port)) for e in scene.edits)
            stage.play(scene._replace(command=scene.command.replace("PORT", port), edits=edits))
    finally:
        stage.play(Scene("Nothing stays running.", "sigillum sandbox stop"))


def _closing(folder: Path, names: list[str]) -> str:
    shown = shlex.quote(str(folder if len(names) == 1 else folder / names[0]))
    left = {name: chapter for name, chapter in chapters().items() if name not in names}
    others = "".join(f"  sigillum demo {line}\n" for line in _listed(left))
    return (
        f"\nWhat was played stays in {folder}. To go on there:\n"
        f"  cd {shown}\n"
        f"  {'sigillum sandbox start --background --state .sigillum/world.json':<68}# as it was left\n"
        f"  {'sigillum ledger show':<68}# what was done\n"
        f"  sigillum sandbox stop\n" + (f"\nOther chapters:\n{others}" if others else "")
    )
