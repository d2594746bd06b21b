"""JSON that somebody else wrote: bounded in depth, and nothing in it that JSON does not have."""

from __future__ import annotations

import json
from typing import Any

MOST_DEPTH = 100


def json_of(text: str | bytes, *, once: bool = False, most_depth: int = MOST_DEPTH) -> Any:
    """The value of a JSON text (RFC 8259). Raises ValueError; for NaN (§6), a lone surrogate (§8.2), depth over 100 (§9), too.

    `once`: also where an object has a name twice, which some read as the first and some as the last (§4).
    """
    try:
        found = json.loads(text, parse_constant=_constant, object_pairs_hook=_once if once else None)
    except RecursionError as problem:
        raise ValueError("it is nested too deeply") from problem
    if ("\\u" if isinstance(text, str) else b"\\u") in text:  # type: ignore[operator]
        try:
            json.dumps(found, ensure_ascii=False).encode()
        except UnicodeEncodeError as problem:
            raise ValueError("a text in it holds half a character") from problem
    level, depth = [found] if type(found) in (dict, list) else [], 0
    while level:
        depth += 1
        if depth > most_depth:
            raise ValueError("it is nested too deeply")
        level = [v for node in level for v in (node.values() if type(node) is dict else node) if type(v) in (dict, list)]
    return found


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    made = dict(pairs)
    if len(made) != len(pairs):
        raise ValueError("a name stands twice in it")
    return made


def _constant(name: str) -> Any:
    raise ValueError(f"{name} is no JSON")
