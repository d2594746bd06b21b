"""A line with 0.2 s a request: how many rounds looking takes, and many charters at a time."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

from benchmarks.tools import SIGILLUM, Measured, seconds, workspace
from sigillum.cli import sandboxes

LATENCY_SECONDS = 0.2
CHARTERS = 50


def slow(house: Path, latency_seconds: float) -> None:
    """Every answer of the sandbox takes so long from now on; 0: as fast as it can."""
    order: dict[str, Any] = {"clear": True}
    if latency_seconds:
        order["orders"] = [{"kind": "latency", "seconds": latency_seconds, "count": 10**9}]
    sandboxes.control(house / ".sigillum" / "sandbox", "faults", order)


def rounds(house: Path, *command: str) -> float:
    """What a command takes longer on the slow line, in latencies: requests at the same time count once."""
    slow(house, 0)
    quick = min(seconds([*SIGILLUM, *command], house) for _ in range(3))
    slow(house, LATENCY_SECONDS)
    return (min(seconds([*SIGILLUM, *command], house) for _ in range(3)) - quick) / LATENCY_SECONDS


def measure(folder: Path) -> list[Measured]:
    house, found = folder / "slow", list[Measured]()
    with workspace(house, charters=CHARTERS):
        found.append(Measured("rounds of rehearse, nothing kept", rounds(house, "rehearse", "wind-0"), 3.2, "0.2 s a request"))
        seconds([*SIGILLUM, "enact", "--all", "--yes"], house)
        slow(house, LATENCY_SECONDS)
        took = {}
        for command in (("enact", "--all", "--yes", "--no-prove"), ("rehearse", "--all"), ("prove", "--all")):
            begun = time.perf_counter()
            seconds([*SIGILLUM, *command], house)
            took[command[0]] = time.perf_counter() - begun
        detail = ", ".join(f"{name} {s:.1f} s" for name, s in took.items())
        found.append(
            Measured(
                f"rehearse --all of {CHARTERS} against enact that finds the same nothing",
                took["rehearse"] / took["enact"],
                1.5,
                detail,
            )
        )
    return found
