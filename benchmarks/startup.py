"""Start-up: how much longer our commands take than the least that they could."""

from __future__ import annotations

import sys
from pathlib import Path

from benchmarks.tools import SIGILLUM, Measured, in_turns, workspace

BARE = """
import argparse
parser = argparse.ArgumentParser(prog="bare")
parser.add_argument("--version", action="version", version="bare 1.0")
parser.parse_args(["--version"])
"""
# pydantic loads most of itself when the first model is made, so importing it means making one.
CHECK_LIBRARIES = """
import argparse, json, pathlib
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError, WithJsonSchema, model_validator
from ruamel.yaml import YAML
class One(BaseModel):
    x: int
"""
REHEARSE_LIBRARIES = (
    CHECK_LIBRARIES
    + """
import sqlite3, urllib3
from rich.console import Console
from rich.table import Table
"""
)
REQUESTS = """
import json, sys, time, urllib3
pool = urllib3.PoolManager()
begun = time.perf_counter()
for line in open("exchanges.txt"):
    url = line.strip()
    json.loads(pool.request("GET", url, headers={"Authorization": "Bearer " + open("token").read().strip()}).data)
print(time.perf_counter() - begun)
"""


def measure(folder: Path) -> list[Measured]:
    house = folder / "startup"
    with workspace(house) as about:
        bare = house / "bare.py"
        bare.write_text(BARE)
        ours, theirs, ratio = in_turns([*SIGILLUM, "--version"], [sys.executable, str(bare)], house)
        found = [Measured("--version against a bare argparse script", ratio, 1.3, _both(ours, theirs))]
        check = [*SIGILLUM, "charter", "check", "wind-0"]
        ours, theirs, ratio = in_turns(check, [sys.executable, "-c", CHECK_LIBRARIES], house)
        found.append(Measured("charter check against importing its libraries", ratio, 1.4, _both(ours, theirs)))
        found.append(_rehearse(house, about))
    return found


def _rehearse(house: Path, about: dict[str, object]) -> Measured:
    """Against importing the libraries plus the same requests, sent by the library alone."""
    import subprocess

    told = subprocess.run([*SIGILLUM, "-v", "rehearse", "wind-0"], cwd=house, check=True, capture_output=True, text=True).stderr
    urls = [line.split()[1] for line in told.splitlines() if line.startswith("GET ")]
    (house / "exchanges.txt").write_text("\n".join(urls) + "\n")
    token = house / ".sigillum" / "sandbox" / "summit.ada.rusk.token"
    (house / "token").write_text(token.read_text())
    requests_ = REHEARSE_LIBRARIES + "\n" + REQUESTS
    ours, theirs, ratio = in_turns([*SIGILLUM, "rehearse", "wind-0"], [sys.executable, "-c", requests_], house)
    return Measured(f"rehearse against importing its libraries and its {len(urls)} requests", ratio, 1.6, _both(ours, theirs))


def _both(ours: float, theirs: float) -> str:
    return f"{ours * 1e3:.0f} ms, {theirs * 1e3:.0f} ms"
