"""Books: an index beside the chain, made of its entries alone, so that it can be rebuilt from them at any time."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from sigillum.core.records.chain import Entry
from sigillum.core.records.history import ADOPTED, FOUND, KNOWN, LENT, OUTCOME, RENAMED, Outcome

NAME, THING, LOAN = "name", "thing", "loan"


class Row(NamedTuple):
    """One line of the books: a charter's `name`, a `thing` by its id, or a `loan` by its externalId; and whose stream it is."""

    what: str
    key: str
    uid: str


def row_of(kind: str, uid: str, body: Mapping[str, Any]) -> Row | None:
    """What one entry adds. A name takes the place of the name that its charter had before."""
    if kind in (KNOWN, RENAMED):
        return Row(NAME, str(body.get("name", "")), uid)
    if kind == LENT:
        return Row(LOAN, str(body.get("external_id", "")), uid)
    made = kind in (ADOPTED, FOUND) or (kind == OUTCOME and body.get("result") == Outcome.MADE)
    return Row(THING, str(body["id"]), uid) if made and body.get("id") and not body.get("value") else None


def rows_of(entries: Iterable[Entry]) -> dict[tuple[str, str], str]:
    """The books as the whole chain says: (what, key) -> uid."""
    books: dict[tuple[str, str], str] = {}
    for entry in entries:
        row = row_of(entry.kind, entry.charter, entry.body)
        if row is None:
            continue
        if row.what == NAME:
            books = {key: uid for key, uid in books.items() if key[0] != NAME or uid != row.uid}
        books[row.what, row.key] = row.uid
    return books
