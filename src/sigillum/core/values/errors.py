"""The one exception root, and the outcomes that a command can have."""

from __future__ import annotations

from enum import IntEnum
from typing import ClassVar, NamedTuple


class Outcome(IntEnum):
    """How a command ended; the values are the exit codes of the documentation."""

    DONE = 0
    NO = 1
    USAGE = 2
    FILE = 3
    REFUSED = 4
    UNREACHABLE = 5
    SOMEBODY = 6
    NOT_YET = 7
    MACHINE = 8
    INTERRUPTED = 130


_FIRST = (Outcome.MACHINE, Outcome.UNREACHABLE, Outcome.REFUSED, Outcome.SOMEBODY, Outcome.NOT_YET, Outcome.NO)


def worst(outcomes: list[Outcome]) -> Outcome:
    """The one outcome to give where several hold: the first of 8, 5, 4, 6, 7, 1; others as they come."""
    special = [o for o in outcomes if o not in _FIRST and o is not Outcome.DONE]
    return next((o for o in [*special, *_FIRST] if o in outcomes), Outcome.DONE)


class Position(NamedTuple):
    """A spot in a file; line and column count from 1, 0 where there is none."""

    file: str
    line: int = 0
    column: int = 0

    def __str__(self) -> str:
        return f"{self.file}:{self.line}:{self.column}" if self.line else self.file


class Mistake(NamedTuple):
    """One thing that is wrong in a file: a stable code, what is wrong, what to write instead, and where."""

    code: str
    what: str
    mend: str
    position: Position | None = None


class SigillumError(Exception):
    """Root of every exception of ours: what happened, where, and the one step that mends it."""

    outcome: ClassVar[Outcome] = Outcome.MACHINE
    code: ClassVar[str] = "trouble"

    def __init__(self, what: str, *, where: str = "", mend: str = "") -> None:
        super().__init__(what)
        self.what, self.where, self.mend = what, where, mend


class UsageError(SigillumError):
    """The command was called in a way that has no meaning."""

    outcome, code = Outcome.USAGE, "usage"


class FileError(SigillumError):
    """A file of the administrator's is wrong; `mistakes` holds all that was found."""

    outcome, code = Outcome.FILE, "file"

    def __init__(self, what: str, *, where: str = "", mend: str = "", mistakes: tuple[Mistake, ...] = ()) -> None:
        super().__init__(what, where=where, mend=mend)
        self.mistakes = mistakes


class RefusedError(SigillumError):
    """The tenant answered, and the answer is no."""

    outcome, code = Outcome.REFUSED, "refused"


class UnreachableError(SigillumError):
    """The tenant could not be reached, or not understood, in time."""

    outcome, code = Outcome.UNREACHABLE, "unreachable"


class SomebodyError(SigillumError):
    """Somebody has to act or decide before this can go on."""

    outcome, code = Outcome.SOMEBODY, "somebody"


class WaitingError(SomebodyError):
    """A person was asked to do a step, and has not confirmed it yet."""

    code = "waits"


class UnprovedError(SigillumError):
    """Something was put to the test, and does not hold."""

    outcome, code = Outcome.NO, "unproved"


class NotYetError(SigillumError):
    """A change is still on its way."""

    outcome, code = Outcome.NOT_YET, "not-yet"


class StoppedError(SigillumError):
    """A person asked to stop: what was under way was finished, and nothing further is begun."""

    outcome, code = Outcome.INTERRUPTED, "stopped"


class MachineError(SigillumError):
    """Trouble on this machine: disk, lock, rights of a file."""

    outcome, code = Outcome.MACHINE, "machine"
