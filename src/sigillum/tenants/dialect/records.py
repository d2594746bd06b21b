"""What the answers of a tenant show, as records of our kinds: fields, what follows from them, and trees told by parents."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime
from typing import Any, Protocol

from sigillum.core.kinds.access import GRANT, PLACE, ROLE
from sigillum.core.kinds.kind import Fact, Kind, Query, Record
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.canonical import public_half, thumbprint
from sigillum.core.values.text import plain

from .call_model import ListSection
from .calls import Speaker, Spoken, fits
from .fields import BESIDE, HiddenError, carried, joined, told_from_now, usual_form
from .model import DialectFile, ThingSection
from .values import DER_PRINT, NOTHING, MisfitError, Values, at, der_print, shown, text_of

WORST = "administers"  # the class of a permission of which the dialect says nothing


class Known(Protocol):
    """Who looks up what an answer only names."""

    dialect: DialectFile
    speaker: Speaker

    def fact(self, query: Query[Any]) -> Fact[Any]: ...

    def values_of(self, kind: Kind[Any], identity: str) -> dict[str, Any]: ...


class Records:
    """Answers as records."""

    def __init__(self, known: Known) -> None:
        self.known, self.dialect = known, known.dialect

    def role(
        self, name: str, display: str, permissions: Iterable[str], at_: tuple[str, ...], identity: str = ""
    ) -> Record[Any]:
        return Record(
            ROLE, identity or name, ROLE.type(name, display or name, permissions=self._classed(permissions), grantable_at=at_)
        )

    def _classed(self, permissions: Iterable[str]) -> tuple[tuple[str, str], ...]:
        known = self.dialect.permissions
        return tuple((p, known[p].class_ if p in known else WORST) for p in permissions)

    def marked(self, place: Any) -> Any:
        trial = any(place.path == t or place.path.startswith(f"{t}/") for t in self.dialect.trial_places)
        return place._replace(test=place.test or trial)

    def record(self, kind: Kind[Any], section: ThingSection, raw: Any, values: Values) -> Record[Any] | None:
        """One thing as an answer shows it; None: it is shown, and counts as gone. Raises MisfitError with the field."""
        if section.gone is not None and fits(section.gone, 200, raw):
            return None
        fields, beside, missing = dict[str, Any](), dict[str, str](), set[str]()
        for name, where in section.shows.items():
            try:
                value = shown(where, raw, values, self.dialect.words, usual_form(kind.name, name))
            except MisfitError as problem:
                raise MisfitError(
                    f"{name} at {'its template' if where.is_ else ' or '.join(where.spots)}: {problem}"
                ) from problem
            if name in BESIDE:
                beside[name] = "" if value in (None, NOTHING) else str(value)
            elif value is NOTHING and name in kind.fields:
                missing.add(name)
            elif value not in (None, NOTHING):
                fields[name] = value
        self._completed(kind, section, raw, values, fields)
        identity = (
            joined(beside.get(n) or fields.get(n) or values.get(n, "") for n in section.id)
            if isinstance(section.id, list)
            else text_of(section.id, raw, values, self.dialect.words)
        )
        if not identity:
            raise MisfitError("its id is not there")
        missing |= self._listed_apart(kind, section, identity, fields)
        body = kind.type(**fields)
        return Record(
            kind,
            identity,
            self.marked(body) if kind is PLACE else body,
            beside.get("version", ""),
            beside.get("mark", ""),
            beside.get("progress", ""),
            carried(section, kind, section.shows) | fields.keys(),
            beside.get("modified", ""),
            missing=frozenset(missing - fields.keys() - set(section.omits)),
        )

    def _listed_apart(self, kind: Kind[Any], section: ThingSection, identity: str, fields: dict[str, Any]) -> set[str]:
        """The lists of a thing that have a call of their own go into its fields; those that are not shown are given back."""
        unseen = set[str]()
        for field, lists in section.lists.items():
            if lists.all is None:
                continue
            found, values = list[str](), {**self.known.values_of(kind, identity), "id": identity}
            try:
                for spoken, items in self.known.speaker.pages(lists.all, values):
                    done(spoken)
                    found += [str(at(item, lists.each)) for item in items]
            except HiddenError:
                unseen.add(field)
            else:
                fields[field] = tuple(found)
        return unseen

    def _completed(self, kind: Kind[Any], section: ThingSection, raw: Any, values: Values, fields: dict[str, Any]) -> None:
        """What follows from what is shown: roles by their values or ids, places by their ids, classes of permissions."""
        if kind is ROLE and "permissions" in fields:
            fields["permissions"] = self._classed(fields["permissions"])
        if kind is CREDENTIAL and fields.get("until") is not None and told_from_now(section):
            grain = self.dialect.says.credential_grain
            fields["until"] = datetime.fromtimestamp(round(fields["until"].timestamp() / grain) * grain, UTC)
        if kind is CREDENTIAL and str(fields.get("thumbprint", "")).startswith(DER_PRINT):
            fields["thumbprint"] = self._thumbprint(fields["thumbprint"])
        if kind is CREDENTIAL and isinstance(fields.get("public_key"), dict):
            key = {n: str(v) for n, v in public_half(fields["public_key"]).items()}
            fields["public_key"] = tuple(sorted(key.items()))
            try:
                fields.setdefault("thumbprint", thumbprint(key))
            except ValueError as problem:
                raise MisfitError(f"public_key: it is {problem}") from problem
        if kind is CREDENTIAL and self.dialect.says.limits == "roles" and fields.get("limits"):
            fields["limits"] = self._permitted(fields["limits"], str(fields.get("place_id", "")))
        if kind is CREDENTIAL and fields.get("place_id") and not fields.get("place"):
            fields["place"] = self._named(PLACE, "path", fields["place_id"])
        if kind is not GRANT:
            return
        if section.by:
            told = {n: at(raw, p) for n, p in section.by.items()}
            fields["role"] = next(
                (r.name for r in self.dialect.roles if dict(r.values) == told),
                " ".join(f"{n}={v}" for n, v in sorted(told.items())),
            )
        for name, other, field in (("role", ROLE, "name"), ("place", PLACE, "path")):
            if not fields.get(name) and fields.get(f"{name}_id"):
                fields[name] = self._named(other, field, fields[f"{name}_id"])
            elif not fields.get(name) and name in values:
                fields[name] = values[name]
            if not fields.get(name) and (name == "place" or carried(section, kind) & {name, f"{name}_id"}):
                raise MisfitError(f"an entry does not say its {name}, nor does the address at which it was asked: {plain(raw)}")

    def tree(self, found: list[tuple[ThingSection, Any]], values: Values) -> list[Record[Any]]:
        """Places of a tree that is told by parents: their paths are put together from their names. Raises MisfitError."""
        by_id = dict[str, tuple[Record[Any], str]]()
        for section, item in found:
            record = self.record(PLACE, section, item, values)
            if record is not None:
                by_id[record.id] = (record, str(at(item, str(section.parent)) or ""))

        def path(identity: str, below: frozenset[str]) -> str:
            record, above = by_id[identity]
            if above in below:
                raise MisfitError("its tree has a ring")
            return f"{path(above, below | {identity})}/{record.body.path}" if above in by_id else str(record.body.path)

        return [r._replace(body=self.marked(r.body._replace(path=path(i, frozenset())))) for i, (r, _) in by_id.items()]

    def _thumbprint(self, shown_: str) -> str:
        """Of a print of another form, the thumbprint of the key that is known here; as it is where no such key is."""
        speaker = self.known.speaker
        for keys in (speaker.sent_keys.copy, speaker.keys):  # the kept ones are read from files
            for key in keys():
                if f"{DER_PRINT}{der_print(key).hex()}" == shown_:
                    return thumbprint(key)
        return shown_

    def _named(self, kind: Kind[Any], field: str, identity: Any) -> str:
        """What is called by an id, by its name; by that id where nothing shows it."""
        found = self.known.fact(Query(kind, "id", str(identity))).first
        return str(found.value(field) if found is not None else identity)

    def permits(self, role: Record[Any], place: Record[Any] | None) -> set[str]:
        """What a role allows at a place: permissions that mean something at one of its kind."""
        said, kind = self.dialect.permissions, place.value("type") if place is not None else ""
        return {p for p, _ in role.body.permissions if p not in said or not said[p].at or kind in said[p].at}

    def _permitted(self, roles: Iterable[str], place_id: str) -> tuple[str, ...]:
        """What these roles allow together at a place. Raises MisfitError where one of them is not known."""
        out, place = set[str](), self.known.fact(Query(PLACE, "id", place_id)).first
        for name in roles:
            role = self.known.fact(Query(ROLE, "name", name)).first
            if role is None:
                raise MisfitError(f"what the role {plain(name)} allows is not known")
            out |= self.permits(role, place)
        return tuple(sorted(out))


def seen_by(section: ThingSection, call: ListSection) -> ThingSection:
    """A section as the entries of a list show it."""
    return section.model_copy(update={"shows": {**section.shows, **call.shows}}) if call.shows else section


def done(spoken: Spoken) -> Any:
    """The body of an answer that is a success. Raises HiddenError; a 401 is an error of its own."""
    if spoken.means == "done":
        return spoken.body
    if spoken.answer.status == 401:
        raise spoken.error("looking")
    raise HiddenError(f"status {spoken.answer.status}: {spoken.said}")
