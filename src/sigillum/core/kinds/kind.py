"""What a kind of resource is, what is asked about it and answered, and the one equality."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Generic, NamedTuple, NoReturn, TypeVar, cast

K = TypeVar("K")
Part = Mapping[str, Any]  # some fields of a kind: a field that is absent is not spoken of, an empty one is to be empty


class Kind(Generic[K]):
    """A kind of resource of a tenant.

    `key`: the fields that tell one from others of its kind. `power`: what changing it takes. `finders`: the fields by which it
    can be asked for, beside its id and our mark. `write_only`: what is sent and never shown. `shown_as`: what is sent in one
    field and shown in another. `normal`: how a field's values are made alike before they are compared. `entries`: how an entry
    of a shared list is made of its value and what stands beside it; where nothing is said, it is the value.
    `assigned`: fields beside its id whose values the tenant chooses.
    """

    __slots__ = ("assigned", "entries", "finders", "key", "name", "normal", "power", "shown_as", "type", "write_only")

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
        assigned: Iterable[str] = (),
    ) -> None:
        self.name, self.type, self.key, self.power = name, type_, key, power
        self.finders, self.write_only, self.assigned = frozenset(finders), frozenset(write_only), frozenset(assigned)
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


@dataclass(frozen=True, slots=True)
class NotShown:
    """Instead of a value. `never`: by profile, schema or dialect this tenant has no such field; else it may show it yet."""

    why: str
    never: bool = False


class Record(NamedTuple, Generic[K]):
    """One resource as its tenant shows it.

    `mark`: its externalId. `carried`: the fields that it shows; None: all of its kind that its tenant has. `missing`: those
    among them that this answer left out, and that are not empty by that.
    """

    kind: Kind[K]
    id: str
    body: K
    version: str = ""
    mark: str = ""
    progress: str = ""  # accepted or failed, while a tenant makes it or could not; empty or ready otherwise
    carried: frozenset[str] | None = None
    modified: str = ""  # when it was changed last, as its tenant says it
    missing: frozenset[str] = frozenset()

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

    def get(self, field: str, carried: frozenset[str] | None = None) -> Any:
        """A field's value, or `NotShown`. `carried`: the fields of its kind that its tenant has; None: all."""
        shown = self.carried if self.carried is not None else carried
        if shown is not None and field not in shown:
            return NotShown(f"{field} of a {self.kind.name} is never shown there", never=True)
        return NotShown(f"its {field} was left out, or is not described") if field in self.missing else self.value(field)

    def says(self, **fields: Any) -> bool:
        """Does it show all of these fields, and with these values? What is not shown is neither the same nor another."""
        return all(
            not isinstance(have := self.get(n), NotShown) and self.kind.same(n, have, want) for n, want in fields.items()
        )

    def denies(self, **fields: Any) -> bool:
        """Does it show one of these fields with another value?"""
        return any(
            not isinstance(have := self.get(n), NotShown) and not self.kind.same(n, have, want) for n, want in fields.items()
        )

    def over(self, now: datetime) -> bool:
        """Does it show that its end has come? At the very second of it, it has."""
        until = self.value("until")
        return until is not None and bool(until <= now)


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


@dataclass(frozen=True, slots=True)
class Compared:
    """What is wanted, held against what is shown: fields that are different, as (existing, wanted), and fields that are hidden.

    There are three answers, so it is neither true nor false: what is hidden never makes a step and never ends anything.
    """

    different: dict[str, tuple[Any, Any]]
    hidden: dict[str, NotShown]

    def __bool__(self) -> NoReturn:
        raise TypeError("say which: .different, .hidden, or .same")

    @property
    def same(self) -> bool:
        """Is all of it shown, and as wanted?"""
        return not self.different and not self.hidden

    @property
    def dark(self) -> dict[str, NotShown]:
        """What this tenant shows at other times: until it does, whether it differs is not known."""
        return {n: h for n, h in self.hidden.items() if not h.never}

    def unread(self, part: Part, sent: Mapping[str, str], digest: Callable[[Any], str]) -> dict[str, Any]:
        """What is never shown there, and is wanted otherwise than it was `sent` last (by its digest): it is sent once more."""
        never = [n for n, h in self.hidden.items() if h.never and n in sent and n in part]
        return {n: part[n] for n in never if sent[n] != digest(part[n])}


def compared(record: Record[Any], part: Part, carried: frozenset[str] | None = None) -> Compared:
    """Every field that is wanted, held against what is shown. `carried`: the fields that the tenant has of this kind."""
    different, hidden = dict[str, tuple[Any, Any]](), dict[str, NotShown]()
    for name, want in record.kind.shown(part).items():
        have = record.get(name, carried)
        if isinstance(have, NotShown) and not have.never and not want:
            continue  # left out, and wanted empty
        if isinstance(have, NotShown):
            hidden[name] = have
        elif not record.kind.same(name, have, want):
            different[name] = (have, want)
    return Compared(different, hidden)


SAYS_OF_ITSELF = frozenset(("purpose", "owner", "deputy", "stage"))


def suits(record: Record[Any], part: Part, carried: frozenset[str] | None = None) -> bool:
    """Is it what is wanted, as far as it is shown? What it does not say of itself yet contradicts nothing."""
    return all(name in SAYS_OF_ITSELF and not have for name, (have, _) in compared(record, part, carried).different.items())


def alike(record: Record[Any], part: Part) -> bool:
    """Is it the same thing, by its natural key?"""
    shown = record.kind.shown(part)
    return record.says(**{n: shown.get(n) for n in record.kind.key})


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
