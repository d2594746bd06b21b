"""Steps, and what became of each."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import RenderableType
from rich.table import Table
from rich.text import Text

from sigillum.workflows.enacting.carrying.run import StepResult

from .hints import problem_lines

_STATES = {
    "done": ("done", "green"),
    "failed": ("failed", "bold red"),
    "skipped": ("left out", "yellow"),
    "asked": ("asked", "bold yellow"),
}


def step_rows(results: Sequence[StepResult]) -> RenderableType:
    """Each step with what became of it."""
    grid = Table.grid(padding=(0, 2, 0, 0))
    for _ in range(3):
        grid.add_column(no_wrap=True)
    grid.add_column(overflow="fold")
    for number, result in enumerate(results, 1):
        word, style = _STATES[result.state]
        grid.add_row(f"{number:>2}", Text(word, style), Text(result.step.kind), Text(_about(result)))
        for line in problem_lines(result.error):
            grid.add_row("", "", "", Text(line, "red"))
    return grid


def _about(result: StepResult) -> str:
    """What a step was about; an end is always shown with its instant."""
    until = result.step.after.get("until") if result.step.kind == "make" else None
    return f"{result.step.about}, until {until}" if until else result.step.about
