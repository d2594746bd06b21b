"""Many charters at once: a template with variables, and a list; a charter for each line, or for each line and stage."""

from __future__ import annotations

import copy
import csv
import io
import re
import string
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

from ruamel.yaml import YAML
from ruamel.yaml.error import YAMLError

from sigillum.charters import files
from sigillum.core.values.errors import FileError, Mistake, Position
from sigillum.core.values.text import CHARTER_NAME, did_you_mean
from sigillum.keeping.private import write_private
from sigillum.reading.document import parse, read_text
from sigillum.workflows.desk.office import Office

MOST_LINES = 5_000


class _Template(string.Template):
    idpattern = r"[A-Za-z][A-Za-z0-9_]*"


class Written(NamedTuple):
    """What a list gave: charters that were written, and names of those that are there already, as it says or otherwise."""

    fresh: list[Path]
    same: list[str]
    differ: list[str]


def from_list(office: Office, list_path: Path, template_path: Path, stages: list[str]) -> Written:
    """Write all charters that are not there yet, or none where a single one has a mistake; what is there stays as it is.

    Raises FileError with all mistakes at once.
    """
    shown = str(list_path)
    template = _template(template_path)
    mistakes, made, lines = list[Mistake](), dict[str, str](), dict[str, int]()
    known = files.names(office.workspace)
    for line, row in _rows(list_path, shown):
        for stage in stages or [""]:
            where = Position(shown, line, 1)
            values = {**row, **({"stage": stage} if stage else {})}
            try:
                document = _fill(copy.deepcopy(template), values)
            except KeyError as problem:
                mistakes.append(_missing(str(problem.args[0]), list(values), template_path))
                continue
            except ValueError:
                mistakes.append(_lone(template_path))
                continue
            name = str(document.get("charter", ""))
            if not CHARTER_NAME.match(name):
                mistakes.append(
                    Mistake("name", f"{name!r} cannot be a charter's name", "use small letters, digits and dashes", where)
                )
            elif name in made:
                mistakes.append(
                    Mistake(
                        "name-taken",
                        f"the name {name!r} is taken by line {lines[name]}",
                        "let the template's `charter:` use a variable that differs, such as ${stage}",
                        where,
                    )
                )
            else:
                made[name], lines[name] = _text(document), line
    there = {n: text for n, text in made.items() if n in known}
    made = {n: text for n, text in made.items() if n not in known}
    mistakes += _check(office, made, lines, shown)
    if not made and not there and not mistakes:
        mistakes.append(
            Mistake(
                "empty",
                "the list has no lines",
                "write a line of column names, and one for each charter",
                Position(shown, 1, 1),
            )
        )
    if mistakes:
        raise FileError("", where=shown, mistakes=tuple(dict.fromkeys(mistakes)))
    same = [n for n, text in there.items() if known[n][0].read_text(encoding="utf-8") == text]
    return Written([_write(office, name, text) for name, text in made.items()], same, [n for n in there if n not in same])


def _lone(template: Path) -> Mistake:
    """A dollar sign that begins no variable."""
    for number, line in enumerate(read_text(template, str(template)).splitlines(), 1):
        for found in (m for m in _Template.pattern.finditer(line) if m["invalid"] is not None):
            place = Position(str(template), number, found.start() + 1)
            return Mistake("variable", "a `$` stands alone", "write `$$` for the sign itself, or ${column}", place)
    return Mistake("variable", "a `$` stands alone", "write `$$` for the sign itself", Position(str(template), 1, 1))


def _missing(name: str, columns: list[str], template: Path) -> Mistake:
    """A variable that the list does not have: a mistake at its place in the template, the same for every line."""
    found = next(
        (
            (n, m.start() + 1)
            for n, line in enumerate(read_text(template, str(template)).splitlines(), 1)
            if (m := re.search(rf"\$(?:\{{{name}\}}|{name}\b)", line))
        ),
        (1, 1),
    )
    return Mistake(
        "variable",
        f"the template uses ${{{name}}}, and the list has no column {name!r}",
        did_you_mean(name, columns) or f"columns: {', '.join(columns)}",
        Position(str(template), *found),
    )


def _template(path: Path) -> Any:
    text = read_text(path, str(path))
    parse(text, str(path))  # our own mistakes, with positions
    try:
        document = YAML().load(text)
    except (YAMLError, ValueError, TypeError, AttributeError) as problem:
        raise FileError(
            "the template is no YAML that can be written again",
            where=str(path),
            mend="write plain YAML: text, numbers, lists and mappings",
        ) from problem
    if not isinstance(document, dict) or "charter" not in document:
        raise FileError(
            "the template is no charter", where=str(path), mend="write a charter, with ${column} where lines differ"
        )
    return document


def _rows(path: Path, shown: str) -> Iterator[tuple[int, dict[str, str]]]:
    reader = csv.DictReader(io.StringIO(read_text(path, shown).lstrip("\ufeff")), strict=True)
    try:
        for number, row in enumerate(reader):
            if number >= MOST_LINES or None in row or None in row.values():
                raise FileError(
                    "a line has more or fewer cells than there are columns"
                    if number < MOST_LINES
                    else f"the list has more than {MOST_LINES} lines",
                    where=f"{shown}:{reader.line_num}",
                    mend="put cells with commas into quotes" if number < MOST_LINES else "split it",
                )
            yield reader.line_num, {name.strip(): value.strip() for name, value in row.items()}
    except csv.Error as problem:
        raise FileError(
            f"this is not CSV: {problem}", where=f"{shown}:{reader.line_num}", mend="save it as RFC 4180 text"
        ) from problem


def _fill(node: Any, values: dict[str, str]) -> Any:
    """Put the values in, as text inside scalars: what stands in a cell can never become a key or a list."""
    if isinstance(node, dict):
        for key in list(node):
            node[key] = _fill(node[key], values)
        return node
    if isinstance(node, list):
        node[:] = [_fill(item, values) for item in node]
        return node
    return _Template(node).substitute(values) if isinstance(node, str) and "$" in node else node


def _text(document: Any) -> str:
    out, yaml = io.StringIO(), YAML()
    yaml.width = 4096
    yaml.dump(document, out)
    return out.getvalue()


def _check(office: Office, made: dict[str, str], lines: dict[str, int], shown: str) -> Iterator[Mistake]:
    with tempfile.TemporaryDirectory(dir=office.workspace.private, prefix="list-") as folder:
        for name, text in made.items():
            path = Path(folder) / f"{name}.yaml"
            path.write_text(text, encoding="utf-8")
            try:
                files.load(office.workspace, path)
            except FileError as problem:
                for mistake in problem.mistakes or [Mistake("charter", problem.what, problem.mend)]:
                    line = mistake.position.line if mistake.position is not None else 0
                    spot = f" (line {line} of it)" if line else ""
                    yield mistake._replace(what=f"{name}{spot}: {mistake.what}", position=Position(shown, lines[name], 1))


def _write(office: Office, name: str, text: str) -> Path:
    path = office.workspace.charters / f"{name}.yaml"
    path.parent.mkdir(exist_ok=True)
    write_private(path, text)
    path.chmod(0o644)
    return path
