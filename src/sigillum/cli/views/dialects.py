"""What trying a dialect told, as text and JSON."""

from __future__ import annotations

from typing import Any

from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from sigillum.testing.trial_rows import DIFFERS, MARKED, NAMED, NONE, NOT_DESCRIBED, NOT_TRIED, WORKS, Tried

_STYLES = {WORKS: "green", DIFFERS: "bold red", NOT_DESCRIBED: "yellow", NOT_TRIED: "yellow"}
FOLLOWS = {
    MARKED: "what was begun is found again by our mark, after any interruption",
    NAMED: "what was begun is found again by its name alone: a stranger's of that name cannot be told from ours",
    NONE: "an interrupted making may leave one that is not found again",
}


def tried(found: Tried) -> RenderableType:
    """The table, and what follows from it."""
    grid = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold")
    for column in ("tried", "came", "why"):
        grid.add_column(column, overflow="fold")
    for row in found.rows:
        grid.add_row(row.what, Text(row.came, _STYLES[row.came]), row.why)
    told = f"{found.safety}; {FOLLOWS[found.safety]}" if found.safety else "not known, since no account was made"
    safety = Text.assemble(("Kill safety: ", "bold"), f"{told}.")
    parts: list[RenderableType] = [grid, "", safety]
    if found.left:
        parts.append(Text(f"Left there, and to be ended by hand: {', '.join(found.left)}.", "bold red"))
    wrong = sum(r.came == DIFFERS for r in found.rows)
    end = (
        f"{wrong} thing{'s' if wrong != 1 else ''} differ{'s' if wrong == 1 else ''} from the dialect."
        if wrong
        else "All that was tried works as the dialect says."
    )
    return Group(*parts, Text(end, "bold"))


def as_json(found: Tried) -> dict[str, Any]:
    return {
        "tenant": found.tenant,
        "identity": found.name,
        "safety": found.safety,
        "left": found.left,
        "rows": [row._asdict() for row in found.rows],
    }
