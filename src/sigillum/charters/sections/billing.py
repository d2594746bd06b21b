"""`billing:`, the section of the facet *cost*: the name of the account that is to pay."""

from __future__ import annotations

FACET = "cost"


def to_core(name: str | None) -> str:
    return name or ""
