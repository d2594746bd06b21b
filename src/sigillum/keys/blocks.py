"""PEM blocks (RFC 7468) and what looks like them, in one pass over a text of any length."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

_EDGE = re.compile(rb"-----(BEGIN|END) ([A-Z0-9 ]{1,60})-----")
# the body of a block whose last line is missing; its line ends may be written out
_BODY = re.compile(rb"(?:\\[nr]|[\sA-Za-z0-9+/=:,.-])*")


class Block(NamedTuple):
    """One of them, and where it stands. `whole`: its last line is there, and says the same as its first."""

    begin: int
    end: int
    label: str
    whole: bool

    @property
    def private(self) -> bool:
        return "PRIVATE KEY" in self.label


def blocks(data: bytes) -> Iterator[Block]:
    """All of them in order; one that never ends goes as far as its content may."""
    opened: re.Match[bytes] | None = None
    for edge in _EDGE.finditer(data):
        if opened is not None and edge[1] == b"END":
            yield Block(opened.start(), edge.end(), opened[2].decode(), edge[2] == opened[2])
            opened = None
        elif edge[1] == b"BEGIN":
            if opened is not None:
                yield _torn(data, opened, edge.start())
            opened = edge
    if opened is not None:
        yield _torn(data, opened, len(data))


def _torn(data: bytes, opened: re.Match[bytes], most: int) -> Block:
    body = _BODY.match(data, opened.end(), most)
    return Block(opened.start(), body.end() if body is not None else opened.end(), opened[2].decode(), False)
