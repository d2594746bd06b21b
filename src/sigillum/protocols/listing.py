"""When a list has to come to its end: one rule for every protocol that gives lists page by page."""

from __future__ import annotations

import time
from collections.abc import Iterable

from sigillum.core.values.errors import UnreachableError

MOST_PAGES, MOST_BYTES, MOST_SECONDS = 2_000, 64_000_000, 300.0
EMPTY_PAGES = 3  # in a row that bring nothing new; servers that filter after paging give some


class Turning:
    """The pages of one list as they come. What repeats itself for ever, or grows for ever, is stopped."""

    def __init__(self, where: str, most: int, *, mend: str = "") -> None:
        """`most`: records; `mend`: what a person can do about it."""
        self._where, self._most = where, most
        self._mend = mend or "ask the tenant's operator what answers there"
        self._seen, self._pages, self._bytes, self._empty = set[str](), 0, 0, 0
        self._until = time.monotonic() + MOST_SECONDS

    def page(self, records: Iterable[str], size_bytes: int) -> None:
        """Another page, before the next one is asked for: what its records are known by. Raises UnreachableError."""
        before = len(self._seen)
        self._seen.update(records)
        self._pages, self._bytes = self._pages + 1, self._bytes + size_bytes
        self._empty = 0 if len(self._seen) > before else self._empty + 1
        if self._empty >= EMPTY_PAGES:
            self._stop(f"its last {EMPTY_PAGES} pages brought nothing new, and it names another one")
        if len(self._seen) > self._most:
            self._stop(f"it has more than {self._most} records")
        if self._pages >= MOST_PAGES or self._bytes > MOST_BYTES or time.monotonic() > self._until:
            self._stop(f"{self._pages} pages and {self._bytes:,} bytes have come")

    def _stop(self, why: str) -> None:
        raise UnreachableError(f"the list does not come to an end: {why}", where=self._where, mend=self._mend)
