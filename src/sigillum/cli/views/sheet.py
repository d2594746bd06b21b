"""A sheet as text, env, JSON, YAML or a snippet; pure: what is revealed is said by the caller."""

from __future__ import annotations

import io
import json
import shlex
from collections.abc import Mapping, Sequence
from typing import Any

from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from sigillum.core.charter.sheet import KINDS, MASKED, Sheet, Value, content_of
from sigillum.core.values.text import plain

from .common import Ident
from .words import plural

SHOWN = 3  # of what was handed over before


def text(sheet: Sheet, before: Sequence[tuple[Mapping[str, Any], str]], ident: Ident) -> RenderableType:
    """Every value with its kind and what is wrong with it; secrets masked; then who got it before."""
    head = Text.assemble((sheet.charter, "bold"), f"  for {sheet.consumer}" if sheet.consumer else "")
    if sheet.credential:
        head.append(f"  with {sheet.credential}" + (f", generation {sheet.generation}" if sheet.generation else ""))
    grid = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold")
    for column in ("name", "value", "kind", ""):
        grid.add_column(column, overflow="fold", no_wrap=column in ("name", "kind"))
    for value in sheet.values:
        state = value.problem or value.note
        grid.add_row(value.name, _cell(value, ident), value.kind, Text(state, "bold red" if value.problem else "dim"))
    parts: list[RenderableType] = [head, "", grid, "", Text(summary(sheet), style="bold")]
    for one, since in before[-SHOWN:]:
        line = f"{one['how']} at {one['at']} to {ident(str(one['to']))} (generation {one['generation']})"
        parts.append(Text(f"{line}: {since}" if since else line, "dim"))
    return Group(*parts)


def _cell(value: Value, ident: Ident) -> Text:
    if value.content is None:
        return Text("(missing)", "bold red")
    shown = plain(value.content)
    return Text(MASKED if value.secret else ident(shown) if value.kind == "identifier" else shown)


def summary(sheet: Sheet) -> str:
    wrong = sum(1 for v in sheet.values if v.problem)
    return (
        f"Complete: {plural(len(sheet.values), 'value')}."
        if sheet.complete
        else f"Not complete: {wrong} of {plural(len(sheet.values), 'value')} missing or wrong."
    )


def incomplete(sheet: Sheet) -> str:
    """Why a sheet is not given in a form for copying: every value that is missing or wrong, and what is."""
    if not sheet.values:
        return f"The sheet of {sheet.charter} has no values: name some with `handover: gives:`."
    return "\n".join(
        [f"The sheet of {sheet.charter}: {summary(sheet)}", *(f"  {v.name}: {v.problem}" for v in sheet.values if v.problem)]
    )


def formatted(sheet: Sheet, form: str, *, reveal: bool) -> str:
    """One of the forms for copying. A snippet holds references instead of secrets, whatever is revealed."""
    content = content_of(sheet, reveal=reveal)
    if form == "env":
        return "".join(f"{name}={shlex.quote(value)}\n" for name, value in content.items())
    if form == "json":
        return json.dumps(content, indent=1)
    if form == "yaml":
        from ruamel.yaml import YAML

        out, yaml = io.StringIO(), YAML()
        yaml.width = 1_000
        yaml.dump(content, out)
        return out.getvalue()
    if form == "snippet":
        shown = {v.name: (v.reference or "(kept by its holder)") if v.secret else content[v.name] for v in sheet.values}
        return " ".join(f"{name}={shlex.quote(value)}" for name, value in shown.items())
    return "".join(f"{name}  {value}\n" for name, value in content.items())


def as_json(sheet: Sheet) -> dict[str, Any]:
    """The state of a sheet, with its secrets masked."""
    shown = content_of(sheet, reveal=False)
    return {
        "charter": sheet.charter,
        "consumer": sheet.consumer,
        "credential": sheet.credential,
        "generation": sheet.generation,
        "complete": sheet.complete,
        "values": [
            {
                "value": v.value,
                "name": v.name,
                "kind": v.kind,
                "about": KINDS.get(v.value, ("", ""))[1],
                "content": shown[v.name] or None,
                "problem": v.problem,
                "note": v.note,
                "reference": v.reference,
            }
            for v in sheet.values
        ],
    }
