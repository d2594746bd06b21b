"""Looking through 10,000 files for keys and secrets, against reading them."""

from __future__ import annotations

import random
import string
import time
from pathlib import Path

from benchmarks.tools import Measured
from sigillum.workflows.surveying.scan import Lying, look

FILES, LINES, ONE_IN = 10_000, 60, 50
WORDS = (
    "alpha",
    "reads the wind",
    "def run(self):",
    "    return value",
    "import os",
    "mast 4",
    "x = [1, 2, 3]",
    "# why it is",
    "station/7",
)


def measure(folder: Path) -> list[Measured]:
    """Text with a secret in one file of fifty, as scripts and configurations are."""
    chance, place = random.Random(1), folder / "lying"
    for number in range(FILES):
        path = place / f"d{number % 100}" / f"f{number}.txt"
        path.parent.mkdir(parents=True, exist_ok=True)
        secret = "".join(chance.choice(string.ascii_letters + string.digits) for _ in range(24))
        path.write_text(
            "\n".join(" ".join(chance.choice(WORDS) for _ in range(6)) for _ in range(LINES))
            + (f"\napi_key={secret}\n" if number % ONE_IN == 0 else "\n")
        )
    reading = scanning = 0.0
    for _ in range(2):  # the first fills the system's cache
        begun = time.perf_counter()
        for path in place.rglob("*.txt"):
            path.read_bytes()
        reading = time.perf_counter() - begun
        found, begun = list[Lying](), time.perf_counter()
        look(None, [place], found)
        scanning = time.perf_counter() - begun
    assert len(found) >= FILES // ONE_IN * 9 // 10, len(found)
    detail = f"{scanning:.2f} s, {reading:.2f} s"
    return [Measured(f"key scan of {FILES} files against reading them", scanning / reading, 2, detail)]
