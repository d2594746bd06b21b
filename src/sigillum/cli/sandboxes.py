"""Starting and steering the simulated tenants: a process of its own, spoken to over its control interface."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from importlib.resources import files
from pathlib import Path
from typing import Any

from sigillum.core.values.errors import FileError, MachineError, Mistake, Position, SomebodyError, UnreachableError
from sigillum.core.values.outside import json_of
from sigillum.protocols.http import Http, HttpError

STOP_SECONDS = 5.0
ASK_SECONDS = 3.0


def usual_world() -> Path:
    """The demo world that ships with the tool."""
    return Path(str(files("sigillum").joinpath("sandbox", "worlds", "brindlemoor.yaml")))


def running(folder: Path) -> dict[str, Any] | None:
    """What is said of a running sandbox; None where none runs."""
    try:
        about = json_of((folder / "running.json").read_text(encoding="utf-8"))
        os.kill(int(about["pid"]), 0)
    except (OSError, ValueError, KeyError):
        return None
    return dict(about)


def control_port(folder: Path) -> int:
    """The port of the running sandbox. Raises SomebodyError."""
    about = running(folder)
    if about is None:
        raise _nobody(folder)
    return int(about["port"])


def _program(*words: str) -> list[str]:
    return [sys.executable, "-m", "sigillum.sandbox", *words]


def check_world(path: Path) -> dict[str, Any]:
    """The tenants of a world file, each with the keys that describe it. Raises FileError with every mistake."""
    done = subprocess.run(_program("--check", str(path)), capture_output=True, text=True, check=False)
    if done.returncode != 0:
        raise _wrong_world(done.stderr, path)
    return dict(json.loads(done.stdout))


def world_schema() -> str:
    """The JSON Schema of world files."""
    return subprocess.run(_program("--schema"), capture_output=True, text=True, check=True).stdout


def _wrong_world(said: str, path: Path) -> FileError | MachineError:
    """What the sandbox says of a world file, as an error of ours."""
    last = (said.strip().splitlines() or ["it said nothing"])[-1]
    try:
        return FileError("", where=str(path), mistakes=mistakes_of(json_of(last)))
    except (ValueError, KeyError, TypeError):
        return MachineError(
            f"the sandbox did not start: {last.removeprefix('sandbox: ')}",
            where=str(path),
            mend="look at what it says, or choose another --port",
        )


def mistakes_of(told: Any) -> tuple[Mistake, ...]:
    """Mistakes as the sandbox tells them. Raises KeyError, TypeError where it tells something else."""
    return tuple(Mistake(m["code"], m["what"], m["do"], Position(m["file"], m["line"], m["column"])) for m in told["mistakes"])


Started = tuple[subprocess.Popen[bytes], dict[str, Any]]


def start(
    folder: Path, world: Path | None, port: int, state: Path | None = None, tell: Callable[[str], None] = lambda text: None
) -> Started:
    """Start it and wait until it is ready, however large its world is; from `state`, where that is there. `tell` is told how
    far it is. Raises FileError, MachineError.
    """
    if world is not None and not world.is_file():
        raise FileError("there is no such world file", where=str(world), mend="leave --world out for the demo world")
    about = running(folder)
    if about is not None and answers(about):
        raise MachineError("a sandbox runs here already", where=str(folder), mend="`sigillum sandbox stop` ends it")
    if world is None and (state is None or not state.exists()):
        world = usual_world()
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    for name in ("running.json", "starting"):
        (folder / name).unlink(missing_ok=True)
    words = [*(("--world", str(world)) if world is not None else ()), *(("--state", str(state)) if state is not None else ())]
    with (folder / "log").open("wb") as log:
        process = subprocess.Popen(
            _program("--port", str(port), "--folder", str(folder), *words),
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            start_new_session=True,
        )
    try:
        while (about := running(folder)) is None:
            if process.poll() is not None:
                raise _wrong_world((folder / "log").read_text(encoding="utf-8", errors="replace"), world or state or folder)
            with contextlib.suppress(OSError):
                tell((folder / "starting").read_text(encoding="utf-8"))
            time.sleep(0.02)
    except KeyboardInterrupt:
        process.kill()
        process.wait()
        raise
    tell("")
    return process, about


def answers(about: dict[str, Any]) -> bool:
    """Is the process of that number this sandbox? A number is given to another process once its own has ended.

    Raises MachineError where something takes the question and says nothing.
    """
    try:
        answer = Http(origins=[about["control"]], timeout_seconds=ASK_SECONDS).send(
            "GET", f"{about['control']}/about", {"Authorization": f"Bearer {about['token']}"}
        )
        return answer.status == 200 and answer.object().get("pid") == about["pid"]
    except HttpError as problem:
        if problem.sent and "no answer within" in problem.what:
            raise MachineError(
                "it cannot be told whether the sandbox still runs: it does not answer",
                where=f"process {about['pid']}",
                mend="look what that process is, and end it yourself if it is the sandbox",
            ) from problem
        return False
    except (UnreachableError, KeyError):
        return False


def alive(folder: Path) -> dict[str, Any] | None:
    """What is said of a sandbox that runs and answers; None where none does. Raises MachineError."""
    about = running(folder)
    return about if about is not None and answers(about) else None


def stop(folder: Path) -> bool:
    """End it; False where none runs. Raises MachineError."""
    about = alive(folder)
    if about is None:
        _forget(folder)
        return False
    pid = int(about["pid"])
    os.kill(pid, signal.SIGTERM)
    deadline = time.monotonic() + STOP_SECONDS
    while time.monotonic() < deadline:
        with contextlib.suppress(ChildProcessError):
            os.waitpid(pid, os.WNOHANG)
        try:
            os.kill(pid, 0)
        except OSError:
            break
        time.sleep(0.02)
    else:
        raise MachineError("the sandbox does not end", where=f"process {pid}", mend=f"run `kill -9 {pid}`")
    _forget(folder)
    return True


def _forget(folder: Path) -> None:
    """What a sandbox leaves behind that has ended."""
    for path in (*folder.glob("*.token"), folder / "running.json", folder / "starting"):
        path.unlink(missing_ok=True)


def control(folder: Path, what: str, body: dict[str, Any] | None = None) -> dict[str, Any]:
    """Speak to the control interface. Raises SomebodyError where no sandbox runs, FileError for a bad order."""
    about = running(folder)
    if about is None:
        raise _nobody(folder)
    try:
        return _asked(about, what, body)
    except HttpError as problem:
        if not problem.sent:  # it has ended, and its number may be another process's by now
            raise _nobody(folder) from problem
        raise


def _nobody(folder: Path) -> SomebodyError:
    return SomebodyError("no sandbox runs here", where=str(folder), mend="`sigillum sandbox start --background`")


def _asked(about: dict[str, Any], what: str, body: dict[str, Any] | None) -> dict[str, Any]:
    answer = Http(origins=[about["control"]], timeout_seconds=10).send(
        "GET" if body is None else "POST",
        f"{about['control']}/{what}",
        {"Authorization": f"Bearer {about['token']}", "Content-Type": "application/json"},
        None if body is None else json.dumps(body).encode(),
    )
    if answer.status != 200:
        try:
            told = answer.object()
        except UnreachableError:
            told = {}
        if "mistakes" in told:
            raise FileError("", where=what, mistakes=mistakes_of(told))
        said = told.get("error", "")
        raise FileError(f"the sandbox refuses the order: {said}", where=what, mend="`sigillum sandbox -h` explains it")
    return answer.object()
