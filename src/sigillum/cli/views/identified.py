"""What an identifier is, as text and JSON."""

from __future__ import annotations

from typing import Any

from rich.console import Group, RenderableType
from rich.text import Text

from sigillum.workflows.surveying.identify import Identified

from .common import Ident, pairs


def text(found: Identified, value: str, ident: Ident) -> RenderableType:
    parts: list[RenderableType] = []
    if found.form:
        parts.append(Text(f"This is {found.form}."))
    for one in found.found:
        rows = [("at", one.tenant), ("of", one.name), ("whose", one.whose or "nobody is named"), ("use it", one.use)]
        rows += [(word, ident(other)) for word, other in one.siblings]
        parts += [Text(f"{ident(value)}: {one.what}", style="bold"), pairs(rows), ""]
    if not parts:
        parts = [Text("No tenant that was asked knows it: neither as a name nor as an id."), ""]
    parts += [Text(f"not asked: {tenant} ({why})", "yellow") for tenant, why in found.silent]
    return Group(*parts)


def as_json(found: Identified) -> dict[str, Any]:
    return {
        "form": found.form,
        "not_asked": [{"tenant": t, "why": w} for t, w in found.silent],
        "meanings": [
            {
                "tenant": f.tenant,
                "what": f.what,
                "of": f.name,
                "whose": f.whose,
                "use": f.use,
                "siblings": [{"what": w, "value": v} for w, v in f.siblings],
            }
            for f in found.found
        ],
    }
