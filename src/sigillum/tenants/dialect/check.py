"""What the parts of a dialect say of each other: values that calls cannot know, fields that a kind does not have, tables that
are not there.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any

from sigillum.core.kinds.access import PLACE
from sigillum.core.kinds.identities import ACCOUNT, TEAM
from sigillum.core.kinds.kind import Kind
from sigillum.core.kinds.registry import KINDS
from sigillum.core.values.errors import Mistake, Position
from sigillum.core.values.text import did_you_mean
from sigillum.protocols.headers import fault_of as header_fault

from .call_model import CallSection, ChangeSection, FittingSection, MakeSection, ShownSection
from .fields import BESIDE, every_list, told_from_now
from .model import DialectFile, ThingSection
from .values import FORMS, VALUE, names_in, names_of

Spot = tuple[str | int, ...]
Place = Callable[[Spot], Position]
EVERYWHERE = frozenset({"admin"})
QUOTES = ("quoted", "doubled")  # forms in which a value stays one inside a search
IDENTITY = frozenset({"place", "place_id", "principal", "account", "permission"})


def check(dialect: DialectFile, place: Place) -> list[Mistake]:
    """Every mistake that the form alone does not show."""
    checker = _Checker(dialect, place)
    return [*checker.things(), *checker.rights(), *checker.ways(), *checker.store()]


def fixed_after_creation(dialect: DialectFile) -> list[str]:
    """What is sent when an identity is made and no `change:` covers: where its charter asks for another value, that fails."""
    out = list[str]()
    for name, section in dialect.things.items():
        kind = KINDS[name]
        if section.make and kind in (ACCOUNT, TEAM):
            changed = {*kind.key, *kind.assigned, *section.lists, *(f for call in section.change for f in call.fields)}
            sent = {n for make in section.make for n, _ in names_in(make.body) | names_in(make.form)}
            out += [f"{kind.name}: {field}" for field in kind.fields if field in sent - changed]
    return out


def _spot_of(number: int) -> Spot:
    """Where a list of a kind stands: the first is `all`."""
    return ("all",) if number < 0 else ("also", number)


SECRETS = frozenset(("secret", "token", "assertion", "password"))  # among the values of a call: what proves who one is


class _Checker:
    def __init__(self, dialect: DialectFile, place: Place) -> None:
        self.dialect, self.place = dialect, place

    def _mistake(self, code: str, what: str, mend: str, *spot: str | int) -> Mistake:
        return Mistake(code, what, mend, self.place(spot))

    # --- things -------------------------------------------------------------------------------------------------------
    def things(self) -> Iterator[Mistake]:
        for name, section in self.dialect.things.items():
            kind, spot = KINDS[name], ("things", name)
            yield from self._shown(kind, section, spot)
            yield from self._omits(section, spot)
            fields = {*kind.fields, *section.shows, *kind.write_only, *kind.shown_as, *BESIDE, "id"}
            known = fields | set(kind.finders) | EVERYWHERE
            known |= {"place", "place_id"} if name == "account" and "area" in section.shows else set()
            known |= {"account_id"} if "principal" in kind.fields else set()
            made = known | {"account", "place_id", "place_type", "role_id"}
            made |= {f"role.{n}" for r in self.dialect.roles for n in r.values}
            about = self._about(kind, section)
            yield from self._calls(section, known | self._each(section), about, made, spot)
            yield from self._change(kind, section, about, spot)
            if section.all is None and section.one is None and section.document is None and not section.find:
                yield self._mistake("not-found", f"nothing says how a {name} is found", "add `all:` or `one:`", *spot)
            yield from self._grain(section, spot)
            yield from self._own(name, section, spot)
            if name != "grant" and section.by:
                yield self._mistake("by", f"`by` tells the role of a grant, and this is a {name}", "leave it out", *spot, "by")

    def _about(self, kind: Kind[Any], section: ThingSection) -> set[str]:
        """What a call about one thing knows: what its id is made of, and what is shown of it."""
        shown = {*section.shows, *(section.id if isinstance(section.id, list) else ())}
        out = {*shown, *BESIDE, *EVERYWHERE, "id"}
        out |= {"principal", "carrier", kind.name} if kind in (ACCOUNT, TEAM) else set()
        out |= {"account_id", "account"} if "principal" in shown else set()
        out |= {"place_type"} if {"place", "place_id"} & out and kind is not PLACE else set()
        return out | ({"place", "place_id"} if kind is PLACE or (kind is ACCOUNT and "area" in shown) else set())

    def _own(self, name: str, section: ThingSection, spot: Spot) -> Iterator[Mistake]:
        """What an identity makes itself is a credential, and it signs in with a password for that; roles limit those alone."""
        for number, make in enumerate(section.make):
            here = (*spot, "make", number) if len(section.make) > 1 else (*spot, "make")
            if make.by == "identity" and (name != "credential" or "password" not in self.dialect.ways_in.identity):
                what = "an identity makes a credential itself, signed in with its password"
                yield self._mistake("by-identity", what, "describe `password:` under `ways_in: identity:`", *here, "by")
            if make.limit is not None and self.dialect.says.limits != "roles":
                what = "nothing is limited to roles there"
                yield self._mistake("limit", what, "write `limits: roles` under `says`, or leave it out", *here, "limit")

    def _grain(self, section: ThingSection, spot: Spot) -> Iterator[Mistake]:
        if told_from_now(section) and "until" in section.shows and self.dialect.says.credential_grain < 60:
            yield self._mistake(
                "grain",
                "a life from now on ends on no whole second, never just as it was wanted",
                "write `credential_grain: 1m` under `says`, or leave `until` out of `shows`",
                *spot,
                "make",
            )

    def _each(self, section: ThingSection) -> set[str]:
        """What calls know beside the thing itself: the values of that for which they are made."""
        others = {call.each for call in every_list(section)} | {section.document.of if section.document is not None else None}
        out = set[str]()
        for other in others - {None}:
            out |= {
                *KINDS[str(other)].fields,
                "id",
                "principal",
                "account",
                "account_id",
                "team",
                "carrier",
                "place",
                "place_id",
            }
        return out

    def _omits(self, section: ThingSection, spot: Spot) -> Iterator[Mistake]:
        for number, field in enumerate(section.omits):
            if field not in section.shows:
                yield self._mistake(
                    "omits",
                    f"{field!r} is not shown, so it cannot be left out where it is empty",
                    did_you_mean(field, section.shows) or "add it to `shows`, or take it out here",
                    *spot,
                    "omits",
                    number,
                )

    def _shown(self, kind: Kind[Any], section: ThingSection, spot: Spot) -> Iterator[Mistake]:
        lists = every_list(section)
        several = [
            (section.shows, spot),
            *((c.shows, (*spot, *_spot_of(n))) for n, c in enumerate(lists, len(section.also) - len(lists))),
        ]
        for field, where, here in ((f, w, (*s, "shows", f)) for shows, s in several for f, w in shows.items()):
            if field not in kind.fields and field not in BESIDE:
                known = [*kind.fields, *BESIDE]
                yield self._mistake(
                    "field-unknown",
                    f"a {kind.name} has no field {field!r}",
                    did_you_mean(field, known) or f"known: {', '.join(known)}",
                    *here,
                )
            yield from self._form(where, here)
        if isinstance(section.id, ShownSection):
            yield from self._form(section.id, (*spot, "id"))
            return
        for number, field in enumerate(section.id):
            if field not in section.shows and (field == "id" or field not in self._each(section)):
                yield self._mistake(
                    "id-field", f"the id is made of {field}, and that is not shown", "add it to `shows`", *spot, "id", number
                )

    def _form(self, where: ShownSection, spot: Spot) -> Iterator[Mistake]:
        if where.as_ is not None:
            yield from self._known_form(where.as_, (*spot, "as"))

    def _known_form(self, form: str, spot: Spot) -> Iterator[Mistake]:
        if form not in FORMS and form not in self.dialect.words:
            known = [*FORMS, *self.dialect.words]
            yield self._mistake(
                "form-unknown",
                f"there is no form or table {form!r}",
                did_you_mean(form, known) or f"known: {', '.join(known)}",
                *spot,
            )

    # --- calls --------------------------------------------------------------------------------------------------------
    def _calls(self, section: ThingSection, known: set[str], about: set[str], made: set[str], spot: Spot) -> Iterator[Mistake]:
        calls: list[tuple[CallSection | None, set[str], Spot]] = [
            (section.all, known, ("all",)),
            (section.one, about, ("one",)),
            *((call, {*made, "limits"}, ("make", n)) for n, call in enumerate(section.make)),
            *((call, about, ("end", n)) for n, call in enumerate(section.end)),
            (section.secret, about, ("secret",)),
        ]
        calls += [(call, {*known, "value"}, ("find", n)) for n, call in section.find.items()]
        calls += [(listed, known, ("also", n)) for n, listed in enumerate(section.also)]
        for field, lists in section.lists.items():
            if field not in section.shows and lists.all is None:
                yield self._mistake(
                    "list-unseen",
                    f"{field} come in and go out, and are not shown: whether one is in is never known",
                    f"add `{field}:` to `shows`, or `all:` here",
                    *spot,
                    "lists",
                    field,
                )
            calls += [
                (
                    getattr(lists, n),
                    {*about, "value", "member", *(("document", "entries") if n == "write" else ())},
                    ("lists", field, n),
                )
                for n in ("all", "add", "take", "read", "write")
            ]
            yield from self._names(names_in(lists.entry), {*about, "value", "member"}, (*spot, "lists", field, "entry"))
        for name, finding in section.find.items():
            for parameter, text in finding.query.items():
                if VALUE.fullmatch(str(text)) is None and any(n == "value" and f not in QUOTES for n, f in names_in(text)):
                    yield self._mistake(
                        "quoting",
                        "a value would be read as part of a search",
                        "write {value|quoted} or {value|doubled}, as its search language has it, or leave `find` out",
                        *spot,
                        "find",
                        name,
                        "query",
                        parameter,
                    )
        document = section.document
        if document is not None:
            calls += [
                (document.read, known, ("document", "read")),
                (document.write, {*known, "document"}, ("document", "write")),
            ]
            yield from self._names(names_in(document.entry), made, (*spot, "document", "entry"))
        for call, names, where in calls:
            if call is not None:
                yield from self._call(call, names, (*spot, *where))

    def _call(self, call: CallSection, known: Iterable[str], spot: Spot) -> Iterator[Mistake]:
        names = {*known, "mark"}
        if isinstance(call, FittingSection) and not isinstance(call, ChangeSection):
            for name in call.when:
                yield from self._names({(name, "")}, names, (*spot, "when", name))
        if isinstance(call, MakeSection) and call.limit is not None:
            yield from self._names(names_in(call.limit), {*names, "role", "role_id"}, (*spot, "limit"))
        if isinstance(call, MakeSection) and call.later is not None:
            names.add("operation")
        yield from self._names(names_of(call.address), names, (*spot, call.method))
        for part in ("query", "headers", "body", "form"):
            yield from self._names(names_in(getattr(call, part)), names, (*spot, part))
        for name, template in call.headers.items():
            yield from self._header(name, VALUE.sub("", str(template)), (*spot, "headers"))
        for told, _ in names_of(call.address) | names_in(call.query):
            if told in SECRETS:
                yield self._mistake(
                    "secret-in-address",
                    f"{{{told}}} would stand in an address, which servers and proxies write down",
                    "send it in `headers:`, `form:` or `body:`",
                    *spot,
                )
        if call.settled is not None:
            settled = CallSection.model_validate({"get": call.settled.get})
            yield from self._call(settled, names, (*spot, "settled"))

    def _header(self, name: str, literal: str, spot: Spot) -> Iterator[Mistake]:
        if fault := header_fault(name, literal):
            yield self._mistake("header", *fault, *spot)

    def _names(self, found: set[tuple[str, str]], known: set[str], spot: Spot) -> Iterator[Mistake]:
        for name, form in sorted(found):
            if name not in known and name.partition(".")[0] != "role":
                yield self._mistake(
                    "value-unknown",
                    f"nothing here is called {{{name}}}",
                    did_you_mean(name, sorted(known)) or f"known: {', '.join(sorted(known))}",
                    *spot,
                )
            if form:
                yield from self._known_form(form, spot)

    def _change(self, kind: Kind[Any], section: ThingSection, known: set[str], spot: Spot) -> Iterator[Mistake]:
        for number, call in enumerate(section.change):
            here = (*spot, "change", number)
            for field in (*call.fields, *call.when):
                if field not in kind.fields:
                    yield self._mistake(
                        "field-unknown",
                        f"a {kind.name} has no field {field!r}",
                        did_you_mean(field, kind.fields) or f"known: {', '.join(kind.fields)}",
                        *here,
                    )
            if call.whole and section.one is None:
                yield self._mistake("whole", "a whole is sent, and nothing says how one is read", "add `one:`", *here, "whole")
            yield from self._call(call, {*known, *call.fields, *call.when}, here)

    # --- rights and ways in -------------------------------------------------------------------------------------------
    def rights(self) -> Iterator[Mistake]:
        known = list(self.dialect.permissions)
        for number, role in enumerate(self.dialect.roles):
            for permission in role.permissions:
                if permission not in known:
                    yield self._mistake(
                        "permission-unknown",
                        f"{permission} has no class here",
                        did_you_mean(permission, known) or f"add it under `permissions`, like `{permission}: {{class: looks}}`",
                        "roles",
                        number,
                    )
        for name, section in self.dialect.permissions.items():
            if section.try_ is not None:
                yield from self._call(section.try_, IDENTITY | EVERYWHERE, ("permissions", name, "try"))
            for part in ("before", "after"):
                for number, call in enumerate(getattr(section, part)):
                    yield from self._call(call, IDENTITY | EVERYWHERE, ("permissions", name, part, number))
        if self.dialect.decides is not None:
            yield from self._call(self.dialect.decides, IDENTITY | EVERYWHERE, ("decides",))
        if self.dialect.who is not None:  # what is presented stands in its headers already, and may be asked about
            yield from self._call(self.dialect.who, {"token"}, ("who",))

    def ways(self) -> Iterator[Mistake]:
        ways = self.dialect.ways_in
        for spot, way in [
            (("ways_in", "administrator"), ways.administrator),
            *((("ways_in", "identity", k, n), w) for k, several in ways.identity.items() for n, w in enumerate(several)),
        ]:
            names = {"admin", "account", "principal", "secret", "token", "credential"}
            if way.signs is not None:
                names |= {"assertion"}
                signed = names_in(dict(way.signs.claims)) | names_in(dict(way.signs.header))
                yield from self._names(signed, {*names, "thumbprint"}, (*spot, "signs"))
            elif "key-pair" in spot:
                yield self._mistake("signs", "a key signs, and nothing says what", "add `signs:` with its claims", *spot)
            yield from self._names(names_in(way.basic) | names_in(way.value), names, spot)
            if way.first is not None:
                yield from self._call(
                    way.first, {*names, "doing", *(() if "administrator" in spot else ("place", "place_id"))}, (*spot, "first")
                )

    def store(self) -> Iterator[Mistake]:
        store = self.dialect.store
        if store is None:
            return
        names = {"container", "name", "path"}
        for part, more in (
            ("read", set[str]()),
            ("write", {"content"}),
            ("end", set[str]()),
            ("versions", set[str]()),
            ("end_version", {"version"}),
        ):
            call = getattr(store, part)
            if call is not None:
                yield from self._call(call, names | more, ("store", part))
