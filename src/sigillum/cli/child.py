"""Running another program in our place: its signals, terminal and exit code are its own, and nothing of ours goes with it."""

from __future__ import annotations

import os
import resource
import signal
import subprocess
import threading
from collections.abc import Callable, Mapping
from contextlib import suppress
from typing import NoReturn

from sigillum.core.values.errors import MachineError, SigillumError, UsageError

LOOK_SECONDS = 0.1  # so often signals are looked for
SOONER = 4  # what failed is tried again after so small a part of the time
_PASSED = (signal.SIGTERM, signal.SIGHUP, signal.SIGUSR1, signal.SIGUSR2, signal.SIGINT, signal.SIGQUIT, signal.SIGALRM)
_FROM_TERMINAL = (signal.SIGINT, signal.SIGQUIT)  # the terminal sends these to the child, too


def instead(command: list[str], environment: Mapping[str, str]) -> NoReturn:
    """Become the other program. Raises UsageError where it cannot be run."""
    _no_core()
    try:
        os.execvpe(command[0], command, dict(environment))  # noqa: S606  that is what it is for
    except OSError as problem:
        raise _not_run(command[0], problem) from problem


def beside(
    command: list[str],
    environment: Mapping[str, str],
    again: Callable[[], float],
    wait_seconds: float,
    failed: Callable[[SigillumError], None],
) -> int:
    """Run it, and call `again` after so many seconds as it said last, for as long as the program runs; `failed` is told why
    that could not be done, and it is tried again sooner.

    Returns its exit code, or the negative number of the signal that ended it. Raises UsageError where it cannot be run.
    """
    passed: list[int] = []
    before = {number: signal.signal(number, lambda number, _: passed.append(number)) for number in _PASSED}
    ended = threading.Event()
    try:
        try:
            child = subprocess.Popen(command, env=dict(environment), preexec_fn=_no_core)  # no thread runs yet
        except OSError as problem:
            raise _not_run(command[0], problem) from problem
        threading.Thread(target=_renew, args=(again, wait_seconds, failed, ended), daemon=True).start()
        while True:
            with suppress(subprocess.TimeoutExpired):
                return child.wait(LOOK_SECONDS)
            while passed:
                number = passed.pop(0)
                if number not in _FROM_TERMINAL or not _has_terminal():
                    child.send_signal(number)
    finally:
        ended.set()
        for number, handler in before.items():
            signal.signal(number, handler)


def _renew(
    again: Callable[[], float], wait_seconds: float, failed: Callable[[SigillumError], None], ended: threading.Event
) -> None:
    pause = wait_seconds
    while not ended.wait(pause):
        try:
            pause = again()
        except SigillumError as problem:
            if not ended.is_set():
                failed(problem)
            pause = max(wait_seconds / SOONER, 1.0)


def _has_terminal() -> bool:
    """Are we in the foreground of a terminal, which sends its signals to all of the group?"""
    try:
        with open("/dev/tty", encoding="utf-8") as terminal:  # noqa: PTH123
            return os.tcgetpgrp(terminal.fileno()) == os.getpgrp()
    except OSError:
        return False


def die_of(number: int) -> NoReturn:
    """End by the signal that ended the other program, so that whoever waits sees the same."""
    _no_core()
    with suppress(OSError):  # 9 is as it is
        signal.signal(number, signal.SIG_DFL)
    os.kill(os.getpid(), number)
    raise MachineError(f"the program was ended by signal {number}", mend="run it again")


def _no_core() -> None:
    """No core file: it would hold what is in memory."""
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def _not_run(name: str, problem: OSError) -> UsageError:
    return UsageError(f"{name} cannot be run: {problem.strerror}", where="behind --", mend="check its name and its rights")
