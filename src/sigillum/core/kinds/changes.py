"""The changes of one thing, and what they do to the facts: one function for foresight, for tenants by hand, and for tests."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from types import MappingProxyType
from typing import Any, Generic, NamedTuple

from sigillum.core.values.canonical import digest
from sigillum.core.values.marks import Id, Ref
from sigillum.core.values.worlds import Observed, Predicted, W

from .access import GRANT
from .kind import Fact, Kind, Part, Query, Record, answers, members

NOTHING: Part = MappingProxyType({})


class Make(NamedTuple):
    """Make one thing. `terms` is what the intent remembers of windows, so that they are never renewed.

    `about`: what is written beside a credential's key. `instead_of`: our mark on what gives way in this request.
    """

    kind: Kind[Any]
    part: Part
    terms: Part = NOTHING
    about: Part = NOTHING
    instead_of: str = ""


class Change(NamedTuple):
    """Set fields of one thing. `about`: what is written beside a credential's key before it is switched on; of anything
    else, what the ledger has to remember of it: who accepted a risk, why, until when.

    `result`: `made` or `ended`, where the change itself is to be undone one day, or undoes one.
    """

    kind: Kind[Any]
    id: Id
    part: Part
    version: str = ""
    about: Part = NOTHING
    result: str = ""


class Entry(NamedTuple):
    """Put one value into a shared list of a thing, or take it `out`: a member of a team, a service at a place."""

    kind: Kind[Any]
    id: Id
    field: str
    value: Id
    about: Part = NOTHING  # what stands beside the value
    out: bool = False


class End(NamedTuple):
    """Remove one thing. `about`: what a grant leaves behind where a principal has one role at a place, as `back`."""

    kind: Kind[Any]
    id: Id
    about: Part = NOTHING


Doing = Make | Change | Entry | End


def resolved(doing: Doing, value: Callable[[Any], Any]) -> Doing:
    """With every reference and kept secret in it replaced by its value."""

    def inner(given: Any) -> Any:
        return tuple(map(inner, given)) if type(given) is tuple else value(given)

    def part(of: Part) -> dict[str, Any]:
        return {n: inner(v) for n, v in of.items()}

    match doing:
        case Make():
            made = part(doing.part)
            if doing.kind is GRANT and str(made.get("place", "")).startswith("@") and isinstance(made["place_id"], str):
                made["place"] = f"@{made['place_id']}"  # a principal as the place, which may just have been made
            return doing._replace(part=made)
        case Change():
            return doing._replace(id=value(doing.id), part=part(doing.part), about=part(doing.about))
        case Entry():
            return doing._replace(id=value(doing.id), value=value(doing.value))
    return doing._replace(id=value(doing.id))


def after(record: Record[Any] | None, doing: Doing, new_id: str = "", mark: str = "") -> Record[Any] | None:
    """The thing as it stands once this was done to it; None: it is gone. A list holds an entry once."""
    if isinstance(doing, Make):
        return Record(doing.kind, new_id, doing.kind.made(doing.part), "", mark)
    if record is None or isinstance(doing, End):
        return None
    if isinstance(doing, Change):
        return record.with_(**record.kind.shown(doing.part))
    kept = tuple(
        v for v, name in zip(record.value(doing.field) or (), members(record, doing.field), strict=True) if name != doing.value
    )
    if not doing.out:
        form = record.kind.entries.get(doing.field)
        kept = (*kept, form(str(doing.value), doing.about) if form is not None else doing.value)
    return record.with_(**{doing.field: kept})


@dataclass(slots=True)
class Facts(Generic[W]):
    """All that is known of one tenant: records by kind and id, and the queries that were not answered, with why.

    `Facts[Observed]` come from a snapshot (or from what a person exported), `Facts[Predicted]` from `foreseen` alone.
    """

    records: dict[Kind[Any], dict[str, Record[Any]]] = field(default_factory=dict)
    hidden: dict[Query[Any], str] = field(default_factory=dict)

    def of(self, kind: Kind[Any]) -> Iterator[Record[Any]]:
        yield from self.records.get(kind, {}).values()

    def get(self, kind: Kind[Any], identity: str) -> Record[Any] | None:
        return self.records.get(kind, {}).get(identity)

    def answer(self, query: Query[Any]) -> Fact[Any]:
        """What is known of a query, where everything of its kind is known."""
        return Fact(tuple(r for r in self.of(query.kind) if answers(query, r)))

    def add(self, records: Iterable[Record[Any]]) -> None:
        for record in records:
            self.records.setdefault(record.kind, {})[record.id] = record

    def after(self, doing: Doing, new_id: str = "", mark: str = "") -> Facts[Predicted]:
        """The facts once this was done; these stay as they are."""
        identity = new_id if isinstance(doing, Make) else str(doing.id)
        there = dict(self.records.get(doing.kind, {}))
        made = after(there.get(identity), doing, identity, mark)
        if made is None:
            there.pop(identity, None)
        else:
            there[identity] = made
        if isinstance(doing, Make) and doing.instead_of:
            there = {i: r for i, r in there.items() if r.mark != doing.instead_of}
        return Facts({**self.records, doing.kind: there}, self.hidden)


def foreseen(facts: Facts[Observed], doings: Iterable[tuple[object, Doing]]) -> Facts[Predicted]:
    """The facts once all of this was done; each with the step that does it. What a step will yield is called by its name."""
    then = Facts[Predicted](facts.records, facts.hidden)
    for step, doing in doings:
        then = then.after(resolved(_placed(step, doing), placeholder), f"({step})")
    return then


def _placed(step: object, doing: Doing) -> Doing:
    """Of what is made: every value that the tenant will choose is called by the step, the same in each fact that names it."""
    if not isinstance(doing, Make):
        return doing
    chosen = {n: f"({step}) {n}" for n in doing.kind.assigned if not doing.part.get(n)}
    return doing._replace(part={**doing.part, **chosen}) if chosen else doing


def placeholder(value: Any) -> Any:
    """What stands for a value that a step will yield."""
    return (
        f"({value.step})"
        if isinstance(value, Ref) and value.field == "id"
        else f"({value.step}) {value.field}"
        if isinstance(value, Ref)
        else value
    )


def plain(value: Any) -> Any:
    """Values as JSON has them, for the ledger and for requests. Raises ValueError for a secret, which never stands there."""
    from sigillum.core.values.secret import Secret
    from sigillum.core.values.times import format_instant

    if isinstance(value, Secret):
        raise ValueError("a secret never stands in what is written down")
    if isinstance(value, datetime):
        return format_instant(value)
    if isinstance(value, (tuple, list)):
        return [plain(v) for v in value]
    return {n: plain(v) for n, v in value.items()} if isinstance(value, Mapping) else value


def digest_of(value: Any) -> str:
    """By what a value that was sent is known again, where it is never shown."""
    return digest(plain(value))


def part_of(kind: Kind[Any], values: Mapping[str, Any]) -> dict[str, Any]:
    """Values from JSON as the kind's fields have them: lists are tuples, and instants instants. Raises ValueError."""
    from sigillum.core.values.times import parse_instant

    def inner(value: Any) -> Any:
        return tuple(inner(v) for v in value) if isinstance(value, list) else value

    instants = {n for n, t in kind.type.__annotations__.items() if getattr(t, "__forward_arg__", t) == "datetime | None"}
    return {name: parse_instant(value) if value and name in instants else inner(value) for name, value in values.items()}
