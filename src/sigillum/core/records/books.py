"""Books: an index beside the chain, made of its entries alone, so that it can be rebuilt from them at any time."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from sigillum.core.records.chain import Entry
from sigillum.core.records.history import ADOPTED, CLOSED, FOUND, KNOWN, LENT, OUTCOME, RENAMED, Outcome

NAME, THING, LOAN = "name", "thing", "loan"
UNDERTAKING, NUMBER = "undertaking", "number"  # in an entry's body: the sort that it begins or closes, and which one


class Row(NamedTuple):
    """One line of the books: a charter's `name`, a `thing` by its id, a `loan` by its externalId; and whose stream it is.

    Beside them what is open of each sort of undertaking, and the undertakings about each principal. Without a stream the
    line goes.
    """

    what: str
    key: str
    uid: str


def open_(sort: str) -> str:
    """The lines of what is open of one sort of undertaking, by its own name."""
    return f"open {sort}"


def about(sort: str, principal: str) -> str:
    """The lines of a sort of undertaking, open or ended, that are about one principal."""
    return f"{sort} of {principal}"


def changes(kind: str, uid: str, body: Mapping[str, Any]) -> tuple[Row, ...]:
    """What one entry changes. A name takes the place of the name that its charter had before."""
    if kind in (KNOWN, RENAMED):
        return (Row(NAME, str(body.get("name", "")), uid),)
    if kind == CLOSED:
        return (Row(open_(str(body[UNDERTAKING])), str(body[NUMBER]), ""),)
    if UNDERTAKING in body:
        sort, principal = str(body[UNDERTAKING]), body.get("principal")
        rows = [Row(open_(sort), str(body[NUMBER]), uid)]
        rows += [Row(about(sort, str(principal)), uid, uid)] if principal else []
        return (*rows, Row(LOAN, str(body["external_id"]), uid)) if kind == LENT else tuple(rows)
    made = kind in (ADOPTED, FOUND) or (kind == OUTCOME and body.get("result") == Outcome.MADE)
    return (Row(THING, str(body["id"]), uid),) if made and body.get("id") and not body.get("value") else ()


def rows_of(entries: Iterable[Entry]) -> dict[tuple[str, str], str]:
    """The books as the whole chain says: (what, key) -> uid."""
    books, names = dict[tuple[str, str], str](), dict[str, tuple[str, str]]()
    for entry in entries:
        for what, key, uid in changes(entry.kind, entry.charter, entry.body):
            if not uid:
                books.pop((what, key), None)
                continue
            if what == NAME:
                books.pop(names.get(uid, ("", "")), None)
                names[uid] = (what, key)
            books[what, key] = uid
    return books
