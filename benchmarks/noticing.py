"""Which tests run which line, and whether they notice a change to it: measured once, then tried in copies of the code."""

from __future__ import annotations

import importlib
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
import traceback
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import suppress
from multiprocessing import get_context
from multiprocessing.queues import SimpleQueue
from pathlib import Path
from typing import Any, NamedTuple

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "sigillum"
SECONDS = (5.0, 40.0)  # of tests for one change, at least and at most; one test at least
SHARE = 3.0  # so many times the time that is left for each change: most are noticed long before theirs is over
MOST_TESTS = 90
AROUND = 20  # lines
PATIENCE = 5  # so many times what the tests took is waited: a change may have made a loop without an end
HOW = (
    "-x",
    "-q",
    "-W",
    "ignore::pytest.PytestAssertRewriteWarning",
    "-p",
    "no:cacheprovider",
    "-p",
    "no:xdist",
    "-p",
    "no:anyio",
)
LATE = 98  # instead of an exit code: it did not end in time
PRELOADED = ("hypothesis", "hypothesis.strategies", "pydantic", "ruamel.yaml", "urllib3", "joserfc.jwk", "keyring", "rich.text")


class Change(NamedTuple):
    """One change: what it is called, and the whole changed text."""

    name: str
    kind: str
    file: str
    line: int
    text: str


class Result(NamedTuple):
    """What became of one change."""

    change: Change
    noticed: bool
    by: str


class Measured(NamedTuple):
    """The tests that run each line, and how many seconds each takes."""

    lines: Mapping[str, Mapping[int, frozenset[str]]]
    took: Mapping[str, float]

    def of(self, change: Change, always: Iterable[str], most_seconds: float) -> list[str]:
        """The tests to run: those that run the changed line, and of them those first that run what few others do around it, since
        they are about it; as many as there is time for. `always` comes after them.
        """
        file = self.lines.get(change.file, {})
        here = file.get(change.line) or frozenset().union(*file.values())
        around = [file[n] for n in range(change.line - AROUND, change.line + AROUND + 1) if n in file]
        rare = dict.fromkeys(here, 0.0)
        for tests in around:
            for test in tests & here:
                rare[test] += 1 / len(tests)
        chosen, seconds = list[str](), 0.0
        for test in sorted(here, key=lambda t: (-rare[t] / (0.5 + self.took[t]), t)):
            if chosen and seconds + self.took[test] > most_seconds:
                continue
            seconds += self.took[test]
            chosen.append(test)
            if len(chosen) == MOST_TESTS:
                break
        return [*sorted(chosen, key=lambda t: self.took[t]), *always]


def environment(folder: Path) -> dict[str, str]:
    """In which tests run: properties are tried with fewer cases, and bytecode is kept apart."""
    return {**os.environ, "SIGILLUM_HYPOTHESIS": "searching", "PYTHONPYCACHEPREFIX": str(folder / "bytecode")}


def measured(folder: Path, where: Iterable[str], tests: Iterable[str], left_out: str, workers: int) -> Measured:
    """Run all of them once. Exits where they fail as they are."""
    settings, times = folder / "settings", folder / "times"
    settings.write_text(
        f"[run]\nsource = {','.join(str(SOURCE / w) for w in where)}\ncontext = ${{MEASURED_TEST-}}\n"
        f"data_file = {folder / 'data'}\nparallel = true\npatch = subprocess\n"
    )
    run = (sys.executable, "-m", "coverage", "run", f"--rcfile={settings}", "-m", "pytest", "-n", str(workers))
    how = ("--dist", "worksteal", "-p", "benchmarks.measured", "-k", left_out)
    told = subprocess.run(
        [*run, *how, *(f"tests/{t}" for t in tests)],
        cwd=ROOT,
        capture_output=True,
        text=True,
        env={**environment(folder), "MEASURED_INTO": str(times)},
        check=False,
    )
    if told.returncode:
        failed = "\n".join(line for line in told.stdout.splitlines() if line.startswith(("FAILED", "ERROR")))
        sys.exit(f"the tests do not pass as they are\n{failed or told.stdout[-2000:]}")
    subprocess.run([sys.executable, "-m", "coverage", "combine", "-q", f"--rcfile={settings}"], cwd=ROOT, check=True)
    took: dict[str, float] = {}
    for path in folder.glob("times-*"):
        for line in path.read_text().splitlines():
            seconds, _, test = line.partition(" ")
            took[test] = float(seconds)
    return Measured(_lines(folder / "data", frozenset(took)), took)


