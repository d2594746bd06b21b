"""Things that are entries of one document, which has many writers: read, one entry changed, written back under its revision."""

from __future__ import annotations

import copy
import json
from collections.abc import Iterable
from typing import Any, NamedTuple, Protocol

from jsonpointer import JsonPointer

from sigillum.core.kinds.kind import Kind, Record
from sigillum.core.values.canonical import digest
from sigillum.tenants.port import Reply, Result

from .calls import Speaker
from .model import DialectFile, DocumentSection, ThingSection
from .records import Records
from .values import Values, at, filled

_TEXT = json.JSONEncoder(sort_keys=True, ensure_ascii=False)  # made once: making one takes longer than using it
MEMBER = "member"  # how a dialect names one of the members of an entry


class Things(Protocol):
    """What documents need of the rest of a dialect."""

    speaker: Speaker
    dialect: DialectFile
    records: Records

    def section(self, kind: Kind[Any]) -> ThingSection | None: ...


class Read(NamedTuple):
    """A document as it was read, with what tells whether it has changed since."""

    body: Any
    etag: str
    refusal: Reply | None = None


class Documents:
    """Reading and writing them."""

    def __init__(self, things: Things) -> None:
        self.things = things

    def all(
        self, kind: Kind[Any], section: DocumentSection, places: Iterable[dict[str, Any]], about: str = ""
    ) -> list[Record[Any]]:
        """Every entry of these documents; only those about a principal, where one is named."""
        from .fields import HiddenError

        out = list[Record[Any]]()
        for values in places:
            spoken = self.things.speaker.ask(section.read, values)
            if spoken.means == "missing":
                continue
            if spoken.means != "done":
                raise HiddenError(f"status {spoken.answer.status}: {spoken.said}")
            out += [r for r, _, _ in self._entries(kind, section, spoken.body, values, about)]
        return out

    def _entries(
        self, kind: Kind[Any], section: DocumentSection, body: Any, values: Values, about: str = ""
    ) -> list[tuple[Record[Any], Any, Any]]:
        """Each entry as a thing, with its place in the document and its member. `about`: those only that name this principal;
        a document has many, and each takes time.
        """
        thing = self.things.section(kind)
        assert thing is not None
        told = thing.shows.get("principal")
        about = about if told is not None and told.is_ is None and told.as_ is None else ""
        out = list[tuple[Record[Any], Any, Any]]()
        for entry in at(body, section.entries) or []:
            for member in at(entry, section.members) or [] if section.members is not None else [None]:
                if about and about not in (member if isinstance(member, str) else json.dumps(entry, ensure_ascii=False)):
                    continue
                raw = {**entry, MEMBER: member} if section.members is not None else entry
                record = self.things.records.record(kind, thing, raw, values)
                if record is not None:
                    out.append((record, entry, member))
        return out

    def read(self, section: DocumentSection, values: Values, doing: str) -> Read:
        """The document as it is, or why it cannot be read."""
        spoken = self.things.speaker.ask(section.read, values)
        if spoken.means not in ("done", "missing"):
            return Read(None, "", spoken.reply(doing))
        body = spoken.handed if spoken.means == "done" else {}
        return Read(body, spoken.answer.headers.get("ETag", ""))

    def _write(self, section: DocumentSection, values: Values, read: Read, doing: str) -> Reply:
        """Under its revision; where that is old, it is tried again as a new attempt."""
        guard = {"If-Match": read.etag} if section.revision is None and read.etag else {}
        body = filled(section.write.body, {**values, "document": read.body}, self.things.dialect.words, self.things.speaker.now)
        reply, _ = self.things.speaker.change(section.write, values, doing, headers=guard, body=body)
        return reply._replace(result=Result.BUSY, wait_seconds=0.0) if reply.result is Result.STALE else reply

    def make(
        self,
        kind: Kind[Any],
        section: DocumentSection,
        values: dict[str, Any],
        record: Record[Any],
        doing: str,
        read: Read | None = None,
    ) -> Reply:
        """Put one entry in, and change nothing else: into the document as it was `read`, where it was."""
        read = read or self.read(section, values, doing)
        if read.refusal is not None:
            return read.refusal
        there = self._entries(kind, section, read.body, values, str(values.get("principal") or ""))
        if any(r.id == record.id for r, _, _ in there):
            return Reply(Result.EXISTS, detail="it stands in the document already")
        entry = filled(section.entry, values, self.things.dialect.words, self.things.speaker.now)
        entries = at(read.body, section.entries)
        if entries is None:
            entries = []
            JsonPointer(section.entries).set(read.body, entries)
        if section.members is None:
            entries.append(entry)
        else:
            member = entry.pop(MEMBER)
            among = next((e for e in entries if _like(e, entry, section.members)), None)
            if among is None:
                among = {**entry}
                JsonPointer(section.members).set(among, [])
                entries.append(among)
            at(among, section.members).append(member)
        reply = self._write(section, values, read, doing)
        return reply._replace(record=record) if reply.result is Result.DONE else reply

    def foreseen(self, kind: Kind[Any], section: DocumentSection, values: dict[str, Any], identity: str, read: Read) -> str:
        """How the document will look with one more entry."""
        return "" if read.refusal is not None else self._digest(kind, section, read.body, values, identity)

    def looks(self, kind: Kind[Any], section: DocumentSection, values: dict[str, Any]) -> str:
        """How it looks now: which entries it has, since the other side sorts and joins them."""
        read = self.read(section, values, "looking")
        return "" if read.refusal is not None else self._digest(kind, section, read.body, values)

    def _digest(self, kind: Kind[Any], section: DocumentSection, body: Any, values: Values, *more: str) -> str:
        """Of the entries about this principal by their ids, `more` among them, and of all others as they stand, in any order.

        Those are many, and while they are read somebody may write: so they are put into one text, and that is cut between
        entries, which costs a tenth of looking at each.
        """
        about = str(values.get("principal") or "")
        ours = {*more, *(r.id for r, _, _ in self._entries(kind, section, body, values, about))} if about else set(more)
        pieces = {p.strip("[{}]") for p in _TEXT.encode(at(body, section.entries) or []).split("}, {")}
        return digest([sorted(ours), sorted(p for p in pieces if p and (not about or about not in p))])

    def unguarded(self, section: DocumentSection, values: Values, before: Read) -> bool | None:
        """Does the tenant take a write under the revision that a document had before it was changed? It stays as it is now.
        None: the revision did not change, so nothing is shown.
        """
        read = self.read(section, values, "looking")
        if read.refusal is not None or before.refusal is not None:
            return None
        if section.revision is None and not read.etag:
            return True
        if section.revision is None:
            same, old = read.etag == before.etag, Read(read.body, before.etag)
        else:
            revision = at(before.body, section.revision)
            same, old = at(read.body, section.revision) == revision, Read(copy.deepcopy(read.body), "")
            JsonPointer(section.revision).set(old.body, revision)
        return None if same else self._write(section, values, old, "writing it back").result is Result.DONE

    def end(self, kind: Kind[Any], thing: ThingSection, values: dict[str, Any], identity: str, doing: str) -> Reply:
        """Take one entry out: that which equals it, and no other."""
        section = thing.document
        assert section is not None
        read = self.read(section, values, doing)
        if read.refusal is not None:
            return read.refusal
        entries = at(read.body, section.entries) or []
        for record, entry, member in self._entries(kind, section, read.body, values, str(values.get("principal") or "")):
            if record.id != identity:
                continue
            if section.members is not None:
                among = at(entry, section.members)
                among.remove(member)
                if among:
                    break
            entries[:] = [e for e in entries if e is not entry]
            break
        else:
            return Reply(Result.MISSING, detail="it does not stand in the document")
        return self._write(section, values, read, doing)


def _like(entry: Any, wanted: dict[str, Any], members: str) -> bool:
    """Is it the entry to which a member belongs: all the same but its members?"""
    without = {n: v for n, v in entry.items() if n != members.lstrip("/")} if isinstance(entry, dict) else {}
    return without == wanted
