"""Places of a database server as paths, and back: `app/sales/orders`, and `app/"Sales 2026"/"a%2Fb"` where a name needs it."""

from __future__ import annotations

import re
from collections.abc import Iterable
from urllib.parse import unquote

PLAIN = re.compile(r"[A-Za-z0-9_][\w.-]*\Z")
_WITHIN = '"/%'  # what a quoted segment says by its UTF-8 bytes, beside whatever shows nothing


def path_of(names: Iterable[str]) -> str:
    """The path of an object, by the names of it and of what it is in. Each object has one path."""
    return "/".join(name if PLAIN.match(name) else _quoted(name) for name in names)


def _quoted(name: str) -> str:
    said = (c if c.isprintable() and c not in _WITHIN else "".join(f"%{b:02X}" for b in c.encode()) for c in name)
    return f'"{"".join(said)}"'


def names_of(path: str) -> list[str]:
    """The names that a path is made of."""
    return [unquote(p[1:-1]) if p.startswith('"') and p.endswith('"') else p for p in path.split("/")]
