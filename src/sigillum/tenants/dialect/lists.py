"""Lists of a thing: an entry comes in and goes out by a call of its own, or by writing the thing with its list."""

from __future__ import annotations

from typing import Any

from jsonpointer import JsonPointer

from sigillum.core.kinds.changes import Entry
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Query
from sigillum.tenants.port import Reply, Result

from .model import MembersSection
from .things import Things
from .values import Values, at, filled, needs


def enter(things: Things, entry: Entry) -> Reply | None:
    """Put one in or take it out; None where nothing says how. Raises HiddenError."""
    section = things.section(entry.kind)
    lists = section.lists.get(entry.field) if section is not None else None
    if lists is None:
        return None
    doing, call = f"changing the {entry.kind.name}", lists.take if entry.out else lists.add
    used = {n for c in (call, lists.read, lists.write) if c is not None for n in needs(c)}
    values = {**things.known(entry.kind, str(entry.id), used - {"value"}), "value": entry.value, **entry.about}
    if entry.field == "members":
        account = things.fact(Query(ACCOUNT, "id", str(entry.value))).first
        values["member"] = account.body.name if account is not None else entry.value
    if call is not None:
        reply, _ = things.speaker.change(call, values, doing)
        return reply
    return _whole(things, lists, values, entry, doing)


def _whole(things: Things, lists: MembersSection, values: Values, entry: Entry, doing: str) -> Reply:
    """The thing is read, its list is changed in one place, and it is written back under the version that was read."""
    assert lists.read is not None
    assert lists.write is not None
    spoken = things.speaker.ask(lists.read, values)
    if spoken.means != "done":
        return spoken.reply("reading it")
    words, now, document = things.dialect.words, things.speaker.now, spoken.handed
    one, among = filled(lists.entry, values, words, now), at(document, lists.entries)
    if among is None:
        among = list[Any]()
        JsonPointer(lists.entries).set(document, among)
    if (one in among) is not entry.out:
        return Reply(Result.DONE, detail="it is so already")
    among[:] = [e for e in among if e != one] if entry.out else [*among, one]
    etag = spoken.answer.headers.get("ETag", "")
    body = filled(lists.write.body, {**values, "document": document, "entries": among}, words, now)
    reply, _ = things.speaker.change(lists.write, values, doing, headers={"If-Match": etag} if etag else {}, body=body)
    return reply._replace(result=Result.BUSY, wait_seconds=0.0) if reply.result is Result.STALE else reply
