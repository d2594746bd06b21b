"""Books: an index beside the chain, made of its entries alone, so that it can be rebuilt from them at any time."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from typing import Any, NamedTuple

from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.chain import LedgerEntry
from sigillum.core.records.history import (
    ADOPTED,
    CLOSED,
    FOUND,
    INTENT,
    KNOWN,
    LENT,
    MET,
    NUMBER,
    OUTCOME,
    RENAMED,
    UNDERTAKING,
    AttemptOutcome,
    Verb,
)
from sigillum.core.values.marks import Mark

NAME, THING, LOAN, END, WHERE = "name", "thing", "loan", "end", "where"
ENDING = frozenset((CREDENTIAL.name, GRANT.name))  # kinds of things whose ends are in the books


def thing(tenant: str, kind: str, identity: str) -> str:
    """The key of one thing: two tenants, or two kinds of one tenant, may use the same id."""
    return f"{kind} {identity} of {tenant}"


class Row(NamedTuple):
    """One line of the books: a charter's `name`, a `thing` by its tenant, kind and id, a `loan` by its externalId; and whose
    stream it is.

    Beside them what is open of each sort of undertaking, and the undertakings about each principal; and of what was made with
    an end, that `end` before the stream; and of each tenant `where` it was met. Without a value the line goes.
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


class Ending(NamedTuple):
    """What was made with an end and has not ended before: whose it is, a generation of what, and when it ends."""

    uid: str
    thing: str
    mark: Mark
    generation: int
    until: str


def endings(rows: Mapping[str, str], before: str = "") -> Iterator[Ending]:
    """The lines of ends, those only that end before an instant (RFC 3339, in UTC), where one is given."""
    for key, value in rows.items():
        if not before or value < before:
            until, _, uid = value.partition(" ")
            thing, facet, tenant, names, generation = json.loads(key)[1:]
            yield Ending(uid, thing, Mark(facet, tenant, tuple((n, v) for n, v in names)), generation, until)


def _end(uid: str, body: Mapping[str, Any], until: str) -> Row:
    key = [uid, body.get("thing", ""), body["facet"], body["tenant"], body["key"], body["generation"]]
    return Row(END, json.dumps(key, separators=(",", ":")), f"{until} {uid}" if until else "")


def _ends(uid: str, result: str, intent: Mapping[str, Any]) -> tuple[Row, ...]:
    """What an attempt that was answered changes among the ends."""
    if intent.get("thing") not in ENDING:
        return ()
    until = str((intent.get("terms") or {}).get("until") or "")
    if result == AttemptOutcome.MADE and intent["verb"] == Verb.MAKE and until:
        return (_end(uid, intent, until),)
    return (_end(uid, intent, ""),) if result == AttemptOutcome.ENDED else ()


def changes(kind: str, uid: str, body: Mapping[str, Any], intent: Mapping[str, Any] | None = None) -> tuple[Row, ...]:
    """What one entry changes; of an outcome, with the body of its `intent`. A name takes the place of the name that its charter
    had before.
    """
    if kind in (KNOWN, RENAMED):
        return (Row(NAME, str(body.get("name", "")), uid),)
    if kind == MET:
        return (Row(WHERE, str(body["tenant"]), f"{body['address']} {body.get('issuer', '')}".strip()),)
    if kind == CLOSED:
        return (Row(open_(str(body[UNDERTAKING])), str(body[NUMBER]), ""),)
    if UNDERTAKING in body:
        sort, principal = str(body[UNDERTAKING]), body.get("principal")
        rows = [Row(open_(sort), str(body[NUMBER]), uid)]
        rows += [Row(about(sort, str(principal)), uid, uid)] if principal else []
        return (*rows, Row(LOAN, str(body["external_id"]), uid)) if kind == LENT else tuple(rows)
    made = kind in (ADOPTED, FOUND) or (kind == OUTCOME and body.get("result") == AttemptOutcome.MADE)
    of = body if intent is None else intent
    rows = (
        [Row(THING, thing(str(of.get("tenant", "")), str(of.get("thing", "")), str(body["id"])), uid)]
        if (made and body.get("id") and not body.get("value"))
        else []
    )
    if kind == OUTCOME and intent is not None:
        rows += _ends(uid, str(body.get("result")), intent)
    elif kind in (ADOPTED, FOUND) and body.get("thing") in ENDING and body.get("until"):
        rows.append(_end(uid, body, str(body["until"])))
    return tuple(rows)


def rows_of(entries: Iterable[LedgerEntry]) -> dict[tuple[str, str], str]:
    """The books as the whole chain says: (what, key) -> uid."""
    books, names, intents = dict[tuple[str, str], str](), dict[str, tuple[str, str]](), dict[int, Mapping[str, Any]]()
    for entry in entries:
        if entry.kind == INTENT:
            intents[entry.sequence] = entry.body
        intent = intents.pop(int(entry.body["attempt"]), None) if entry.kind == OUTCOME else None
        for what, key, uid in changes(entry.kind, entry.charter, entry.body, intent):
            if not uid:
                books.pop((what, key), None)
                continue
            if what == NAME:
                books.pop(names.get(uid, ("", "")), None)
                names[uid] = (what, key)
            books[what, key] = uid
    return books
