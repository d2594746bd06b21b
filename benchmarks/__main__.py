"""Run all measurements and hold them against their bounds; exit code 1 where one is missed."""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path

from benchmarks import bulk, decisions, dialects, growth, latency, ledger, lives, requests, scan, signing, startup
from benchmarks.tools import Measured, show


def main() -> int:
    good = True
    with tempfile.TemporaryDirectory() as folder:
        # our modules are compiled once, like those of an installed tool; else each start would compile them, and no library
        os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
        os.environ["PYTHONPYCACHEPREFIX"] = str(Path(folder) / "bytecode")
        for module in (decisions, signing, startup, ledger, requests, latency, dialects, scan, growth, lives, bulk):
            found: list[Measured] = module.measure(Path(folder))
            show(found)  # as it goes: a run that is stopped has told what it knows
            good = good and all(m.good for m in found)
    return 0 if good else 1


sys.exit(main())
