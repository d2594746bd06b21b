"""Starting and steering the simulated tenants: a process of its own, spoken to over its control interface."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import sys
import time
from importlib.resources import files
from pathlib import Path
from typing import Any

from sigillum.core.values.errors import FileError, MachineError, SomebodyError, UnreachableError
from sigillum.core.values.outside import json_of
from sigillum.protocols.http import Http, HttpError

START_SECONDS = 20.0
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
        raise SomebodyError("no sandbox runs here", where=str(folder), mend="`sigillum sandbox start --background`")
    return int(about["port"])


def start(folder: Path, world: Path, port: int) -> tuple[subprocess.Popen[bytes], dict[str, Any]]:
    """Start it and wait until it is ready. Raises FileError, MachineError."""
    if not world.is_file():
        raise FileError("there is no such world file", where=str(world), mend="leave --world out for the demo world")
    about = running(folder)
    if about is not None and answers(about):
        raise MachineError("a sandbox runs here already", where=str(folder), mend="`sigillum sandbox stop` ends it")
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    (folder / "running.json").unlink(missing_ok=True)
    with (folder / "log").open("wb") as log:
        process = subprocess.Popen(
            [sys.executable, "-m", "sigillum.sandbox", "--world", str(world), "--port", str(port), "--folder", str(folder)],
            stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True)
    deadline = time.monotonic() + START_SECONDS
    while time.monotonic() < deadline:
        about = running(folder)
        if about is not None:
            return process, about
        if process.poll() is not None:
            said = (folder / "log").read_text(encoding="utf-8", errors="replace").strip().splitlines()
            raise MachineError(f"the sandbox did not start: {said[-1] if said else 'it said nothing'}",
                               where=str(world), mend="mend the world file, or choose another --port")
        time.sleep(0.02)
    process.kill()
    raise MachineError("the sandbox did not become ready", where=str(folder / "log"), mend="look at its log")


def answers(about: dict[str, Any]) -> bool:
    """Is the process of that number this sandbox? A number is given to another process once its own has ended.

    Raises MachineError where something takes the question and says nothing.
    """
    try:
        answer = Http(origins=[about["control"]], timeout_seconds=ASK_SECONDS).send(
            "GET", f"{about['control']}/about", {"Authorization": f"Bearer {about['token']}"})
        return answer.status == 200 and answer.object().get("pid") == about["pid"]
    except HttpError as problem:
        if problem.sent and "no answer within" in problem.what:
            raise MachineError("it cannot be told whether the sandbox still runs: it does not answer",
                               where=f"process {about['pid']}",
                               mend="look what that process is, and end it yourself if it is the sandbox") from problem
        return False
    except (UnreachableError, KeyError):
        return False


def stop(folder: Path) -> bool:
    """End it; False where none runs. Raises MachineError."""
    about = running(folder)
    if about is None or not answers(about):
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
    for path in (*folder.glob("*.token"), folder / "running.json"):
        path.unlink(missing_ok=True)


def control(folder: Path, what: str, body: dict[str, Any] | None = None) -> dict[str, Any]:
    """Speak to the control interface. Raises SomebodyError where no sandbox runs, FileError for a bad order."""
    about = running(folder)
    if about is None:
        raise SomebodyError("no sandbox runs here", where=str(folder), mend="`sigillum sandbox start --background`")
    answer = Http(origins=[about["control"]], timeout_seconds=10).send(
        "GET" if body is None else "POST", f"{about['control']}/{what}",
        {"Authorization": f"Bearer {about['token']}", "Content-Type": "application/json"},
        None if body is None else json.dumps(body).encode())
    if answer.status != 200:
        try:
            said = answer.object().get("error", "")
        except UnreachableError:
            said = ""
        raise FileError(f"the sandbox refuses the order: {said}", where=what, mend="`sigillum sandbox -h` explains it")
    return answer.object()
