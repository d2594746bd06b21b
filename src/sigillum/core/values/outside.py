"""JSON that somebody else wrote: bounded in depth, and nothing in it that JSON does not have."""

from __future__ import annotations

import json
from typing import Any

MOST_DEPTH = 100


def json_of(text: str | bytes) -> Any:
    """The value of a JSON text (RFC 8259). Raises ValueError, for NaN (§6) and for nesting beyond 100 (§9), too."""
    try:
        found = json.loads(text, parse_constant=_constant)
    except RecursionError as problem:
        raise ValueError("it is nested too deeply") from problem
    level, depth = [found] if type(found) in (dict, list) else [], 0
    while level:
        depth += 1
        if depth > MOST_DEPTH:
            raise ValueError("it is nested too deeply")
        level = [v for node in level for v in (node.values() if type(node) is dict else node) if type(v) in (dict, list)]
    return found


def _constant(name: str) -> Any:
    raise ValueError(f"{name} is no JSON")
