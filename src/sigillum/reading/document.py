"""YAML 1.2 to plain data with positions: safe, bounded, nothing constructed but text, numbers, lists, mappings."""

from __future__ import annotations

import io
import re
import warnings
from collections.abc import Mapping
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple

from ruamel.yaml import YAML
from ruamel.yaml.cyaml import CParser  # type: ignore[attr-defined]
from ruamel.yaml.error import MarkedYAMLError, ReusedAnchorWarning, YAMLError
from ruamel.yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode
from ruamel.yaml.resolver import VersionedResolver

from sigillum.core.values.errors import FileError, Mistake, Position
from sigillum.core.values.text import plain, unseen

MAX_BYTES = 200_000
MAX_NODES = 20_000
MAX_DEPTH = 30
MAX_BRACKETS = 200
MAX_COLUMNS = 400  # at which something may begin in a line; a level within another one begins further right
_DECIMAL = re.compile(r"[-+]?[0-9]+\.[0-9]+\Z")
_BRACKETS = re.compile(r"[\[\]{}]")
_BEGINS = re.compile(r"^(?:[ \t]*[-?:](?=[ \t]))*", re.M)  # the lists and keys that a line begins, one within another
Spot = tuple[str | int, ...]
_TAG = "tag:yaml.org,2002:"


class Document(NamedTuple):
    """A file's data; `keys` and `values` say where each stands."""

    file: str
    data: Any
    keys: Mapping[Spot, Position]
    values: Mapping[Spot, Position]

    def position(self, spot: Spot, *, key: bool = False) -> Position:
        """Where `spot` stands, or the nearest thing around it."""
        table = self.keys if key else self.values
        while spot:
            if spot in table:
                return table[spot]
            spot, table = spot[:-1], self.values
        return self.values.get((), Position(self.file, 1, 1))


class _Builder:
    def __init__(self, file: str, most: int) -> None:
        self.file, self.most = file, most
        self.keys: dict[Spot, Position] = {}
        self.values: dict[Spot, Position] = {}
        self.mistakes: list[Mistake] = []
        self.nodes = 0

    def position(self, node: Node) -> Position:
        return Position(self.file, node.start_mark.line + 1, node.start_mark.column + 1)

    def build(self, node: Node, spot: Spot) -> Any:
        self.nodes += 1
        if self.nodes > self.most or len(spot) > MAX_DEPTH:
            raise FileError(
                "the file is too large or too deeply nested once its aliases are followed",
                where=self.file,
                mend="write it without so many aliases",
            )
        self.values[spot] = self.position(node)
        if isinstance(node, MappingNode):
            return self.mapping(node, spot)
        if isinstance(node, SequenceNode):
            return [self.build(n, (*spot, i)) for i, n in enumerate(node.value)]
        assert isinstance(node, ScalarNode)
        return self.scalar(node)

    def mapping(self, node: MappingNode, spot: Spot) -> dict[str, Any]:
        out: dict[str, Any] = {}
        for key_node, value_node in node.value:
            if not isinstance(key_node, ScalarNode):
                self.mistakes.append(
                    Mistake("key-not-text", "a key must be a word", "write `word: value`", self.position(key_node))
                )
                continue
            key = self.shown(key_node)
            if key in out:
                self.mistakes.append(
                    Mistake("key-twice", f"{key} is written twice", "keep the one that is meant", self.position(key_node))
                )
            self.keys[*spot, key] = self.position(key_node)
            out[key] = self.build(value_node, (*spot, key))
        return out

    def shown(self, node: ScalarNode) -> str:
        """Its text. What cannot be seen is a mistake: it would mean something else than it shows, and steers terminals."""
        text = str(node.value)
        if unseen(text):
            self.mistakes.append(
                Mistake(
                    "unseen",
                    f"it holds characters that cannot be seen: {text[:80]!a}",
                    "write it anew, with letters that show",
                    self.position(node),
                )
            )
            return plain(text)
        return text

    def scalar(self, node: ScalarNode) -> Any:
        kind = str(node.tag).removeprefix(_TAG)
        text = self.shown(node)
        if kind in ("null", "bool"):
            return None if kind == "null" else text.lower() == "true"
        try:
            if kind == "int":
                return int(text, 0) if text[:2].lower() in ("0x", "0o") else int(text)
            if kind == "float" and _DECIMAL.match(text):
                return float(text)
            if kind == "float":  # an id like 12e34567 is no number to whoever wrote it
                return text
        except ValueError:
            return text
        if kind not in ("str", "timestamp"):
            self.mistakes.append(
                Mistake("tag", f"the tag !{kind} has no meaning here", "write the value plainly", self.position(node))
            )
        return text