def _lines(data: Path, known: frozenset[str]) -> dict[str, dict[int, frozenset[str]]]:
    from coverage.numbits import numbits_to_nums

    lines: dict[str, dict[int, set[str]]] = {}
    with sqlite3.connect(data) as db:
        for path, context, bits in db.execute(
            "SELECT f.path, c.context, l.numbits FROM line_bits l JOIN file f ON f.id = l.file_id "
            "JOIN context c ON c.id = l.context_id WHERE c.context != ''"
        ):
            tests = known.intersection(context.split("|"))  # of a process that a test starts, and in its own
            for number in numbits_to_nums(bits) if tests else ():
                lines.setdefault(str(Path(path).relative_to(SOURCE)), {}).setdefault(number, set()).update(tests)
    return {file: {n: frozenset(t) for n, t in spots.items()} for file, spots in lines.items()}


class Copy:
    """A copy of the code, compiled once: only the changed module is compiled again. Each try is a fork of a process in which
    the libraries are loaded already.
    """

    def __init__(self, folder: Path, number: int) -> None:
        self.folder, self.base = folder, folder / f"copy-{number}"
        shutil.copytree(SOURCE, self.base / "sigillum", ignore=shutil.ignore_patterns("__pycache__"))
        self._tick = int(time.time())

    def _put(self, file: Path, text: str) -> None:
        """With a time of change that it never had: bytecode is told by it, to the second."""
        file.write_text(text)
        self._tick += 1
        os.utime(file, (self._tick, self._tick))

    def tried(self, change: Change, tests: list[str], patience_seconds: float) -> Result:
        """Make the change, run the tests, and take it back."""
        if not tests:
            return Result(change, False, "no test runs it")
        file = self.base / "sigillum" / change.file
        original = file.read_text()
        self._put(file, change.text)
        try:
            with tempfile.TemporaryFile("w+") as out:
                code = self._forked(tests, out.fileno(), patience_seconds)
                out.seek(0)
                said = out.read().splitlines()
        finally:
            self._put(file, original)
        failed = next((line for line in said if line.startswith(("FAILED", "ERROR"))), "")
        if code in (0, LATE) or failed:
            by = "it did not end in time" if code == LATE else failed.partition(" - ")[0].removeprefix("FAILED ")
            return Result(change, code != 0, by)
        return Result(change, False, f"could not be tried: exit code {code}, {' '.join(said[-1:])}")

    def _forked(self, tests: list[str], out: int, patience_seconds: float) -> int:
        child = os.fork()
        if child == 0:
            code = 99
            try:
                os.setsid()
                os.dup2(out, 1)
                os.dup2(out, 2)
                os.chdir(ROOT)
                sys.path.insert(0, str(self.base))
                os.environ["PYTHONPATH"] = str(self.base)
                import pytest

                code = int(pytest.main([*HOW, *tests]))
            except BaseException:
                traceback.print_exc()
            finally:
                sys.stdout.flush()
                sys.stderr.flush()
                os._exit(code)
        end, status = time.monotonic() + patience_seconds, 0
        while time.monotonic() < end:
            found, status = os.waitpid(child, os.WNOHANG)
            if found:
                break
            time.sleep(0.02)
        with suppress(ProcessLookupError):  # and whatever it left running
            os.killpg(child, signal.SIGKILL)
        if time.monotonic() >= end:
            with suppress(ChildProcessError):
                os.waitpid(child, 0)
            return LATE
        return os.waitstatus_to_exitcode(status)


def _work(copy: Copy, jobs: SimpleQueue[Any], done: SimpleQueue[Any]) -> None:
    os.environ |= environment(copy.folder)
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    sys.pycache_prefix, sys.dont_write_bytecode = os.environ["PYTHONPYCACHEPREFIX"], False
    for name in ("pytest", "_pytest.assertion.rewrite", *PRELOADED):
        importlib.import_module(name)
    while (job := jobs.get()) is not None:
        done.put(copy.tried(*job))
    done.put(None)


def tried(
    folder: Path,
    changes: list[Change],
    tests: Callable[[Change, float], list[str]],
    took: Mapping[str, float],
    workers: int,
    until: float,
) -> Iterator[Result]:
    """What became of each, as far as there is time `until` (monotonic)."""
    context = get_context("fork")
    jobs, done = context.SimpleQueue(), context.SimpleQueue()
    processes = [context.Process(target=_work, args=(Copy(folder, n), jobs, done)) for n in range(workers)]
    for process in processes:
        process.start()
    waiting, under_way = list(reversed(changes)), 0

    def hand_out() -> int:
        left = until - time.monotonic()
        if not waiting or left <= 0:
            return 0
        least, most = SECONDS
        change, share = waiting[-1], SHARE * left * workers / len(waiting)
        chosen = tests(waiting.pop(), min(max(least, share), most))
        jobs.put((change, chosen, 20 + PATIENCE * sum(took.get(t, least) for t in chosen)))
        return 1

    under_way += sum(hand_out() for _ in processes)
    while under_way:
        result = done.get()
        under_way += hand_out() - 1
        yield result
    for _ in processes:
        jobs.put(None)
    for process in processes:
        process.join()
