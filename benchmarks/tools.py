"""Timing commands as whole processes in turns, and a workspace with its own sandbox to time them in."""

from __future__ import annotations

import resource
import statistics
import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ruamel.yaml import YAML

from sigillum.cli import sandboxes

RUNS = 15
SIGILLUM = (sys.executable, "-m", "sigillum")


@dataclass(frozen=True)
class Measured:
    """One figure, its bound, and whether the bound is an upper one."""

    what: str
    figure: float
    bound: float
    detail: str
    at_most: bool = True

    @property
    def good(self) -> bool:
        return self.figure <= self.bound if self.at_most else self.figure >= self.bound


def show(found: Sequence[Measured]) -> None:
    for one in found:
        sign = "at most" if one.at_most else "at least"
        print(
            f"{'met   ' if one.good else 'MISSED'}  {one.what}: {one.figure:.2f} ({sign} {one.bound:g})  {one.detail}",
            flush=True,
        )


def seconds(command: Sequence[str], folder: Path) -> float:
    begun = time.perf_counter()
    subprocess.run(
        command, cwd=folder, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, stdin=subprocess.DEVNULL
    )
    return time.perf_counter() - begun


def in_turns(one: Sequence[str], other: Sequence[str], folder: Path, runs: int = RUNS) -> tuple[float, float, float]:
    """Median seconds of both, run in turn after one warm-up each, and the median of the ratios pair by pair."""
    seconds(one, folder), seconds(other, folder)
    pairs = [(seconds(one, folder), seconds(other, folder)) for _ in range(runs)]
    return (
        statistics.median(a for a, _ in pairs),
        statistics.median(b for _, b in pairs),
        statistics.median(a / b for a, b in pairs),
    )


def cpu_seconds(command: Sequence[str], folder: Path) -> tuple[float, float]:
    """CPU (user and system, with children) and wall seconds of one run."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    wall = seconds(command, folder)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime, wall


CHARTER = """\
charter: {name}
tenant: summit
purpose: Store wind readings from the mast stations
owner: mara.teel@brindlemoor.example
identity: {{kind: service-account, name: {name}, display: Wind readings ingest}}
grants:
  - {{role: stream-writer, at: brindlemoor/sensing-prod, because: stores the readings}}
credentials:
  - {{name: ingest-key, kind: key-pair, lasts: 90d, limits: [stream.append, stream.read]}}
proofs:
  - {{can: stream.append, at: brindlemoor/sensing-prod/streams/mast-test}}
  - {{cannot: stream.delete, at: brindlemoor/sensing-prod/streams/mast-4}}
"""


@contextmanager
def workspace(folder: Path, charters: int = 1, crowd: int = 0, *, slow: bool = True) -> Iterator[dict[str, Any]]:
    """A workspace with a running sandbox that has `crowd` principals more; what the sandbox says of itself."""
    yaml = YAML(typ="safe", pure=True)
    world = yaml.load(sandboxes.usual_world())
    world["tenants"]["summit"]["crowd"] = crowd
    if not slow:  # makings are finished at once
        for tenant in world["tenants"].values():
            tenant.pop("slow", None)
    subprocess.run([*SIGILLUM, "init", str(folder)], check=True, stdout=subprocess.DEVNULL)
    yaml.dump(world, folder / "world.yaml")
    process, about = sandboxes.start(folder / ".sigillum" / "sandbox", folder / "world.yaml", 0)
    try:
        subprocess.run(
            [
                *SIGILLUM,
                "tenant",
                "add",
                "summit",
                about["tenants"]["summit"]["address"],
                "--admin",
                "ada.rusk",
                "--token",
                "file:.sigillum/sandbox/summit.ada.rusk.token",
            ],
            cwd=folder,
            check=True,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        for number in range(charters):
            name = f"wind-{number}"
            (folder / "charters" / f"{name}.yaml").write_text(CHARTER.format(name=name))
        yield about
    finally:
        process.terminate()
        process.wait()
