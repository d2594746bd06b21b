"""Resources of one tenant: the write path sees the newest state, look-ups see it after the arrival delay."""

from __future__ import annotations

import hashlib
import json
import secrets
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from sigillum.sandbox.http.errors import ScimProblem
from sigillum.sandbox.worlds.clock import Clock, stamp

from . import filters
from .attributes import Kind
from .schemas import KINDS

Json = dict[str, Any]


@dataclass
class Record:
    """One resource with its history; `past` holds what look-ups may still show, oldest first."""

    id: str
    created: datetime
    changed: datetime
    data: Json | None
    version: str
    past: list[tuple[datetime, Json | None, datetime, str]] = field(default_factory=list)


def version_of(data: Json) -> str:
    digest = hashlib.sha256(json.dumps(data, sort_keys=True).encode()).hexdigest()
    return f'"{digest[:16]}"'


class Store:
    """The resources of one tenant, by type and id, with equality indexes on the types' indexed paths."""

    def __init__(self, clock: Clock) -> None:
        self.clock = clock
        self.arrival_seconds = 0.0
        self.felt_seconds = 0.0  # decisions follow a change after that time
        self.stale_seconds = 0.0  # an ordered fault: look-ups answer from that long ago
        self.unique_external_ids = True
        self.records: dict[str, dict[str, Record]] = {name: {} for name in KINDS}
        self._index: dict[tuple[str, str], dict[str, set[str]]] = {}
        self.external: set[tuple[str, str, str]] = set()  # type, domain, externalId: never given twice
        self.order: dict[str, int] = {}

    # --- the write path -------------------------------------------------------------------------------
    def current(self, kind: Kind, identity: str) -> Json | None:
        record = self.records[kind.name].get(identity)
        return record.data if record else None

    def all_current(self, name: str) -> Iterator[tuple[str, Json]]:
        for record in self.records[name].values():
            if record.data is not None:
                yield record.id, record.data

    def by(self, name: str, path: str, value: str) -> Iterator[tuple[str, Json]]:
        """Current resources whose indexed `path` has had `value`; the caller checks what it is now."""
        for identity in sorted(self._index.get((name, path.lower()), {}).get(value.lower(), ()), key=lambda i: self.order[i]):
            data = self.records[name][identity].data
            if data is not None:
                yield identity, data

    def create(self, kind: Kind, data: Json, domain: str = "") -> Record:
        """Add a resource. Raises ScimProblem 409 (uniqueness)."""
        self._check_unique(kind, data, None)
        external = data.get("externalId")
        if external and self.unique_external_ids:
            if (kind.name, domain, external) in self.external:
                raise ScimProblem(409, "externalId has been used before", "uniqueness")
            self.external.add((kind.name, domain, external))
        now = self.clock.now()
        record = Record(secrets.token_hex(8), now, now, data, version_of(data))
        record.past.append((now + timedelta(seconds=self.arrival_seconds), data, now, record.version))
        self.records[kind.name][record.id] = record
        self.order[record.id] = len(self.order)
        self.note(kind, record.id, data)
        return record

    def update(self, kind: Kind, identity: str, data: Json, domain: str = "") -> Record:
        self._check_unique(kind, data, identity)
        record = self.records[kind.name][identity]
        external, had = data.get("externalId"), (record.data or {}).get("externalId")
        if external and external != had and self.unique_external_ids:
            if (kind.name, domain, external) in self.external:
                raise ScimProblem(409, "externalId has been used before", "uniqueness")
            self.external.add((kind.name, domain, external))
        if data != record.data:
            self._push(record, data)
            self.note(kind, identity, data)
        return record

    def delete(self, kind: Kind, identity: str) -> None:
        self._push(self.records[kind.name][identity], None)

    def _push(self, record: Record, data: Json | None) -> None:
        now = self.clock.now()
        record.data, record.changed = data, now
        record.version = version_of(data) if data is not None else record.version
        shown = now + timedelta(seconds=self.arrival_seconds)
        old = now - timedelta(seconds=max(self.stale_seconds, self.felt_seconds, 3600))
        while len(record.past) > 1 and record.past[1][0] < old:
            record.past.pop(0)
        record.past.append((shown, data, now, record.version))

    def _check_unique(self, kind: Kind, data: Json, identity: str | None) -> None:
        for name in kind.unique:
            value = data.get(name)
            attr = kind.schema.find(name)
            for other, theirs in self.by(kind.name, name, value) if isinstance(value, str) else ():
                have = theirs.get(name)
                same = have == value if attr and attr.exact else str(have).lower() == str(value).lower()
                if other != identity and same:
                    raise ScimProblem(409, f"{name} is taken", "uniqueness")

    def note(self, kind: Kind, identity: str, data: Json) -> None:
        for path in (*kind.indexed, "externalId"):
            head, _, sub = path.partition(".")
            value = data.get(head)
            for one in value if isinstance(value, list) else [value]:
                text = one.get(sub) if sub and isinstance(one, dict) else one
                if isinstance(text, str):
                    self._index.setdefault((kind.name, path.lower()), {}).setdefault(text.lower(), set()).add(identity)

    # --- what decisions feel ------------------------------------------------------------------------------
    def felt(self, name: str, identity: str) -> Json | None:
        """A resource as decisions take it now: as it was `felt_seconds` ago."""
        return self.before(name, identity, self.felt_seconds)

    def before(self, name: str, identity: str, seconds: float) -> Json | None:
        """A resource as it was so many seconds ago."""
        moment = self.clock.now() - timedelta(seconds=seconds)
        record = self.records[name].get(identity)
        return next((data for _, data, changed, _ in reversed(record.past) if changed <= moment), None) if record else None

    def newest(self, credential: str) -> Json | None:
        """A credential as it was before it was deleted."""
        record = self.records["Credential"].get(credential)
        return next((data for _, data, _, _ in reversed(record.past) if data is not None), None) if record else None

    def ever_by(self, name: str, path: str, value: str) -> list[str]:
        """The ids of all that had this value at any time, whether they are still there or not."""
        return sorted(self._index.get((name, path.lower()), {}).get(value.lower(), ()), key=lambda i: self.order[i])

    def felt_by(self, name: str, path: str, value: str) -> Iterator[tuple[str, Json]]:
        """Like `by`, among what is felt; the caller checks the value."""
        for identity in self._index.get((name, path.lower()), {}).get(value.lower(), ()):
            data = self.felt(name, identity)
            if data is not None:
                yield identity, data

    # --- look-ups -------------------------------------------------------------------------------------
    def seen(self, record: Record) -> tuple[Json, datetime, str] | None:
        """What a look-up shows of a record now: data, time of change, version."""
        now = self.clock.now() - timedelta(seconds=self.stale_seconds)
        for shown, data, changed, version in reversed(record.past):
            if shown <= now:
                return None if data is None else (data, changed, version)
        return None

    def look_up(self, kind: Kind, identity: str) -> Record | None:
        record = self.records[kind.name].get(identity)
        return record if record is not None and self.seen(record) else None

    def candidates(self, kind: Kind, tree: filters.Tree | None) -> list[Record]:
        """Records that look-ups show, narrowed by an index where the filter allows it."""
        records = self.records[kind.name]

        def ids_of(path: str, value: str) -> set[str] | None:
            for schema in kind.schemas():
                path = path.removeprefix(schema.id.lower() + ":")
            if path == "id":
                return {value} & records.keys()
            return self._index[kind.name, path].get(value.lower(), set()) if (kind.name, path) in self._index else None

        ids = filters.narrowed(tree, ids_of) if tree is not None else None
        if ids is None:
            return [r for r in records.values() if self.seen(r)]
        return [records[i] for i in sorted(ids, key=lambda i: self.order[i]) if self.seen(records[i])]


def meta_of(kind: Kind, record: Record, base: str, changed: datetime, version: str) -> Json:
    return {
        "resourceType": kind.name,
        "created": stamp(record.created),
        "lastModified": stamp(changed),
        "location": f"{base}/{kind.endpoint}/{record.id}",
        "version": version,
    }