def read_text(path: Path, shown: str, *, most: int = MAX_BYTES) -> str:
    """A UTF-8 text of so many bytes at most. Raises FileError."""
    try:
        with path.open("rb") as file:
            content = file.read(most + 1)
        if len(content) > most:
            raise FileError(f"the file is larger than {most // 1000} kB", where=shown, mend="check the path")
        return content.decode("utf-8")
    except OSError as problem:
        raise FileError(
            f"the file cannot be read: {problem.strerror}", where=shown, mend="check its path and rights"
        ) from problem
    except UnicodeDecodeError as problem:
        raise FileError("the file is not UTF-8 text", where=shown, mend="save it as UTF-8") from problem


class _Parser(CParser, VersionedResolver):  # type: ignore[misc]
    """The C parser, with the words of YAML 1.2. The library makes such a class anew for each document."""

    def __init__(self, text: str) -> None:
        CParser.__init__(self, text)
        self._parser = self._composer = self
        VersionedResolver.__init__(self, loadumper=self)

    @cached_property
    def versioned_resolver(self) -> Any:
        """Which forms a word can have; the library looks that up twice a word."""
        return super().versioned_resolver


def _compose(text: str) -> Node | None:
    """The C parser, six times as fast, knows the syntax of YAML 1.1 only: what it does not take, the pure one decides."""
    try:
        parser = _Parser(text)
        try:
            node: Node | None = parser.get_single_node()
        finally:
            parser.dispose()
    except YAMLError:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", ReusedAnchorWarning)  # YAML 1.2 §3.2.2.2 lets an anchor be used again
            node = YAML(typ="safe", pure=True).compose(io.StringIO(text))
    return node


def _too_deep(text: str) -> bool:
    """Would brackets within brackets, or lists within lists, go deeper than the C parser bears? It ends the process."""
    if any(len(begin) > MAX_COLUMNS for begin in _BEGINS.findall(text)):
        return True
    depth = 0
    for bracket in _BRACKETS.findall(text):
        depth += 1 if bracket in "[{" else -1
        if depth > MAX_BRACKETS:
            return True
        depth = max(depth, 0)
    return False


def parse(text: str, file: str, *, most: int = MAX_NODES) -> Document:
    """Of so many nodes at most. Raises FileError with a mistake for each thing that is wrong."""
    if _too_deep(text):
        raise _one_mistake(
            "yaml-depth", "one thing stands within another, too deeply", "write it flatter", Position(file, 1, 1)
        )
    try:
        node = _compose(text)
    except MarkedYAMLError as problem:
        mark = problem.problem_mark or problem.context_mark
        position = Position(file, mark.line + 1, mark.column + 1) if mark is not None else Position(file)
        what = " ".join(str(problem.problem or problem.context or "not YAML").split())
        raise _one_mistake(
            "yaml-syntax",
            f"this is not YAML: {what}",
            "look at the indentation, colons, quotes and brackets just before this spot",
            position,
        ) from problem
    except (YAMLError, ValueError, RecursionError) as problem:
        raise _one_mistake("yaml-syntax", "this is not YAML", "save it as plain YAML text", Position(file)) from problem
    builder = _Builder(file, most)
    data = builder.build(node, ()) if node is not None else {}
    if builder.mistakes:
        raise FileError("", where=file, mistakes=tuple(builder.mistakes))
    return Document(file, data, builder.keys, builder.values)


def _one_mistake(code: str, what: str, mend: str, position: Position) -> FileError:
    return FileError(what, where=str(position), mend=mend, mistakes=(Mistake(code, what, mend, position),))
