"""What a question to a person is about, for whoever asks it: several charters may be under way at once, each in its thread."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

ABOUT: ContextVar[str] = ContextVar("about", default="")


@contextmanager
def asking_about(what: str) -> Iterator[None]:
    """Questions that come up meanwhile in this thread are about this: a charter, or one and a generation."""
    token = ABOUT.set(what)
    try:
        yield
    finally:
        ABOUT.reset(token)
