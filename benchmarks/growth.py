"""What grows with a workspace: `due` after every charter's file has changed, and `ledger verify`; seconds, and CPU at twice the size."""

from __future__ import annotations

import os
import resource
import subprocess
import time
from pathlib import Path
from statistics import median

from benchmarks.ledger import fill
from benchmarks.tools import CHARTER, SIGILLUM, Measured

CHARTERS, ENTRIES, RUNS = 1_000, 11_000, 5
TENANT = "tenants:\n  summit: {address: 'https://summit.example/scim/v2', admin: {name: ada.rusk, token: 'env:T'}}\n"


def _house(folder: Path, charters: int, entries: int) -> Path:
    subprocess.run([*SIGILLUM, "init", str(folder)], check=True, stdout=subprocess.DEVNULL)
    file = folder / "sigillum.yaml"
    file.write_text(file.read_text().replace("tenants: {}\n", TENANT))
    for number in range(charters):
        (folder / "charters" / f"c{number}.yaml").write_text(CHARTER.format(name=f"c{number}"))
    fill(folder, entries)
    return folder


def _took(folder: Path, *words: str, change: bool = False) -> tuple[float, float]:
    """Seconds, and CPU seconds, of the middle one of some runs."""
    found = list[tuple[float, float]]()
    for _ in range(RUNS):
        for path in (folder / "charters").iterdir() if change else ():
            os.utime(path)
        before, begun = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
        subprocess.run([*SIGILLUM, *words], cwd=folder, check=True, capture_output=True)
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
        found.append((time.perf_counter() - begun, after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime))
    return median(s for s, _ in found), median(c for _, c in found)


def measure(folder: Path) -> list[Measured]:
    half = _house(folder / "half", CHARTERS // 2, ENTRIES // 2)
    whole = _house(folder / "whole", CHARTERS, ENTRIES)
    out = list[Measured]()
    for words, change, bound, what in (
        (("due",), True, 4.0, f"`due` after all of {CHARTERS:,} charters changed"),
        (("ledger", "verify"), False, 2.0, f"`ledger verify` of {ENTRIES:,} entries"),
    ):
        (_, less), (seconds, cpu) = _took(half, *words, change=change), _took(whole, *words, change=change)
        out.append(Measured(f"{what}: seconds", seconds, bound, f"{cpu:.2f} s of CPU"))
        out.append(Measured(f"{what}: CPU against half as many", cpu / less, 2.6, f"{cpu:.2f} s, {less:.2f} s"))
    return out
