"""What one charter costs in requests, and that it is the same whether its tenant has ten principals or ten thousand."""

from __future__ import annotations

import subprocess
from pathlib import Path

from benchmarks.tools import SIGILLUM, Measured, workspace

SIZES = (10, 10_000)


def count(house: Path, *command: str) -> int:
    told = subprocess.run([*SIGILLUM, "-v", *command], cwd=house, check=True, capture_output=True, text=True).stderr
    return sum(1 for line in told.splitlines() if " -> " in line)


def measure(folder: Path) -> list[Measured]:
    found = {}
    for size in SIZES:
        house = folder / f"crowd-{size}"
        with workspace(house, crowd=size):
            found[size] = [
                count(house, "rehearse", "wind-0"),
                count(house, "enact", "wind-0", "--yes"),
                count(house, "rehearse", "wind-0"),
            ]
    few, many = (found[s] for s in SIZES)
    same = float(max(abs(a - b) for a, b in zip(few, many, strict=True)))
    return [
        Measured("requests more with 10,000 principals than with 10", same, 0, f"rehearse, enact, rehearse: {many}"),
        Measured("requests of enacting a plain charter", float(many[1]), 24, "proofs and what shows them included"),
    ]
