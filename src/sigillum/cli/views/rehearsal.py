"""A rehearsal as text and JSON."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping
from datetime import datetime
from typing import Any

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from sigillum.core.charter.charter import Charter
from sigillum.core.kinds.access import ROLE
from sigillum.core.kinds.changes import Make, plain
from sigillum.core.kinds.kind import SAYS_OF_ITSELF
from sigillum.core.records.steps import USUAL, Ask, Collision, Kept, Outline, Step
from sigillum.core.values.marks import Ref
from sigillum.core.values.times import format_instant
from sigillum.workflows.desk.books import Orphan
from sigillum.workflows.enacting.rehearse import Rehearsal

from .common import Ident, table, value_text
from .hints import advised, mistake_json, problem_json, problem_lines
from .words import nothing_to_do, open_ends, plural

MARGIN = 8  # of what is said below a step


def text(rehearsal: Rehearsal, ident: Ident) -> RenderableType:
    """Steps numbered and told in words, then what is worth knowing, then the sum; or what kept it from being looked at."""
    if rehearsal.error is not None:
        return Group(Text(rehearsal.charter.name, "bold"), *(Text(line, "red") for line in problem_lines(rehearsal.error)))
    return of_outline(rehearsal.charter, rehearsal.outline, ident)


def of_outline(charter: Charter, outline: Outline, ident: Ident) -> RenderableType:
    """The same, where only the outline is at hand."""
    parts: list[RenderableType] = [
        Text.assemble(
            (charter.name, "bold"),
            f"  {charter.purpose}\n",
            (f"{charter.tenant} · {charter.stage or 'no stage'} · owner {ident(charter.owner)}", "dim"),
        )
    ]
    if outline.steps and not (outline.mistakes or outline.open):
        parts += ["", steps(outline.steps, charter.purpose)]
    for taken in outline.collisions:
        parts += ["", collision(taken, ident)]
    for mistake in (*outline.mistakes, *outline.open):
        parts += [
            "",
            Text(f"{mistake.position}: {mistake.what}"),
            Padding(Text(advised(mistake.code, mistake.mend)), (0, 0, 0, 4)),
        ]
    if outline.notes:
        parts += ["", notes(outline)]
    parts += ["", Text(summary(outline), style="bold")]
    return Group(*parts)


def steps(all_: tuple[Step, ...], purpose: str = "") -> RenderableType:
    """The steps: number, word, what it is about; below it why, where that is not the same for everybody, and what changes."""
    grid = Table.grid(padding=(0, 2, 0, 0))
    grid.add_column(justify="right")
    grid.add_column(no_wrap=True)
    grid.add_column(overflow="fold")
    for number, step in enumerate(all_, 1):
        grid.add_row(str(number), Text(step.kind), Text(step.about))
        rows = details(step, purpose)
        width = max([MARGIN, *(len(name) + 1 for name, _ in rows)])
        for name, value in rows:
            grid.add_row("", "", Text.assemble((f"{name:<{width}}", "dim"), value, style=""))
    return grid


def details(step: Step, purpose: str = "") -> list[tuple[str, str]]:
    """What is said below a step; not the purpose, which stands above all of them."""
    rows = [("why", step.why)] if step.why and step.why not in USUAL and step.why != purpose else []
    if step.by or (step.kind == "ask" and step.power):
        rows.append(("power", f"{step.power}, as {step.by}" if step.by else step.power))
    if step.before and set(step.before) != {"active"}:  # that one is in what the step is about
        rows += [
            (name, f"{value_text(step.before.get(name))} becomes {value_text(value)}") for name, value in step.after.items()
        ]
    else:
        rows += _unsaid(step, purpose, rows, step.after)
    action = step.action.action if isinstance(step.action, Ask) else step.action
    return [*rows, *_unsaid(step, purpose, rows, action.part if isinstance(action, Make) else {})]


def _unsaid(step: Step, purpose: str, rows: list[tuple[str, str]], values: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    """What no row says yet of what is sent, here or in a request: whoever agrees sees all of it."""
    said = {step.about, step.why, purpose, *(value for _, value in rows)}
    for name, value in values.items():
        text = value_text(value)
        known = name in ABOVE or name.replace("_", " ") in dict(rows) or any(text in one for one in said)
        if (
            not known
            and value not in (None, "", (), [])
            and not isinstance(value, (Kept, dict, datetime))
            and not _later(value)
        ):
            yield name.replace("_", " "), text


def _later(value: Any) -> bool:
    """Is it what an earlier step makes, and has no value yet? What it is about stands in the step's first line."""
    return (
        isinstance(value, Ref)
        or (isinstance(value, str) and value.startswith("@("))
        or (isinstance(value, tuple) and bool(value) and all(map(_later, value)))
    )


# what stands above all steps or in the first line of one, and the ids of what stands there by its name
ABOVE = frozenset(("owner", "purpose", "active", "carrier", "role_id", "place_id", "principal", "type"))


def collision(taken: Collision, ident: Ident) -> RenderableType:
    """Wanted and existing side by side, and the ways out."""
    if taken.matches:
        return Text.assemble(
            ("stands   ", "dim"),
            f"{taken.kind.name} {taken.name} ({ident(taken.id)}) is as the "
            "charter says; Sigillum did not make it, and changes nothing at it before `--adopt`",
        )
    head = (
        f"{taken.kind.name} {taken.name} exists ({ident(taken.id)}), and Sigillum did not make it."
        if taken.id
        else f"{taken.kind.name} {taken.name} is said to exist, and is not shown."
    )
    rows = [
        (name, value_text(wanted), value_text(existing), _compared(name, wanted, existing))
        for name, wanted, existing in taken.rows
    ]
    stands = re.sub(r" \([^)]*\)", "", next((str(e) for n, _, e in taken.rows if n == "permissions"), ""))
    how = (
        f"`permissions: [{stands}]`; or leave it out of `roles:`, and grant it"
        if taken.kind is ROLE
        else f"`sigillum charter new NAME --describe {ident(taken.name)} --tenant ...`"
    )
    return Group(
        Text.assemble(("taken    ", "bold yellow"), head),
        table(("", "wanted", "existing", ""), rows),
        Text(
            f"keep it      describe it as it stands: {how}\n"
            "change it    take it over, and make it as the charter says: `sigillum enact --adopt`\n"
            "leave it     choose another name in the charter",
            "dim",
        ),
    )


