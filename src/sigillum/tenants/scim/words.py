"""Reading a SCIM resource's JSON: text stays as it is, since views make it safe; what has another form counts as not said."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sigillum.core.values.times import parse_instant

Json = dict[str, Any]


def text(value: Any) -> str:
    return value if isinstance(value, str) else ""


def instant(value: Any) -> datetime | None:
    try:
        return parse_instant(value) if isinstance(value, str) else None
    except ValueError:
        return None


def inner(resource: Json, name: str) -> Json:
    """A complex attribute or an extension; empty where there is none."""
    found = resource.get(name)
    return found if isinstance(found, dict) else {}


def part(resource: Json, name: str, sub: str) -> str:
    return text(inner(resource, name).get(sub))


def many(value: Any) -> list[Json]:
    """The complex values of a multi-valued attribute."""
    return [v for v in value if isinstance(v, dict)] if isinstance(value, list) else []


def texts(value: Any) -> tuple[str, ...]:
    return tuple(text(v) for v in value if isinstance(v, str)) if isinstance(value, list) else ()


def whole(value: Any) -> int | None:
    return value if isinstance(value, int) and not isinstance(value, bool) and value >= 0 else None


def created(resource: Json) -> datetime | None:
    return instant(inner(resource, "meta").get("created"))
