"""Which header fields can go with a request (RFC 9110 §5)."""

from __future__ import annotations

import re

NAME = re.compile(r"[A-Za-z0-9!#$%&'*+.^_`|~-]+\Z")
FRAMING = frozenset(("host", "content-length", "transfer-encoding", "connection", "te", "trailer", "upgrade"))  # RFC 9110 §7


def fault_of(name: str, value: str) -> tuple[str, str] | None:
    """What is wrong with a field, and what to do about it; None where it can be sent."""
    if not NAME.match(name):
        return f"{name!r} is no name of a header", "use letters, digits and dashes"
    if name.lower() in FRAMING:
        return f"{name} is written by the HTTP library alone", "leave it out"
    if not value.isascii() or not value.isprintable():
        return f"the value of {name} has characters that no header can hold", "write it in ASCII"
    return None
