"""Retirements as text and JSON: what would end, what ended, and the close-out list."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from sigillum.core.values.times import format_instant
from sigillum.workflows.stopping.plan import Plan, Used
from sigillum.workflows.stopping.retire import Retired

from .common import Ident, masked
from .hints import problem_json, problem_lines
from .rehearsal import steps
from .steps import step_rows
from .words import plural

_REFUSED = {True: ("refused", "green"), False: ("not refused", "bold red"), None: ("not shown", "yellow")}


def plan(one: Plan, ident: Ident) -> RenderableType:
    """What would end, in its order; who used it last; what would be left."""
    gone = "" if one.file else "  its file is gone; this is what the ledger knows"
    parts: list[RenderableType] = [Text.assemble((f"Retiring {one.charter.name}", "bold"), f"{gone}")]
    if one.found.outline.steps:
        parts += ["", steps(one.found.outline.steps)]
    if one.loans:
        parts += ["", *(Text(f"recall   {loan.about}, until {format_instant(loan.until)}") for loan in one.loans)]
    if one.used:
        parts += ["", _rows((u.name, _used(u, ident)) for u in one.used)]
    if one.found.stopped:
        parts += ["", *(Text(f"asked    {about}", "yellow") for about in one.found.stopped)]
    if one.holdings:
        parts += [
            "",
            Text("In the way (give it to somebody else first):", "bold"),
            *(Text(f"  {w}", "yellow") for w in one.holdings),
        ]
    if one.left:
        parts += ["", Text("Left afterwards:", "bold"), _left([entry._asdict() for entry in one.left], ident)]
    count = len(one.found.outline.steps) + len(one.loans)
    return Group(*parts, "", Text(f"{plural(count, 'step')}.", "bold"))


def _used(used: Used, ident: Ident) -> str:
    if not used.told:
        return f"{used.tenant} does not tell when it was used"
    if used.at is None:
        return "never used, as far as its tenant tells"
    return f"used last at {format_instant(used.at)}{f' from {ident(used.address)}' if used.address else ''}"


def retired(done: Retired, closed_: Mapping[str, Any] | None, ident: Ident) -> RenderableType:
    """What was done; its close-out list, once all has ended."""
    parts: list[RenderableType] = [Text.assemble((f"Retiring {done.plan.charter.name}", "bold"))]
    if done.results:
        parts += ["", step_rows(done.results)]
    for error in done.errors:
        parts += ["", *(Text(line, "yellow") for line in problem_lines(error))]
    if closed_ is not None:
        return Group(*parts, "", closed(closed_, ident))
    if done.ways:
        parts += ["", _ways([w.body() for w in done.ways])]
    return Group(*parts, "", Text("Not finished: run the same command again.", "bold"))


def closed(body: Mapping[str, Any], ident: Ident) -> RenderableType:
    """The close-out list."""
    parts: list[RenderableType] = [
        Text.assemble(
            (f"{body['name']} is retired", "bold"), f", at {body['at']} by {ident(str(body['by']))}: {body['because']}"
        )
    ]
    if body["ended"]:
        parts += [
            "",
            Text("Ended", "dim"),
            _rows((f"{e['tenant']}", f"{masked(e['what'], ident)}, at {e['at']}") for e in body["ended"]),
        ]
    if body["ways"]:
        parts += ["", Text("Ways in", "dim"), _ways(body["ways"])]
    if body["removed"]:
        parts += ["", Text("Removed here", "dim"), _rows(("", str(name)) for name in body["removed"])]
    parts += ["", Text("Left", "dim"), _left(body["left"], ident)] if body["left"] else ["", Text("Nothing is left.")]
    return Group(*parts, "")


def _ways(ways: Iterable[Mapping[str, Any]]) -> Table:
    grid = Table.grid(padding=(0, 2, 0, 2))
    for _ in range(2):
        grid.add_column(no_wrap=True)
    grid.add_column(overflow="fold")
    for way in ways:
        word, style = _REFUSED[way["refused"]]
        grid.add_row(Text(word, style), str(way["way"]), Text("" if way["said"] == word else str(way["said"]), "dim"))
    return grid


def _left(left: Iterable[Mapping[str, Any]], ident: Ident) -> Table:
    return _rows(
        (masked(f"{entry['what']}{f' in {where}' if (where := entry['where']) else ''}", ident), str(entry["why"]))
        for entry in left
    )


def _rows(rows: Iterable[tuple[str, str]]) -> Table:
    grid = Table.grid(padding=(0, 2, 0, 2))
    grid.add_column(overflow="fold")
    grid.add_column(overflow="fold")
    for one, two in rows:
        grid.add_row(one, Text(two, "dim" if one else ""))
    return grid


def plan_json(plan: Plan) -> dict[str, Any]:
    return {
        "name": plan.charter.name,
        "uid": plan.uid,
        "file": plan.file,
        "retired": False,
        "steps": [{"step": str(s.kind), "about": s.about, "tenant": s.tenant} for s in plan.found.outline.steps],
        "recalls": [loan.uid for loan in plan.loans],
        "used": [
            {
                "tenant": u.tenant,
                "credential": u.name,
                "told": u.told,
                "from": u.address,
                "at": format_instant(u.at) if u.at is not None else None,
            }
            for u in plan.used
        ],
        "stopped": list(plan.found.stopped),
        "left": [entry._asdict() for entry in plan.left],
        "in_the_way": list(plan.holdings),
    }


def retired_json(done: Retired, closed_: Mapping[str, Any] | None) -> dict[str, Any]:
    return {
        "name": done.plan.charter.name,
        "retired": done.done,
        "outcome": int(done.outcome()),
        "steps": [{"step": str(r.step.kind), "about": r.step.about, "state": str(r.state)} for r in done.results],
        "ways": [w.body() for w in done.ways],
        "errors": [problem_json(e) for e in done.problems],
        "close_out": dict(closed_) if closed_ is not None else None,
    }


def closed_json(body: Mapping[str, Any]) -> dict[str, Any]:
    return {"name": body["name"], "retired": True, "close_out": dict(body)}
