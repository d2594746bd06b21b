"""Prints each dependency at the lowest version that pyproject.toml allows, as pip takes it; standard library only."""

from __future__ import annotations

import tomllib
from pathlib import Path


def lowest() -> list[str]:
    project = tomllib.loads((Path(__file__).parents[1] / "pyproject.toml").read_text(encoding="utf-8"))["project"]
    return [one.replace(">=", "==") for one in project["dependencies"]]


if __name__ == "__main__":
    print(" ".join(lowest()))
