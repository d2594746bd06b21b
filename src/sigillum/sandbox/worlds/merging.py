"""What a changed description changes of what stands meanwhile."""

from __future__ import annotations

import json
from typing import Any

Json = dict[str, Any]


def merged(now: Json, before: Json, after: Json) -> Json:
    """What stands now, with that changed which is described otherwise than before; lists lose and gain single values."""
    out = dict(now)
    for name in {*before, *after}:
        old, new, here = before.get(name), after.get(name), now.get(name)
        if old == new:
            continue
        if isinstance(old or new, list) and isinstance(here or [], list):
            left = [_key(v) for v in old or []]
            kept = [v for v in here or [] if _key(v) not in left]
            new = [*kept, *(v for v in new or [] if _key(v) not in [_key(k) for k in kept])] or None
        elif isinstance(old, dict) and isinstance(new, dict) and isinstance(here, dict):
            new = merged(here, old, new)
        out[name] = new
    return {k: v for k, v in out.items() if v is not None}


def _key(value: Any) -> Any:
    """What makes an entry of a list the same one: its value, where it has one."""
    return value.get("value", json.dumps(value, sort_keys=True)) if isinstance(value, dict) else value


def labels(described: Json | None) -> list[Json] | None:
    """`{stage: [dev, test]}` as a list of names and values."""
    return [
        {"name": n, "value": v}
        for n, values in (described or {}).items()
        for v in (values if isinstance(values, list) else [values])
    ] or None
