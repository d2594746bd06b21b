"""Finding things through a dialect: which call answers a question, and what its answers show, in our words."""

from __future__ import annotations

from collections.abc import Iterator, Set
from typing import Any
from urllib.parse import unquote

from sigillum.core.kinds.access import GRANT, PLACE, ROLE
from sigillum.core.kinds.identities import ACCOUNT, TEAM
from sigillum.core.kinds.kind import Fact, Kind, NotShown, Query, Record, answers
from sigillum.core.kinds.registry import KINDS
from sigillum.core.kinds.signing import CREDENTIAL

from .call_model import ListSection
from .calls import Speaker
from .document import Documents
from .fields import (
    HiddenError,
    NoIdError,
    every_list,
    joined_roles,
    last_of,
)
from .model import DialectFile, ThingSection
from .records import Records, done, seen_by
from .values import MisfitError, Values, at, names_of, needs

TOLD_BY = {"member": "members", "itself": "place", "under": "path"}  # by which field a question is answered
WORST = "administers"  # the class of a permission of which the dialect says nothing


class Things:
    """Everything that can be looked up, for one operation: what it has seen it does not ask for again."""

    def __init__(self, speaker: Speaker) -> None:
        self.speaker = speaker
        self.dialect: DialectFile = speaker.dialect
        self.records = Records(self)
        self.documents = Documents(self)
        self._memo = dict[tuple[str, str], list[Record[Any]]]()

    def section(self, kind: Kind[Any]) -> ThingSection | None:
        return self.dialect.things.get(kind.name)  # type: ignore[call-overload,no-any-return]

    # --- ids ----------------------------------------------------------------------------------------------------------
    def values_of(self, kind: Kind[Any], identity: str) -> dict[str, Any]:
        """What calls about one thing can name: its id, and the values that the id is made of."""
        section = self.section(kind)
        out: dict[str, Any] = {"id": identity}
        if section is not None and isinstance(section.id, list):
            texts = [identity] if len(section.id) == 1 else [unquote(t) for t in identity.split("/")]
            if len(texts) != len(section.id):
                raise NoIdError(f"nothing there has the id {identity!r}: it is no id of this kind ({kind.name})")
            out |= dict(zip(section.id, texts, strict=True))
        return {**self._around(kind, out), **out}

    def _around(self, kind: Kind[Any], values: Values, needed: Set[str] = frozenset()) -> dict[str, Any]:
        """What follows from what is known: the place in which an account lives, and what the tenant calls a principal; of a
        place that is named, what is `needed`.
        """
        out = dict[str, Any]()
        if kind in (GRANT, CREDENTIAL) and needed & {"place_id", "place_type"} - {n for n, v in values.items() if v}:
            field, named = ("id", values["place_id"]) if values.get("place_id") else ("path", values.get("place"))
            place = self.fact(Query(PLACE, field, str(named))).first if named else None
            if place is not None:
                out |= {"place": place.body.path, "place_id": place.id, "place_type": place.body.type}
        if kind is ACCOUNT and values.get("area"):
            place = self.fact(Query(PLACE, "path", str(values["area"]))).first
            out |= {"place": values["area"], "place_id": place.id if place is not None else ""}
        missing = {"account", "place_id"} & needed - {n for n, v in {**values, **out}.items() if v}
        if missing and kind in (GRANT, CREDENTIAL) and values.get("principal"):  # its holder's name, and where that lives
            holder = self.fact(Query(ACCOUNT, "id", str(values["principal"]))).first
            known = self.of_record(holder) if holder is not None else {}
            out |= {n: v for n, v in known.items() if n in missing}
        if values.get("principal"):
            out["account_id"] = last_of(str(values["principal"]))
        return out

    def made_of(self, kind: Kind[Any], part: Values, needed: Set[str]) -> dict[str, Any]:
        """What calls can name of a thing that is to be made, as far as they do."""
        return {**part, **self._around(kind, part, needed)}

    def known(self, kind: Kind[Any], identity: str, needed: set[str]) -> dict[str, Any]:
        """The same, and what itself shows where a call needs more. Raises NoIdError where there is none, HiddenError."""
        values = self.values_of(kind, identity)
        if needed - set(values):
            fact = self.fact(Query(kind, "id", identity))
            if fact.first is not None:
                values = {**self.of_record(fact.first), **values}
            elif fact.known:
                raise NoIdError(f"nothing there has the id {identity!r}")
        return {**self._around(kind, values, needed), **values}

    def of_record(self, record: Record[Any]) -> dict[str, Any]:
        """What calls can name of a thing that is known."""
        values = {n: v for n, v in zip(record.kind.fields, record.body, strict=True) if v not in (None, "", ())}
        values |= {"id": record.id, "mark": record.mark, "version": record.version}
        if record.kind in (ACCOUNT, TEAM):
            values |= {"principal": record.id, record.kind.name: record.body.name, "carrier": record.kind.name}
        values |= self._around(record.kind, values)
        if record.kind is PLACE:
            values |= {"place": record.body.path, "place_id": record.id}
        return values

    def above(self, of: str, values: Values) -> dict[str, Any]:
        """The same, and what can be named of that at which a document stands: a place, or an account."""
        field, value = ("path", values.get("place")) if of == PLACE.name else ("id", values.get("principal"))
        record = self.fact(Query(KINDS[of], field, str(value or ""))).first
        return {**values, **(self.of_record(record) if record is not None else {})}

    # --- questions ----------------------------------------------------------------------------------------------------
    def fact(self, query: Query[Any]) -> Fact[Any]:
        """The answer to a question; what does not fit the dialect makes it unknown."""
        if self.section(query.kind) is None and not self._written(query.kind):
            if query.kind.name in self.dialect.says.without:
                return Fact()
            return Fact(unknown=f"the dialect describes no {query.kind.name}", never=True)
        try:
            return Fact(tuple(r for r in self._found(query) if self._answers(query, r)))
        except NoIdError:
            return Fact()
        except HiddenError as problem:
            return Fact(unknown=str(problem), never=problem.never)
        except MisfitError as problem:
            return Fact(unknown=f"an answer does not fit the dialect: {query.kind.name}, {problem}")

    def _answers(self, query: Query[Any], record: Record[Any]) -> bool:
        """Is it an answer? What the tenant itself found for this question is one; what does not show the field that decides is
        neither an answer nor none. Raises HiddenError.
        """
        section, field = self.section(query.kind), TOLD_BY.get(query.field, query.field)
        if section is None or field not in query.kind.fields or field == "everyone":
            return answers(query, record)
        have = record.get(field)
        if not isinstance(have, NotShown):
            return answers(query, record)
        if query.field in section.find:
            return True
        raise HiddenError(f"{record.kind.name} {record.value('name') or record.id}: {have.why}", never=have.never)

    def _written(self, kind: Kind[Any]) -> list[Record[Any]]:
        """What stands in the dialect itself."""
        if kind is ROLE:
            return [self.records.role(r.name, r.display, r.permissions, tuple(r.at)) for r in self.dialect.roles]
        if kind is PLACE:
            places = (PLACE.type(path=p.path, type=p.kind) for p in self.dialect.places)
            return [Record(PLACE, p.path, self.records.marked(p)) for p in places]
        return []

    def _found(self, query: Query[Any]) -> list[Record[Any]]:
        kind, section = query.kind, self.section(query.kind)
        written = self._written(kind)
        if section is None:
            return written
        if kind is GRANT and query.field == "principal":
            self._one_of(query.value)
        if section.document is not None:
            about = query.value if query.field == "principal" else ""
            return self.documents.all(kind, section.document, self._each(kind, section.document.of, query), about)
        call = section.find.get(query.field)
        if call is not None:
            return self._listed(kind, section, call, {query.field: query.value, "value": query.value}, gone=True)
        if query.field == "id" and section.one is not None and section.parent is None:
            values = self.values_of(kind, query.value)
            if {n for n, _ in names_of(section.one.address)} <= set(values):
                return self._one(kind, section, values)
        if section.id == [query.field] and section.one is not None:
            return self._one(kind, section, {query.field: query.value, "id": query.value})
        if section.all is None:
            raise HiddenError(f"the dialect does not say how a {kind.name} is found by {query.field}")
        if section.parent is not None:
            return written + self._whole_tree(section)
        out = list(written)
        for listed in every_list(section):
            if listed.each is None:
                out += self._listed(kind, section, listed, {})
            for values in self._each(kind, listed.each, query) if listed.each is not None else ():
                out += self._listed(kind, section, listed, values, gone=True)
        if kind is not ROLE:
            return out
        joined_ = joined_roles(out)
        told = {r.name for r in self.dialect.roles}
        # of one that neither the tenant nor the dialect says what it allows, nothing is known
        return joined_ if "permissions" in section.shows else [r for r in joined_ if any(r.says(name=n) for n in told)]

    def _one_of(self, principal: str) -> None:
        """Accounts and teams may be numbered each by themselves; of an id that both have, nobody can say whose it is. Raises
        HiddenError.
        """
        described = [k for k in (ACCOUNT, TEAM) if self.section(k) is not None]
        if len(described) == 2 and all(self.fact(Query(k, "id", principal)).records for k in described):
            raise HiddenError(f"{principal} is the id of an account and of a team there: whose rights these are is not known")

    def _each(self, kind: Kind[Any], of: str, query: Query[Any]) -> Iterator[dict[str, Any]]:
        """For which things something is asked: for one where the question names it, else for all of them."""
        other = KINDS[of]
        values = self.values_of(kind, query.value) if query.field == "id" else {query.field: query.value}
        if other in (ACCOUNT, TEAM) and values.get("principal"):
            yield from self._whose(other, str(values["principal"]))
            return
        place = values.get("place") or (values.get("area") if kind is ACCOUNT else None)
        if other is PLACE and place:
            asked = Query(PLACE, "path", str(place))
        else:
            asked = Query(other, "all")
        fact = self.fact(asked)
        if not fact.known:
            raise HiddenError(f"its {of}s: {fact.unknown}")
        for record in fact.records:
            yield self.of_record(record)

    def _whose(self, kind: Kind[Any], principal: str) -> Iterator[dict[str, Any]]:
        fact = self.fact(Query(kind, "id", principal)) if self.section(kind) is not None else Fact()
        if not fact.known:
            raise HiddenError(f"its {kind.name}: {fact.unknown}")
        yield from (self.of_record(r) for r in fact.records)

    def _one(self, kind: Kind[Any], section: ThingSection, values: Values) -> list[Record[Any]]:
        assert section.one is not None
        memo = kind.name, f"{id(section.one)} {[values.get(n) for n in sorted(needs(section.one))]}"
        if memo in self._memo:
            return self._memo[memo]
        spoken = self.speaker.ask(section.one, values)
        if spoken.means == "missing":
            self._memo[memo] = []
            return []
        record, etag = (
            self.records.record(kind, section, at(done(spoken), section.one.item), values),
            spoken.answer.headers.get("ETag", ""),
        )
        if record is not None and etag and not record.version:
            record = record._replace(version=etag)  # RFC 9110 §8.8.3
        self._memo[memo] = [record] if record is not None else []
        return self._memo[memo]

    def _listed(
        self, kind: Kind[Any], section: ThingSection, call: ListSection, values: dict[str, Any], *, gone: bool = False
    ) -> list[Record[Any]]:
        """What a list shows. `gone`: an answer that means *missing* says that there is none."""
        needed = {n: values.get(n) for n in sorted(needs(call))}
        memo = kind.name, f"{id(call)} {needed}"
        if memo in self._memo:
            return self._memo[memo]
        seen, raw = seen_by(section, call), self._raw(call, values, gone=gone)
        if section.parent is not None:
            found = self.records.tree([(seen, item) for item in raw], values)
        else:
            said = _said(call, values)
            records = (self.records.record(kind, seen, item, said) for item in raw)
            found = [r for r in records if r is not None]
        if call.short and section.one is not None:
            found = [
                whole
                for r in found
                for whole in self._one(kind, section, {**values, **self.of_record(r), **self.values_of(kind, r.id)})
            ]
        self._memo[memo] = found
        return found

    def _raw(self, call: ListSection, values: Values, *, gone: bool) -> list[Any]:
        """The entries of a list, as they were answered."""
        raw = list[Any]()
        for spoken, items in self.speaker.pages(call, values):
            if spoken.means == "missing" and gone:
                break
            done(spoken)
            raw += items
        return raw

    def _whole_tree(self, section: ThingSection) -> list[Record[Any]]:
        """All places of a tree that is told by parents, which may stand in several lists."""
        memo = PLACE.name, "tree"
        if memo not in self._memo:
            lists = [(seen_by(section, listed), self._raw(listed, {}, gone=False)) for listed in every_list(section)]
            self._memo[memo] = self.records.tree([(seen, item) for seen, raw in lists for item in raw], {})
        return self._memo[memo]


def _said(call: ListSection, values: Values) -> Values:
    """What may complete an entry: the place and the role for which a list was asked, where its address says them. Anything else
    that is known of what it was asked for (an account's own area) says nothing about where an entry holds.
    """
    named = needs(call)
    asked = {n for n in ("place", "role") if named & {n, f"{n}_id"} or (call.each == n and "id" in named)}
    return {n: v for n, v in values.items() if n not in ("place", "role") or n in asked}
