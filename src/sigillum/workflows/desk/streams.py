"""Streams of the ledger as one run reads them: each entry is read once, and folded once for what was added."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from sigillum.core.records.chain import LedgerEntry
    from sigillum.core.records.history import History

AT_ONCE = 64  # streams that are remembered; a run over ten thousand charters reads each once and goes on


class Stream(NamedTuple):
    """One stream up to its newest entry; nobody changes it: what comes later makes another one."""

    entries: list[LedgerEntry]
    state: History


class Streams:
    """Safe for several threads. `read` gives the entries of a stream after a sequence number."""

    def __init__(self, read: Callable[[str, int], Iterable[LedgerEntry]]) -> None:
        self._read, self._lock, self._known = read, threading.Lock(), dict[str, Stream]()

    def of(self, uid: str) -> Stream:
        """As it is now, whoever has written meanwhile."""
        from sigillum.core.records.folding import fold

        with self._lock:
            known = self._known.pop(uid, None)
            old = known.entries if known is not None else []
            fresh = list(self._read(uid, old[-1].sequence if old else 0))
            if known is None or fresh:
                known = Stream([*old, *fresh], fold([*old, *fresh], uid))
            self._known[uid] = known  # the newest stands last
            if len(self._known) > AT_ONCE:
                del self._known[next(iter(self._known))]
            return known
