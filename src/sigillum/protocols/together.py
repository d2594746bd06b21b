"""Independent exchanges at the same time, where answers take longer than threads do."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from typing import TypeVar

T = TypeVar("T")


def together(calls: Sequence[Callable[[], T]]) -> list[T]:
    """What each call gives, in order. The first runs here, the others beside it. Raises what the first that failed raised."""
    given, failed = dict[int, T](), dict[int, BaseException]()

    def one(number: int) -> None:
        try:
            given[number] = calls[number]()
        except BaseException as problem:  # raised again below, where somebody can handle it
            failed[number] = problem

    beside = [threading.Thread(target=one, args=(n,), daemon=True) for n in range(1, len(calls))]
    for thread in beside:
        thread.start()
    if calls:
        one(0)
    for thread in beside:
        thread.join()
    if failed:
        raise failed[min(failed)]
    return [given[n] for n in range(len(calls))]
