"""SCIM filters (RFC 7644 §3.4.2.2): a parser to a small tree, and its evaluation against a resource."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from sigillum.sandbox.http.errors import ScimProblem
from sigillum.sandbox.http.texts import loads
from sigillum.sandbox.worlds.clock import moment_of

from .attributes import Attr, Kind
from .resources import Json, attribute, holder, split_urn, value_of

MAX_LENGTH = 8_000
MAX_DEPTH = 40
_TOKEN = re.compile(
    r"""\s*(?:
    (?P<text>"(?:[^"\\]|\\.)*") | (?P<punct>[()\[\]]) | (?P<number>-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?(?![\w.:-]))
  | (?P<word>[A-Za-z$][\w$.:-]*) )""",
    re.VERBOSE,
)
OPERATORS = {"eq", "ne", "co", "sw", "ew", "gt", "ge", "lt", "le"}


@dataclass(frozen=True)
class Compare:
    path: str
    operator: str  # one of OPERATORS, or "pr"
    value: Any = None


@dataclass(frozen=True)
class Group:
    """`and`, `or`, `not` over parts, or `[` for a value path."""

    operator: str
    parts: tuple[Tree, ...]
    path: str = ""


Tree = Compare | Group


def _bad(detail: str) -> ScimProblem:
    return ScimProblem(400, f"The filter is not valid: {detail}", "invalidFilter")


class _Parser:
    def __init__(self, text: str) -> None:
        if len(text) > MAX_LENGTH:
            raise _bad("it is too long")
        self.tokens = list(self._split(text))
        self.at = 0
        self.depth = 0

    def _split(self, text: str) -> Iterator[tuple[str, str]]:
        spot, end = 0, len(text.rstrip())
        while spot < end:
            found = _TOKEN.match(text, spot)
            if not found:
                raise _bad(f"unexpected text at character {spot + 1}")
            yield str(found.lastgroup), found.group(str(found.lastgroup))
            spot = found.end()

    def peek(self) -> tuple[str, str]:
        return self.tokens[self.at] if self.at < len(self.tokens) else ("end", "")

    def take(self) -> tuple[str, str]:
        token = self.peek()
        self.at += 1
        return token

    def is_word(self, word: str) -> bool:
        kind, text = self.peek()
        return kind == "word" and text.lower() == word

    def whole(self) -> Tree:
        tree = self.either()
        if self.peek()[0] != "end":
            raise _bad(f"unexpected {self.peek()[1]!r}")
        return tree

    def either(self) -> Tree:
        self.depth += 1
        if self.depth > MAX_DEPTH:
            raise _bad("it is nested too deeply")
        parts = [self.both()]
        while self.is_word("or"):
            self.take()
            parts.append(self.both())
        self.depth -= 1
        return parts[0] if len(parts) == 1 else Group("or", tuple(parts))

    def both(self) -> Tree:
        parts = [self.one()]
        while self.is_word("and"):
            self.take()
            parts.append(self.one())
        return parts[0] if len(parts) == 1 else Group("and", tuple(parts))

    def _closed(self, closing: str) -> Tree:
        inner = self.either()
        if self.take() != ("punct", closing):
            raise _bad(f"{closing} is missing")
        return inner

    def one(self) -> Tree:
        kind, text = self.take()
        if (kind, text) == ("punct", "("):
            return self._closed(")")
        if kind != "word":
            raise _bad(f"an attribute was expected, not {text or 'the end'!r}")
        if text.lower() == "not" and self.peek() == ("punct", "("):
            self.take()
            return Group("not", (self._closed(")"),))
        if self.peek() == ("punct", "["):
            self.take()
            return Group("[", (self._closed("]"),), text)
        return self._compare(text)

    def _compare(self, path: str) -> Tree:
        kind, word = self.take()
        operator = word.lower()
        if kind == "word" and operator == "pr":
            return Compare(path, "pr")
        if kind != "word" or operator not in OPERATORS:
            raise _bad(f"an operator was expected after {path}")
        kind, text = self.take()
        if kind in ("text", "number"):
            try:
                return Compare(path, operator, loads(text))
            except ValueError as problem:
                raise _bad(f"{text} is not a JSON value") from problem
        if kind == "word" and text in ("true", "false", "null"):
            return Compare(path, operator, loads(text))
        raise _bad(f"a value was expected after {path} {operator}")


def parse(text: str) -> Tree:
    """Parse a filter. Raises ScimProblem (invalidFilter)."""
    return _Parser(text).whole()


def _fold(attr: Attr | None, value: Any) -> Any:
    if isinstance(value, str):
        if attr is not None and attr.type == "dateTime":
            return moment_of(value)
        if attr is None or not (attr.exact or attr.type in ("reference", "binary")):
            return value.lower()
    return value


_TESTS: dict[str, Callable[[Any, Any], bool]] = {
    "eq": lambda a, b: bool(a == b),
    "ne": lambda a, b: bool(a != b),
    "co": lambda a, b: b in a,
    "sw": lambda a, b: a.startswith(b),
    "ew": lambda a, b: a.endswith(b),
    "gt": lambda a, b: bool(a > b),
    "ge": lambda a, b: bool(a >= b),
    "lt": lambda a, b: bool(a < b),
    "le": lambda a, b: bool(a <= b),
}


def _holds(attr: Attr | None, operator: str, have: Any, want: Any) -> bool:
    """Compare one value. A comparison that has no meaning for the type is an invalid filter."""
    if operator not in ("eq", "ne") and (
        isinstance(want, bool) or want is None or (attr is not None and attr.type in ("boolean", "binary"))
    ):
        raise _bad(f"{operator} cannot be used with this value")
    try:
        have, want = _fold(attr, have), _fold(attr, want)
        if operator in ("co", "sw", "ew") and not (isinstance(have, str) and isinstance(want, str)):
            return False
        if isinstance(have, bool) != isinstance(want, bool):
            return operator == "ne"
        return _TESTS[operator](have, want)
    except (TypeError, ValueError):
        return operator == "ne"


def _leaves(attr: Attr | None, value: Any, sub: str) -> Iterator[tuple[Attr | None, Any]]:
    """All values that an attribute path names; a complex value without sub-attribute stands for `value`."""
    for item in value if isinstance(value, list) else [value]:
        if isinstance(item, dict):
            name = sub or "value"
            inner = value_of(item, name)
            if inner is not None:
                definition = attr.find(name) if attr else None
                yield from _leaves(definition, inner, "")
        elif item is not None and not sub:
            yield attr, item


def _values(kind: Kind | None, inside: Attr | None, data: Json, path: str) -> list[tuple[Attr | None, Any]]:
    if kind is not None:
        urn, rest = split_urn(kind, path)
        name, _, sub = rest.partition(".")
        return list(_leaves(attribute(kind, urn, name), value_of(holder(kind, data, urn), name), sub))
    name, _, sub = path.partition(".")
    definition = inside.find(name) if inside else None
    return list(_leaves(definition, value_of(data, name), sub))


def _present(kind: Kind | None, data: Json, path: str) -> bool:
    urn, rest = split_urn(kind, path) if kind is not None else (None, path)
    name, _, sub = rest.partition(".")
    value = value_of(holder(kind, data, urn) if kind is not None else data, name)
    for part in filter(None, [sub]):
        items = value if isinstance(value, list) else [value]
        value = [v for v in (value_of(i, part) for i in items) if v not in (None, "", [], {})]
    return value not in (None, "", [], {})


def matches(tree: Tree, kind: Kind | None, data: Json, inside: Attr | None = None) -> bool:
    """Does `data` match? `kind` for a resource, `inside` for one value of a complex attribute."""
    if isinstance(tree, Compare):
        if tree.operator == "pr":
            return _present(kind, data, tree.path)
        found = _values(kind, inside, data, tree.path)
        if tree.value is None and tree.operator in ("eq", "ne"):
            return (not found) == (tree.operator == "eq")
        if not found:
            return tree.operator == "ne"
        return any(_holds(attr, tree.operator, have, tree.value) for attr, have in found)
    if tree.operator == "and":
        return all(matches(p, kind, data, inside) for p in tree.parts)
    if tree.operator == "or":
        return any(matches(p, kind, data, inside) for p in tree.parts)
    if tree.operator == "not":
        return not matches(tree.parts[0], kind, data, inside)
    urn, name = split_urn(kind, tree.path) if kind is not None else (None, tree.path)
    value = value_of(holder(kind, data, urn) if kind is not None else data, name)
    attr = attribute(kind, urn, name) if kind is not None else None
    items = value if isinstance(value, list) else [value]
    return any(_item_matches(tree.parts[0], attr, item) for item in items if item is not None)


def _item_matches(tree: Tree, attr: Attr | None, item: Any) -> bool:
    if isinstance(item, dict):
        return matches(tree, None, item, attr)
    return matches(tree, None, {"value": item}, None)


def narrowed(tree: Tree, ids_of: Callable[[str, str], set[str] | None]) -> set[str] | None:
    """Ids among which every match must be, by `path eq "text"` conditions that an index knows; None: any."""
    if isinstance(tree, Compare):
        return ids_of(tree.path.lower(), tree.value) if tree.operator == "eq" and isinstance(tree.value, str) else None
    found = [narrowed(part, ids_of) for part in tree.parts] if tree.operator in ("and", "or") else []
    if tree.operator == "or":
        return None if None in found else set().union(*(f for f in found if f is not None))
    known = [f for f in found if f is not None]
    return set.intersection(*known) if known else None
