"""Values that only somebody else can give: `ask: {of: WHO, form: ...}` instead of a value, inside an entry of a list.

What was answered takes its place. An entry that still waits is left out, so that what does not need it goes on.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from sigillum.core.values.asked import AskedWant, fault_of
from sigillum.core.values.errors import FileError, Mistake
from sigillum.reading.document import Document, Spot

ASK, KEYS = "ask", {"of", "form", "name", "for"}


def answered(document: Document, answers: Mapping[str, str]) -> tuple[Document, tuple[AskedWant, ...]]:
    """The document with every answer in its place, and what still waits. Raises FileError with every mistake."""
    mistakes, waiting, gone = list[Mistake](), list[AskedWant](), set[Spot]()
    for spot, asked in list(_all(document.data, ())):
        wrong = _wrong(spot, asked)
        if wrong[0]:
            mistakes.append(Mistake("ask", wrong[0], wrong[1], document.position(spot)))
            continue
        what = f" ({asked['for']})" if asked.get("for") else ""  # two values of one person are two, also in one sort of entry
        name = str(asked.get("name") or f"{spot[0]}-{spot[-1]}-of-{asked['of']}{what}")
        want = AskedWant(name, str(asked["of"]), str(asked.get("form", "")), str(asked.get("for", "")), document.position(spot))
        answer = answers.get(name)
        if answer is not None and want.fits(answer):
            _put(document.data, spot, answer)
        else:
            waiting.append(want)
            gone.add(spot[:2])
    if mistakes:
        raise FileError("", where=document.file, mistakes=tuple(mistakes))
    return _without(document, gone) if gone else document, tuple(waiting)


def _all(node: Any, spot: Spot) -> Iterator[tuple[Spot, Any]]:
    inner = node.items() if isinstance(node, dict) else enumerate(node) if isinstance(node, list) else ()
    for key, value in inner:
        if isinstance(value, dict) and set(value) == {ASK}:
            yield (*spot, key), value[ASK]
        else:
            yield from _all(value, (*spot, key))


def _wrong(spot: Spot, asked: Any) -> tuple[str, str]:
    """What is wrong with one, and what to write; nothing where it is well."""
    if len(spot) < 3 or not isinstance(spot[1], int):
        return "a value is asked for inside an entry of a list only", "write it out, or ask for it beside the charter"
    if not isinstance(asked, dict) or not asked.get("of") or not all(isinstance(v, str) for v in asked.values()):
        return "it is not said of whom it is asked", "write `ask: {of: WHO, form: ..., for: ...}`"
    if strange := sorted(set(asked) - KEYS):
        return f"the key `{strange[0]}` is not known", f"known: {', '.join(sorted(KEYS))}"
    if fault := fault_of(asked.get("form", "")):
        return f"its form: {fault}", "write a regular expression, such as '[0-9]{12}'"
    return "", ""


def _put(data: Any, spot: Spot, value: str) -> None:
    for key in spot[:-1]:
        data = data[key]
    data[spot[-1]] = value


def _without(document: Document, gone: set[Spot]) -> Document:
    """Without these entries of lists; what stands after them keeps its own position."""
    data = {
        n: [v for i, v in enumerate(value) if (n, i) not in gone] if isinstance(value, list) else value
        for n, value in document.data.items()
    }

    def moved(table: Mapping[Spot, Any]) -> dict[Spot, Any]:
        return {
            (s[0], s[1] - sum(1 for g in gone if g[0] == s[0] and isinstance(g[1], int) and g[1] < s[1]), *s[2:])
            if len(s) > 1 and isinstance(s[1], int)
            else s: p
            for s, p in table.items()
            if s[:2] not in gone
        }

    return Document(document.file, data, moved(document.keys), moved(document.values))


def also_asked(schema: dict[str, Any]) -> None:
    """In a charter's JSON Schema: every text inside an entry of a list may be asked for instead."""
    parts = schema["$defs"]
    entries = {p["items"]["$ref"].rpartition("/")[2] for p in schema["properties"].values() if "$ref" in p.get("items", {})}
    parts["Ask"] = {
        "type": "object",
        "additionalProperties": False,
        "required": [ASK],
        "properties": {
            ASK: {
                "type": "object",
                "additionalProperties": False,
                "required": ["of"],
                "properties": {name: {"type": "string"} for name in sorted(KEYS)},
            }
        },
    }
    for name in entries:
        for key, one in parts[name].get("properties", {}).items():
            if one.get("type") == "string":
                parts[name]["properties"][key] = {"anyOf": [one, {"$ref": "#/$defs/Ask"}]}
            elif {"type": "string"}.items() <= next(iter(one.get("anyOf", [{}]))).items():
                one["anyOf"].append({"$ref": "#/$defs/Ask"})
