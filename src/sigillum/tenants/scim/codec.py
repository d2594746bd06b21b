"""What a codec is: one kind's way into SCIM and back. And where resources stand at one tenant."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import datetime
from typing import Any, NamedTuple

from sigillum.core.kinds.changes import Entry
from sigillum.core.kinds.kind import Kind, Part, Query, Record
from sigillum.core.values.times import format_instant
from sigillum.protocols.scim import PATCH_OP, quoted

from .words import Json, inner, text

OWN = "urn:sigillum:scim:1.0:"


class Wire(NamedTuple):
    """Where resources stand at one tenant: its base address, the endpoint of each kind, and the extensions it has."""

    base: str
    endpoints: Mapping[str, str]
    extensions: frozenset[str] = frozenset()

    def link(self, kind: str, identity: str) -> Json:
        return {"value": identity, "$ref": f"{self.base}{self.endpoints.get(kind, '')}/{identity}"}


Form = Callable[[Any, Part, Wire], Any]


def as_is(value: Any, part: Part, wire: Wire) -> Any:
    if isinstance(value, datetime):
        return format_instant(value)
    return list(value) if isinstance(value, tuple) else value


def link(kind: str) -> Form:
    return lambda value, part, wire: wire.link(kind, value)


def carried_by(value: Any, part: Part, wire: Wire) -> Json:
    """A principal, whose kind stands beside it."""
    return wire.link(part.get("carrier") or "account", value)


class Codec(NamedTuple):
    """One kind. `sent`: of each field that is written, its attribute and form; one in `extension` bears that before its name.

    `found`: the attribute by which a finder looks. `more`: what goes with a creation. `beside`: attributes beside an entry.
    """

    kind: Kind[Any]
    schema: str
    read: Callable[[Json], Any]
    sent: Mapping[str, tuple[str, Form]]
    found: Mapping[str, str]
    endpoint: str = ""
    extension: str = ""
    more: Callable[[Part], Json] = lambda part: {}
    beside: Mapping[str, str] = {}

    def carried(self, wire: Wire) -> frozenset[str]:
        """The fields that a tenant has; those of an extension only with it."""
        if self.extension and self.extension not in wire.extensions:
            return frozenset(n for n, (path, _) in self.sent.items() if not path.startswith(self.extension)) | {"members"}
        return frozenset(self.kind.fields)

    def body(self, wire: Wire, mark: str, part: Part) -> Json:
        """The SCIM body of a creation."""
        out: Json = {"schemas": [self.schema], "externalId": mark, **self.more(part)}
        for name, value in part.items():
            if name not in self.sent or value in (None, "", ()):
                continue
            path, form = self.sent[name]
            if not path.startswith(OWN):
                out[path] = form(value, part, wire)
            elif self.extension in wire.extensions:
                if self.extension not in out:
                    out["schemas"].append(self.extension)
                out.setdefault(self.extension, {})[path.rpartition(":")[2]] = form(value, part, wire)
        return out

    def changes(self, wire: Wire, part: Part) -> Json:
        """SCIM attribute paths and their new values; an empty one removes the attribute."""
        return {
            self.sent[name][0]: None if value in (None, "", ()) else self.sent[name][1](value, part, wire)
            for name, value in part.items()
        }

    def filter(self, query: Query[Any]) -> str:
        """The SCIM filter of a query; empty: all there are."""
        value = query.value
        match query.field:
            case "id":
                return f"id eq {quoted(value)}"
            case "mark":
                return f"externalId eq {quoted(value)}"
            case "all":
                return ""
            case "everyone":
                return f"{self.extension}:everyone eq true"
            case "under":
                return f"path sw {quoted(value + '/')}" if value else ""
        return f"{self.found[query.field]} eq {quoted(value)}"

    def knows(self, query: Query[Any], wire: Wire) -> bool:
        """Has the tenant what is asked by? What stands in an extension is asked for only where that was announced."""
        own = bool(self.extension) and (query.field == "everyone" or self.found.get(query.field, "").startswith(self.extension))
        return not own or self.extension in wire.extensions

    def record(self, resource: Json, carried: frozenset[str] | None = None) -> Record[Any]:
        """A resource in our words; ids and versions are kept verbatim. What is left out is empty (RFC 7643 §2.5)."""
        about = inner(resource, self.extension) if self.extension else {}
        progress = text(about.get("progress")) or text(resource.get("progress"))
        return Record(
            self.kind,
            str(resource.get("id", "")),
            self.read(resource),
            str(inner(resource, "meta").get("version") or ""),
            str(resource.get("externalId") or ""),
            progress,
            carried,
            text(inner(resource, "meta").get("lastModified")),
        )

    def entry(self, entry: Entry) -> Json:
        """The PATCH message that puts a value into a list of values, or takes it out (RFC 7644 §3.5.2.1, §3.5.2.2)."""
        about = {self.beside.get(n, n): v for n, v in entry.about.items()}
        operation: Json = (
            {"op": "remove", "path": f"{entry.field}[value eq {quoted(str(entry.value))}]"}
            if entry.out
            else {"op": "add", "path": entry.field, "value": [{"value": str(entry.value), **about}]}
        )
        return {"schemas": [PATCH_OP], "Operations": [operation]}


def same(*names: str, prefix: str = "") -> dict[str, tuple[str, Form]]:
    """Fields whose attribute has their own name."""
    return {n: (f"{prefix}{n}", as_is) for n in names}


def named(pairs: Iterable[tuple[str, str]], prefix: str = "") -> dict[str, tuple[str, Form]]:
    return {ours: (f"{prefix}{theirs}", as_is) for ours, theirs in pairs}
