"""A plugin of pytest for `make mutants`: whatever runs is noted with the test that runs it, in processes that it starts, too."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from pathlib import Path

import coverage
import pytest


@pytest.hookimpl(wrapper=True)
def pytest_runtest_protocol(item: pytest.Item) -> Iterator[None]:
    os.environ["MEASURED_TEST"] = item.nodeid
    current, begun = coverage.Coverage.current(), time.monotonic()
    if current is not None:
        current.switch_context(item.nodeid)
    try:
        return (yield)
    finally:
        with Path(f"{os.environ['MEASURED_INTO']}-{os.getpid()}").open("a", encoding="utf-8") as file:
            file.write(f"{time.monotonic() - begun:.3f} {item.nodeid}\n")
        if current is not None:
            current.switch_context("")
