"""Pieces that several views share."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable, Sequence
from datetime import datetime
from typing import Any

from rich.console import RenderableType
from rich.table import Table
from rich.text import Text

from sigillum.core.values.marks import Ref
from sigillum.core.values.text import SOME
from sigillum.core.values.times import format_instant

Ident = Callable[[str], str]

_IDENTIFIER = re.compile(r"[\w.+-]+@[\w.-]+|\b[0-9a-f]{16}\b")


def masked(text: str, ident: Ident) -> str:
    """A sentence with the mail addresses and ids in it shown as `ident` shows them."""
    return _IDENTIFIER.sub(lambda found: ident(found[0]), text)


def table(columns: Sequence[str], rows: Iterable[Sequence[Any]], whole: Sequence[str] = ()) -> RenderableType:
    """A plain table: heads and rows, no boxes. Columns in `whole` are never broken."""
    made = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold")
    for column in columns:
        made.add_column(column, overflow="fold", no_wrap=column in whole)
    for row in rows:
        made.add_row(*(cell if isinstance(cell, Text) else Text(str(cell)) for cell in row))
    return made


def pairs(rows: Iterable[tuple[str, Any]]) -> RenderableType:
    """Names and values, aligned."""
    made = Table.grid(padding=(0, 2, 0, 0))
    made.add_column(style="dim", no_wrap=True)
    made.add_column(overflow="fold")
    for name, value in rows:
        made.add_row(name, Text(str(value)))
    return made


def value_text(value: Any) -> str:
    """A value as people read it, whole: somebody may agree to it."""
    if value is None or value == "":
        return "(nothing)"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, datetime):
        return format_instant(value)
    if isinstance(value, Ref):
        return f"(from {value.step})"
    if isinstance(value, (list, tuple)):
        count = f"{len(value)} values: " if len(value) > SOME else ""
        return count + ", ".join(" ".join(map(value_text, v)) if isinstance(v, tuple) else str(v) for v in value) or "(nothing)"
    return str(value) if not isinstance(value, dict) else json.dumps(value)
