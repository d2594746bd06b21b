"""What a command is given: resolved options, the office, and where to show things."""

from __future__ import annotations

import os
import sys
import threading
from collections.abc import Callable, Iterable, Mapping
from textwrap import wrap
from typing import TYPE_CHECKING, Any, TextIO

from sigillum.core.values.text import visible
from sigillum.core.values.times import format_instant, rough_duration, whole_second

from .forms import FORMS, PEOPLE, Content, Listing, Shown, give
from .options import Options
from .streams import write

if TYPE_CHECKING:
    import argparse
    from pathlib import Path

    from rich.console import Console, RenderableType
    from rich.status import Status

    from sigillum.core.charter.charter import Charter
    from sigillum.core.values.errors import FileError, Outcome
    from sigillum.tenants.by_hand.answers import Answers
    from sigillum.tenants.by_hand.lines import Answer, Confirm, Line
    from sigillum.workflows.desk.office import Office
    from sigillum.workflows.desk.settings import Header, Progress, Settings

PIPE_WIDTH, NARROWEST, INDENT, LINES_AT_ONCE = 110, 30, 22, 200


class Context:
    """Opens the office when it is needed; the result goes to stdout, everything else to stderr."""

    def __init__(self, options: Options) -> None:
        self.options = options
        self.wait_seconds = 0.0  # how long this command may wait for changes that are on their way
        self.gone = False
        self.confirm: Confirm | None = None  # answers for lines of a work sheet; none: whoever sits here is asked
        self._answers: Answers | None = None
        self._office: Office | None = None
        self._status: Status | None = None
        self._lock = threading.RLock()  # several charters at a time tell of themselves
        self._under_way: dict[str, str] = {}
        self._terminal: list[Any] | None = None  # how it stood before a secret was typed
        self._muted = False
        self._silent = False  # the result stands, or is about to: nothing is drawn beside it any more

    def close(self) -> None:
        self._silent = True
        self.quiet()
        if self._terminal is not None:  # somebody was typing a secret, in a thread that ends with the program
            import termios

            termios.tcsetattr(sys.stdin.fileno(), termios.TCSADRAIN, self._terminal)
        if self._office is not None:
            self._office.close()

    # --- workflows ------------------------------------------------------------------------------------------
    def settings(self) -> Settings:
        from sigillum.workflows.desk.settings import Settings

        return Settings(
            self.options.workspace,
            self.options.timeout_seconds,
            wait_seconds=self.wait_seconds,
            gone=self.gone,
            announce=self._announce,
            say=self.say,
            confirm=self.confirm or self._confirm,
            progress=self.progress,
            stopping=self._stopping,
            log=self.say if self.options.verbose else None,
        )

    @property
    def office(self) -> Office:
        if self._office is None:
            from sigillum.workflows.desk.office import Office

            self._office = Office.open(self.settings())
        return self._office

    def charters(self, args: argparse.Namespace) -> list[Charter]:
        """The charters that `charters` and `--all` name. Raises UsageError where none is, FileError."""
        if not args.charters and not args.all:
            from sigillum.core.values.errors import UsageError

            raise UsageError("no charter is named", where=args.command, mend="name some, or say --all")
        found = self.office.charters(args.charters, all_=args.all)
        if not found:
            self.say("This workspace has no charters yet: `sigillum charter new` writes one.")
        return found

    def answered(self, args: argparse.Namespace) -> None:
        """What a person said: `--gone`, and answers to lines of a work sheet from `--answers`. Raises FileError."""
        self.gone = args.gone
        self.answer_from(args.answers)

    def answer_from(self, file: Path | None) -> None:
        """Answers to lines of work sheets come from a file. Raises FileError."""
        if file is not None:
            from pathlib import Path

            from sigillum.keeping.references import resolve
            from sigillum.tenants.by_hand.answers import Answers
            from sigillum.workflows.desk.books import writer_name

            self.confirm = self._answers = Answers(file, lambda r: resolve(r, Path.cwd(), str(file)), writer_name())

    def left_over(self) -> None:
        """Say which answers nothing asked for: what was done before, and what is misspelt."""
        found = self._answers.unmatched() if self._answers is not None else []
        for key, meant in (f for f in found if f[1]):
            self.say(f"no line asked for the answer {key!r}: did you mean {meant!r}?")
        if others := [repr(key) for key, meant in found if not meant]:
            self.say(f"no line asked for {len(others)} other answers, as where they were done before: {', '.join(others)}")

    def _announce(self, header: Header) -> None:
        skew = (
            f", {rough_duration(header.skew_seconds)} {'ahead' if header.skew_seconds > 0 else 'behind'}"
            if abs(header.skew_seconds) >= 1
            else ""
        )
        known = f" · its interface as of {header.known_seconds // 60:.0f}m ago" if header.known_seconds >= 60 else ""
        self.say(
            f"{header.tenant} · {self.ident(header.address)} · {header.stage} · as "
            f"{self.ident(header.administrator)} · its clock {format_instant(whole_second(header.now))}{skew}{known}"
        )

    # --- showing ----------------------------------------------------------------------------------------------
    def ident(self, text: str) -> str:
        """An identifier, masked while presenting."""
        return "•" * 6 if self.options.presenting and text else text

    def console(self, file: TextIO) -> Console:
        """A console for a terminal or a pipe; in a pipe it has a fixed width, or that of COLUMNS."""
        from shutil import get_terminal_size

        from rich.console import Console

        said = os.environ.get("COLUMNS", "")
        usual = get_terminal_size((PIPE_WIDTH, 24)).columns if file.isatty() else PIPE_WIDTH
        width = int(said) if said.isascii() and said.isdigit() and int(said) > 0 else usual
        return Console(file=file, width=max(width, NARROWEST), highlight=False, emoji=False, no_color=not self.options.colour)

    @property
    def for_people(self) -> bool:
        """Is the result for somebody to read, so that parts of it can be shown while the rest is under way?"""
        return self.options.form in PEOPLE

    @property
    def as_table(self) -> bool:
        """Is it asked for in a form that only a table has?"""
        return self.options.form in FORMS and FORMS[self.options.form].tables

    def give(
        self,
        kind: str,
        content: Content,
        *views: Any,
        listing: Listing[Any] | None = None,
        also: Mapping[str, Callable[[], str]] | None = None,
    ) -> None:
        """The result, in the form that was asked for. What is written for one form alone may be a function that makes it."""
        give(Shown(kind, content, views, listing, also or {}), self.options.form, self)

    def give_list(self, kind: str, listing: Listing[Any], *views: Any, **more: Any) -> None:
        """A result that is a list; `more` is what JSON says beside it, `views` what people read below it."""
        self.give(kind, lambda: {**more, listing.name: listing.data()}, listing, *views, listing=listing)

    def mistaken(self, problem: FileError) -> Outcome:
        """A check found mistakes: where people read, they are told as those of every command are. Raises the problem then."""
        from .views.hints import mistake_json

        if self.for_people or not problem.mistakes:
            raise problem
        self.give("check", {"good": False, "mistakes": [mistake_json(m) for m in problem.mistakes]})
        return problem.outcome

    def show(self, *views: Any) -> None:
        """Parts of the result, as people read them; in another form they come with the whole."""
        for view in views if self.for_people else ():
            made = view() if callable(view) else view
            if isinstance(made, str):
                self.document(visible(made))
            elif not isinstance(made, Listing):
                self.quiet()
                self.draw(made, sys.stdout)
            elif made.items:
                self.show(made.table(self.ident))
            elif made.empty:
                self.say(made.empty)

    def draw(self, view: RenderableType, file: TextIO) -> None:
        """Write a view without the spaces that would only fill its lines up."""
        from rich.segment import Segments

        console = self.console(file)
        seen = [s if s.control else s._replace(text=visible(s.text)) for s in console.render(view)]
        with console.capture() as captured:
            console.print(Segments(seen), crop=False, end="")
        write(file, "".join(f"{line.rstrip()}\n" for line in captured.get().splitlines()))

    def document(self, text: str) -> None:
        """A text that is the result as it is."""
        self.quiet()
        write(sys.stdout, text if text.endswith("\n") else text + "\n")

    def show_lines(self, lines: Iterable[str]) -> None:
        """A result of any length, line by line; a long one goes on below its text, past its first two columns."""
        self.quiet()
        width, some = self.console(sys.stdout).width, list[str]()
        for line in map(visible, lines):
            some.append(
                line
                if len(line) <= width
                else "\n".join(wrap(line, width, subsequent_indent=" " * INDENT, break_on_hyphens=False))
            )
            if len(some) == LINES_AT_ONCE:
                write(sys.stdout, "\n".join(some) + "\n")
                some.clear()
        write(sys.stdout, "".join(f"{line}\n" for line in some))

    def say(self, text: str) -> None:
        """Something beside the result, on stderr."""
        with self._lock:
            self.quiet()
            if not self._muted:
                write(sys.stderr, visible(text) + "\n")

    def mute(self) -> None:
        """Another program has the terminal: nothing but what was asked for with --verbose is told beside it."""
        self._silent, self._muted = True, not self.options.verbose

    def progress(self, progress: Progress) -> None:
        """What is under way: shown on a terminal, and named when somebody asks to stop."""
        with self._lock:
            if not progress.text:
                self._under_way.pop(progress.about, None)
                return
            count = f"{progress.number}/{progress.of} " if progress.of else ""
            self._under_way[progress.about] = text = visible(f"{progress.about}  {count}{progress.text}")
            if self._silent or self.options.verbose or not sys.stderr.isatty():
                return
            if self._status is None:
                self._status = self.console(sys.stderr).status(text)
                self._status.start()
            else:
                self._status.update(text)

    def _stopping(self) -> None:
        """A person asked to stop: what is finished first."""
        with self._lock:
            self._silent = True
            self.say("\nStopping. What is under way is finished first; Ctrl-C again stops at once.")
            for text in self._under_way.values():
                self.say(f"  {text}")

    def quiet(self) -> None:
        """Take the progress line away."""
        with self._lock:
            if self._status is not None:
                self._status.stop()
                self._status = None

    def _confirm(self, line: Line) -> Answer | None:
        """Ask whoever sits here to do a line of a work sheet; nothing where nobody sits here."""
        if not sys.stdin.isatty():
            return None
        from sigillum.tenants.by_hand.lines import Answer
        from sigillum.workflows.desk.books import writer_name

        values = "".join(f"    {name}: {value}\n" for name, value in line.values)
        self.say(f"\n{line.what}\n{values}" + (f"    look afterwards: {line.look}" if line.look else ""))
        if line.question:
            said = self.ask("Allowed? Write `yes` or `no`, or press Enter to leave it open: ").lower()
            return Answer(writer_name(), yes=said in ("yes", "y")) if said in ("yes", "y", "no", "n") else None
        if line.wants_secret:
            import getpass
            import termios

            from sigillum.core.values.secret import Secret

            self._terminal = termios.tcgetattr(sys.stdin.fileno())
            typed = getpass.getpass("The secret (it is not shown; Enter to stop here): ", stream=sys.stderr).strip()
            self._terminal = None
            return Answer(writer_name(), secret=Secret(typed), whose=line.whose) if typed else None
        if line.wants_id:
            typed = self.ask("Done? Write the id that it has now, or press Enter to stop here: ")
            return Answer(writer_name(), typed) if typed else None
        return Answer(writer_name(), yes=True) if self.agreed("Done, and looked at?") else None

    def agreed(self, question: str) -> bool:
        """Ask for a yes. Raises UsageError where nobody can answer."""
        return self.ask(f"{question} Write `yes`: ").lower() in ("yes", "y")

    def ask(self, question: str) -> str:
        """Ask on the terminal. Raises UsageError where nobody can answer."""
        from sigillum.core.values.errors import UsageError

        self.quiet()
        if not sys.stdin.isatty():
            raise UsageError(
                "there is nobody to ask",
                where="standard input is no terminal",
                mend="answer beforehand: `-h` names the options that do",
            )
        write(sys.stderr, visible(question))
        return sys.stdin.readline().strip()
