"""`licence:` and `identity: mailbox`, the section of the facet *licence*: a name and a yes."""

from __future__ import annotations

FACET = "licence"


def to_core(name: str | None) -> str:
    return name or ""
