"""What a kind of resource is, what is asked about it and answered, and the one equality."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any, Generic, NamedTuple, TypeVar, cast

K = TypeVar("K")
Part = Mapping[str, Any]  # some fields of a kind: a field that is absent is not spoken of, an empty one is to be empty


class Kind(Generic[K]):
    """A kind of resource of a tenant.

    `key`: the fields that tell one from others of its kind. `power`: what changing it takes. `finders`: the fields by which it
    can be asked for, beside its id and our mark. `write_only`: what is sent and never shown. `shown_as`: what is sent in one
    field and shown in another. `normal`: how a field's values are made alike before they are compared. `entries`: how an entry
    of a shared list is made of its value and what stands beside it; where nothing is said, it is the value.
    """

    __slots__ = ("entries", "finders", "key", "name", "normal", "power", "shown_as", "type", "write_only")

    def __init__(
        self,
        name: str,
        type_: type[K],
        *,
        key: tuple[str, ...] = ("name",),
        power: str = "",
        finders: Iterable[str] = (),
        write_only: Iterable[str] = (),
        shown_as: Mapping[str, tuple[str, Callable[[Any], Any]]] | None = None,
        normal: Mapping[str, Callable[[Any], Any]] | None = None,
        entries: Mapping[str, Callable[[str, Mapping[str, Any]], Any]] | None = None,
    ) -> None:
        self.name, self.type, self.key, self.power = name, type_, key, power
        self.finders, self.write_only = frozenset(finders), frozenset(write_only)
        self.shown_as, self.normal, self.entries = shown_as or {}, normal or {}, entries or {}

    def __repr__(self) -> str:
        return f"<kind {self.name}>"

    @property
    def fields(self) -> tuple[str, ...]:
        return cast(tuple[str, ...], self.type._fields)  # type: ignore[attr-defined]

    def made(self, part: Part) -> K:
        """What a thing made of these fields shows."""
        return self.type(**self.shown(part))

    def shown(self, part: Part) -> dict[str, Any]:
        """The fields of a part as they are shown: without what is never shown, under the names under which it is."""
        out = {n: v for n, v in part.items() if n not in self.write_only and n not in self.shown_as}
        for sent, (seen, form) in self.shown_as.items():
            if part.get(sent):
                out[seen] = form(part[sent]) if isinstance(part[sent], Mapping) else part[sent]  # still to be yielded
        return out

    def same(self, field: str, one: Any, other: Any) -> bool:
        """The one equality: nothing and empty are alike, lists are sets."""
        form = self.normal.get(field)
        if form is not None:
            one, other = form(one), form(other)
        return bool(_plain(one) == _plain(other))


def _plain(value: Any) -> Any:
    if isinstance(value, (tuple, list)):
        value = tuple(sorted(map(repr, value)))
    return value or None


class Record(NamedTuple, Generic[K]):
    """One resource as its tenant shows it. `mark`: its externalId; `carried`: the fields that it shows; None: all of its kind
    that its tenant has.
    """

    kind: Kind[K]
    id: str
    body: K
    version: str = ""
    mark: str = ""
    progress: str = ""  # accepted or failed, while a tenant makes it or could not; empty or ready otherwise
    carried: frozenset[str] | None = None
    modified: str = ""  # when it was changed last, as its tenant says it

    @property
    def state(self) -> dict[str, str]:
        """What tells whether somebody touched it since."""
        return {"version": self.version, "modified": self.modified} if self.version and self.modified else {}

    @property
    def ready(self) -> bool:
        return self.progress in ("", "ready")

    def with_(self, **fields: Any) -> Record[K]:
        """The same with other fields."""
        return self._replace(body=cast(K, self.body._replace(**fields)))  # type: ignore[attr-defined]

    def value(self, field: str) -> Any:
        """A field by its name, where the name itself is a value: None where the kind has no such field."""
        return getattr(self.body, field, None)


class Query(NamedTuple, Generic[K]):
    """All of a kind whose field has this value. Fields beside the kind's own: `id`, `mark`, `all`, `under`, `member`."""

    kind: Kind[K]
    field: str
    value: str = ""


class Fact(NamedTuple, Generic[K]):
    """The answer to a query. Not known: `unknown` says why, and nothing may be concluded from it; `never`: no such thing can
    stand there at all.
    """

    records: tuple[Record[K], ...] = ()
    unknown: str = ""
    never: bool = False

    @property
    def known(self) -> bool:
        return not self.unknown

    @property
    def first(self) -> Record[K] | None:
        return self.records[0] if self.records else None


def differing(record: Record[Any], part: Part, carried: frozenset[str] | None = None) -> dict[str, tuple[Any, Any]]:
    """Fields whose value is not the wanted one: (existing, wanted). What is not carried cannot be compared."""
    carried = record.carried if record.carried is not None else carried
    out = {}
    for name, want in record.kind.shown(part).items():
        have = record.value(name)
        if (carried is None or name in carried) and not record.kind.same(name, have, want):
            out[name] = (have, want)
    return out


SAYS_OF_ITSELF = frozenset(("purpose", "owner", "deputy", "stage"))


def suits(record: Record[Any], part: Part, carried: frozenset[str] | None = None) -> bool:
    """Is it what is wanted? What it does not say of itself yet contradicts nothing."""
    return all(name in SAYS_OF_ITSELF and not have for name, (have, _) in differing(record, part, carried).items())


def alike(record: Record[Any], part: Part) -> bool:
    """Is it the same thing, by its natural key?"""
    shown = record.kind.shown(part)
    return all(record.kind.same(n, record.value(n), shown.get(n)) for n in record.kind.key)


def inside(record: Record[Any], field: str, value: str) -> bool:
    """Does a list of it hold an entry of this value, whatever stands beside it?"""
    return value in members(record, field)


def members(record: Record[Any], field: str) -> list[str]:
    """The values of a list, without what stands beside them."""
    return [str(v[0]) if isinstance(v, tuple) else str(v) for v in record.value(field) or ()]


def answers(query: Query[Any], record: Record[Any]) -> bool:
    """Is it an answer? Names of accounts and teams ignore case (RFC 7643 §4.1.1), the rest does not."""
    field, value = query.field, query.value
    match field:
        case "all":
            return True
        case "id":
            return record.id == value
        case "mark":
            return record.mark == value
        case "everyone":
            return record.value("everyone") is True
        case "itself":  # a principal as the place
            return bool(record.value("place") == f"@{value}")
        case "member":
            return value in record.value("members")
        case "under":
            return str(record.value("path")).rpartition("/")[0] == value
    if field in record.kind.entries:
        return inside(record, field, value)
    return record.kind.same(field, record.value(field), value)
