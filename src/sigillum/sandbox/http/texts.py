"""JSON as RFC 8259 has it: no NaN, no infinities, and no nesting that nobody means."""

from __future__ import annotations

import json
from typing import Any

MOST_DEPTH = 60


def loads(text: str | bytes, *, once: bool = False) -> Any:
    """`once`: a name that stands twice in an object is refused (RFC 7515 §4, RFC 7519 §4). Raises ValueError."""
    try:
        found = json.loads(text, parse_constant=_constant, object_pairs_hook=_once if once else None)
    except RecursionError as problem:
        raise ValueError("nested too deeply") from problem
    if _deeper(found, MOST_DEPTH):
        raise ValueError("nested too deeply")
    return found


def _deeper(value: Any, most: int) -> bool:
    inner = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    return any(most == 0 or _deeper(v, most - 1) for v in inner if isinstance(v, (dict, list)))


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    if len({n for n, _ in pairs}) != len(pairs):
        raise ValueError("a name stands twice")
    return dict(pairs)


def _constant(name: str) -> Any:
    raise ValueError(f"{name} is not JSON")
