"""Several charters at a time, their results in order as they come, and a stop that finishes what is under way."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

from .settings import Settings

T = TypeVar("T")
R = TypeVar("R")

WORKERS = 8  # at a time: while some wait for the tenant or the disk, others go on
TURN_SECONDS = 0.0005  # our turns between two requests are short; longer ones make threads queue for nothing


def several(settings: Settings, work: Callable[[T], R], items: Sequence[T], *, finish: bool = False) -> Iterator[R]:
    """The result of each, in order. An interruption sets `settings.stop`; with `finish` what is under way comes to its end
    first, and a second interruption ends it at once. Raises what `work` raises.
    """
    if not finish and len(items) < 2:
        yield from map(work, items)
        return
    sys.setswitchinterval(TURN_SECONDS)
    pool = ThreadPoolExecutor(max(1, min(WORKERS, len(items))))
    try:
        for future in [pool.submit(work, item) for item in items]:
            yield _result(settings, future, finish)
    except BaseException:
        settings.stop.set()
        raise
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


def _result(settings: Settings, future: Future[R], finish: bool) -> R:
    while True:
        try:
            return future.result()
        except KeyboardInterrupt:
            if not finish or settings.stop.is_set() or settings.asking.is_set():
                raise
            settings.stop.set()
            settings.stopping()
