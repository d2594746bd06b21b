"""The forms in which a result is given: text and tables for people, JSON, CSV. Another form is another line of `FORMS`.

A command says what it shows as a value (`Shown`); which form that takes is decided here alone.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime
from types import MappingProxyType
from typing import TYPE_CHECKING, Any, Generic, NamedTuple, Protocol, TypeVar

if TYPE_CHECKING:
    from rich.console import RenderableType

JSON_VERSION = 1
LONG = 200  # entries of a list from which each is given a line of its own
FORMULAS = ("=", "+", "-", "@")  # what a spreadsheet could take for a formula begins so
T = TypeVar("T")
Cell = str | int | bool | datetime | Sequence[str] | None
Content = Mapping[str, Any] | Callable[[], Mapping[str, Any]]


class Column(NamedTuple, Generic[T]):
    """One column of a listing: its name in JSON and CSV, and what an item has there.

    `head` is what people read above it, where that is not its name; `under` names the column in whose cell people find it;
    `mask` says what of it is masked while presenting: nothing, the `whole` cell, or the identifiers `in` it.
    """

    name: str
    of: Callable[[T], Cell]
    head: str = ""
    under: str = ""
    words: str = "{}"
    people: bool = True
    data: bool = True
    unbroken: bool = False
    mask: str = ""
    key: str = ""  # in JSON, where that is not its name


class Listing(NamedTuple, Generic[T]):
    """Items of one type, a line each. Where there are none, people read `empty`, beside the result."""

    name: str
    items: Sequence[T]
    columns: Sequence[Column[T]]
    empty: str = ""
    spare: bool = False  # columns in which nobody has anything take no room

    def data(self) -> list[dict[str, Any]]:
        """Each item as JSON has it."""
        return [{c.key or c.name: _datum(c.of(item)) for c in self.columns if c.data} for item in self.items]

    def lines(self, ident: Callable[[str], str]) -> Iterable[list[str]]:
        """The heads, and each item, as CSV has them."""
        columns = [c for c in self.columns if c.data]
        yield [c.name for c in columns]
        for item in self.items:
            yield [_cell(c, item, ident) for c in columns]

    def table(self, ident: Callable[[str], str]) -> RenderableType:
        """As people read it."""
        from .views.common import table

        shown = [c for c in self.columns if c.people]
        heads = [c for c in shown if not c.under]
        if self.spare:
            heads = [c for n, c in enumerate(heads) if n == 0 or any(c.of(item) for item in self.items)]

        def cell(column: Column[T], item: T) -> str:
            below = (c for c in shown if c.under == column.name and c.of(item))
            return "\n".join([_cell(column, item, ident), *(c.words.format(_cell(c, item, ident)) for c in below)])

        return table(
            [c.head or c.name for c in heads],
            ([cell(c, item) for c in heads] for item in self.items),
            [c.head or c.name for c in heads if c.unbroken],
        )


def listing_of(name: str, columns: str, rows: Iterable[Mapping[str, Any]]) -> Listing[Mapping[str, Any]]:
    """What JSON has of each item, as a table: `columns` names the keys, with a dot where one lies inside another."""

    def getter(path: str) -> Callable[[Mapping[str, Any]], Cell]:
        def of(row: Mapping[str, Any]) -> Any:
            value: Any = row
            for key in path.split("."):
                value = value.get(key) if isinstance(value, Mapping) else None
            return value

        return of

    return Listing(name, list(rows), [Column(path, getter(path), mask="in") for path in columns.split()])


class Shown(NamedTuple):
    """What a command shows: what JSON says of it, what people read, and as a table where it is one."""

    kind: str
    content: Content
    views: Sequence[Any] = ()
    listing: Listing[Any] | None = None
    also: Mapping[str, Callable[[], str]] = MappingProxyType({})  # forms that this result alone has


class Out(Protocol):
    """Where results go."""

    def document(self, text: str) -> None:
        """A text as it is."""
        ...

    def show(self, *views: Any) -> None:
        """What people read."""
        ...

    def ident(self, text: str) -> str:
        """An identifier, masked while presenting."""
        ...


class Form(NamedTuple):
    """How a result is given, and whether it has to be a table for that."""

    give: Callable[[Shown, Out], None]
    tables: bool = False


def _people(shown: Shown, out: Out) -> None:
    for view in shown.views:
        out.show(view)


def _as_json(shown: Shown, out: Out) -> None:
    content = shown.content() if callable(shown.content) else shown.content
    out.document(text_of({"version": JSON_VERSION, "kind": shown.kind, **content}))


def _as_csv(shown: Shown, out: Out) -> None:
    """RFC 4180 text. Cells that a spreadsheet could take for a formula are given a quote mark."""
    import csv
    import io

    assert shown.listing is not None  # options.common offers it for lists alone
    made = io.StringIO()
    for line in shown.listing.lines(out.ident):
        csv.writer(made).writerow([f"'{cell}" if cell.startswith(FORMULAS) else cell for cell in line])
    out.document(made.getvalue())


PEOPLE = ("text", "table")  # the same form, which lists call a table
FORMS: dict[str, Form] = {
    "text": Form(_people),
    "json": Form(_as_json),
    "csv": Form(_as_csv, tables=True),
}


def forms_of(usual: str, *, tables: bool) -> list[str]:
    """The forms of a result whose usual one is `text` or `table`."""
    return [usual, *(name for name, form in FORMS.items() if name not in PEOPLE and (tables or not form.tables))]


def give(shown: Shown, form: str, out: Out) -> None:
    """In the form that was asked for."""
    if form in shown.also:
        out.document(shown.also[form]())
    else:
        FORMS["text" if form in PEOPLE else form].give(shown, out)


def text_of(content: Mapping[str, Any]) -> str:
    """A result as JSON for reading; of a long list each entry is one line, which is written three times as fast."""

    import json

    def one(value: Any) -> str:
        if isinstance(value, list) and len(value) >= LONG:
            return "[\n  " + ",\n  ".join(map(json.dumps, value)) + "\n ]"
        return json.dumps(value, indent=1).replace("\n", "\n ")

    return "{\n " + ",\n ".join(f"{json.dumps(name)}: {one(value)}" for name, value in content.items()) + "\n}"


def _datum(cell: Cell) -> Any:
    from sigillum.core.values.times import format_instant

    if isinstance(cell, datetime):
        return format_instant(cell)
    return list(cell) if isinstance(cell, (list, tuple)) else cell


def _cell(column: Column[T], item: T, ident: Callable[[str], str]) -> str:
    from sigillum.core.values.text import visible

    from .views.common import masked

    value = _datum(column.of(item))
    if isinstance(value, bool):
        value = "yes" if value else "no"
    text = visible(", ".join(map(str, value)) if isinstance(value, list) else "" if value is None else str(value))
    return ident(text) if column.mask == "whole" else masked(text, ident) if column.mask == "in" else text