def _compared(name: str, wanted: Any, existing: Any) -> str:
    if (wanted or None) == (existing or None):
        return ""
    return "not said yet" if not existing and name in SAYS_OF_ITSELF else "differs"


def notes(outline: Outline) -> RenderableType:
    grid = Table.grid(padding=(0, 2, 0, 0))
    grid.add_column(no_wrap=True)
    grid.add_column(overflow="fold")
    for note in outline.notes:
        grid.add_row(
            Text("warning" if note.warning else "note", "yellow" if note.warning else "dim"),
            Text(advised(note.code, note.text)),
        )
    return grid


def gone(orphans: list[Orphan], ident: Ident) -> RenderableType:
    """What charters made whose files are gone: nobody answers for it any more."""
    parts: list[RenderableType] = []
    for orphan in orphans:
        parts += ["", Text.assemble((orphan.charter, "bold"), "  its file is gone, and what it made is left behind")]
        grid = Table.grid(padding=(0, 2, 0, 0))
        grid.add_column(no_wrap=True)
        grid.add_column(overflow="fold")
        for tenant, what, identity in orphan.left:
            grid.add_row(Text("left", "yellow"), Text(f"{what} in {tenant} ({ident(identity)})"))
        for number in orphan.requests:
            grid.add_row(Text("asked", "yellow"), Text(f"request {number} is still open"))
        parts += [grid, Text("bring the file back, take out of it what is to end, and enact it", "dim")]
    return Group(*parts)


def gone_json(orphan: Orphan) -> dict[str, Any]:
    left = [{"tenant": tenant, "what": what, "id": identity} for tenant, what, identity in orphan.left]
    return {"charter": orphan.charter, "left": left, "requests": list(orphan.requests)}


def summary(outline: Outline) -> str:
    """One line: how many steps of each kind, or that nothing is to be done."""
    if outline.mistakes:
        return f"{plural(len(outline.mistakes), 'mistake')}: nothing can be enacted before the charter is mended."
    if outline.blocked:
        return "Somebody has to decide first. Nothing is enacted before that."
    left = open_ends(outline)
    if not outline.steps:
        return left or nothing_to_do(outline)
    counts = Counter(str(s.kind) for s in outline.steps)
    told = ", ".join(f"{n} {k}" for k, n in counts.items())
    return f"{plural(len(outline.steps), 'step')}: {told}.{f' {left}' if left else ''}"


def as_json(rehearsal: Rehearsal) -> dict[str, Any]:
    """The stable form of a rehearsal."""
    outline, named = rehearsal.outline, {"charter": rehearsal.charter.name, "tenant": rehearsal.charter.tenant}
    if rehearsal.error is not None or rehearsal.now is None:
        return {**named, "error": problem_json(rehearsal.error) if rehearsal.error is not None else None}
    return {
        **named,
        "tenant_time": format_instant(rehearsal.now),
        "steps": [step_json(s) for s in outline.steps],
        "notes": [
            {"code": n.code, "text": advised(n.code, n.text), "warning": n.warning, "names": list(n.names)}
            for n in outline.notes
        ],
        "mistakes": [mistake_json(m) for m in outline.mistakes],
        "undecided": [mistake_json(m) for m in outline.open],
        "taken": [
            {
                "facet": c.kind.name,
                "name": c.name,
                "id": c.id,
                "matches": c.matches,
                "attributes": [{"name": n, "wanted": plain(w), "existing": plain(e)} for n, w, e in c.rows],
            }
            for c in outline.collisions
        ],
        "summary": summary(outline),
    }


def lines(rehearsal: Rehearsal) -> Iterator[dict[str, Any]]:
    """Everything that a rehearsal says, a line each."""
    told = as_json(rehearsal)
    named = {"charter": told["charter"], "tenant": told["tenant"]}
    if told.get("error"):
        yield {**named, "kind": "error", "text": told["error"]["what"], "why": told["error"]["do"]}
    for mistake in told.get("mistakes", ()):
        yield {**named, "kind": "mistake", "text": mistake["what"], "why": mistake["do"]}
    for one in told.get("undecided", ()):
        yield {**named, "kind": "decide", "text": one["what"], "why": one["do"]}
    for step in told.get("steps", ()):
        yield {**named, "kind": step["step"], "tenant": step["tenant"], "text": step["about"], "why": step["why"]}
    for note in told.get("notes", ()):
        yield {**named, "kind": "warning" if note["warning"] else "note", "text": note["text"]}


def shown(values: Mapping[str, Any]) -> dict[str, Any]:
    """Values for reading: what an earlier step will yield is said so."""
    return {n: f"(from {v.step})" if isinstance(v, Ref) else plain(v) for n, v in values.items()}


def step_json(step: Step) -> dict[str, Any]:
    return {
        "id": str(step.id),
        "step": str(step.kind),
        "tenant": step.tenant,
        "facet": step.facet,
        "name": " ".join(v for _, v in step.mark.key),
        "about": step.about,
        "generation": step.generation,
        "needs": [str(n) for n in step.needs],
        "power": step.power,
        "why": step.why,
        "before": shown(step.before),
        "after": shown(step.after),
    }
