"""The driver `dialect`: the port of a tenant, spoken as a dialect file says."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any
from urllib.parse import urljoin

from sigillum.core.kinds.access import GRANT, PLACE, ROLE
from sigillum.core.kinds.changes import Change, End, Entry, Make
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Fact, Kind, Query, Record
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.errors import RefusedError, UnreachableError
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import plain
from sigillum.protocols.http import Http, HttpError
from sigillum.tenants.port import Address, Link, Reply, Result, Tenant

from .call_model import CallSection, ChangeSection, LaterSection
from .calls import fits
from .files import read
from .identity import Identity
from .model import DialectFile, ShownSection, ThingSection
from .profile import profile_of
from .store import DialectStore
from .things import HiddenError, joined
from .values import NOTHING, ValueRefusedError, at, filled, needs

POLL_SECONDS = 1.0


def connect(address: Address, link: Link) -> Tenant:
    """Read the dialect. Raises FileError with every mistake in it."""
    dialect = read(link.folder, address.dialect or f"dialects/{address.name}.yaml")
    ca = str(link.folder / address.ca) if address.ca else None
    http = Http(origins=address.trusted, timeout_seconds=link.timeout_seconds, ca_file=ca, log=link.log)
    return DialectTenant(address, link, dialect, http)


class DialectTenant(Identity):
    """Everything that the port asks for, by the calls of a dialect."""

    known_seconds = 0.0

    def __init__(self, address: Address, link: Link, dialect: DialectFile, http: Http) -> None:
        super().__init__(address, link, dialect, http)
        self.profile = profile_of(dialect, address)
        self._secrets = dict[str, Secret]()  # what a making answered, until it is fetched

    def say(self, text: str) -> None:
        if self._link.say is not None:
            self._link.say(text)

    # --- facts --------------------------------------------------------------------------------------------------------
    def facts(self, queries: Iterable[Query[Any]]) -> dict[Query[Any], Fact[Any]]:
        self.things.anew()
        return {q: self.things.fact(q) for q in queries}

    def read(self, kind: Kind[Any], identity: str) -> Record[Any] | None:
        self.things.anew()
        fact = self.things.fact(Query(kind, "id", identity))
        if not fact.known and not fact.never:
            raise RefusedError(
                f"reading the {kind.name} back: {fact.unknown}",
                where=self.address.name,
                mend="compare the dialect with the tenant's reference",
            )
        return fact.first

    # --- changes: one request each --------------------------------------------------------------------------------------
    def _not_described(self, what: str) -> Reply:
        error = RefusedError(
            f"the dialect {self.dialect.dialect} does not say how {what}",
            where=self.address.name,
            mend="describe it there, or have it done by hand",
        )
        return Reply(Result.REFUSED, detail=error.what, error=error)

    def _safely(self, send: Callable[[], Reply]) -> Reply:
        """What keeps a request from being sent is no answer of the tenant's."""
        self.things.anew()
        try:
            return send()
        except (HiddenError, ValueRefusedError) as problem:
            error = (
                problem
                if isinstance(problem, ValueRefusedError)
                else RefusedError(str(problem), where=self.address.name, mend="compare the dialect with the tenant's reference")
            )
            return Reply(Result.REFUSED, detail=str(problem), error=error)
        except UnreachableError as problem:  # while looking
            return Reply(Result.UNSENT, detail=problem.what, error=problem)
        except RefusedError as problem:
            return Reply(Result.REFUSED, detail=problem.what, error=problem)

    def make(self, make: Make, mark: str) -> Reply:
        return self._safely(lambda: self._make(make, mark))

    def _make(self, make: Make, mark: str) -> Reply:
        kind, section = make.kind, self.things.section(make.kind)
        if section is None or (section.make is None and section.document is None):
            return self._not_described(f"a {kind.name} is made")
        values = self._values(make, mark)
        body = kind.made(make.part)
        parts = section.id if isinstance(section.id, list) else ["id"]
        identity = "" if "id" in parts else joined(values.get(n, "") for n in parts)  # else the answer tells it, or a part
        record = Record(kind, identity, body, mark=mark)
        doing = f"making the {kind.name}"
        if section.document is not None:
            return self.things.documents.make(kind, section, values, record, doing)
        call = section.make
        assert call is not None
        if section.level:
            standing = self._level(values)
            if standing is not None and standing.body.role == values["role"]:
                return Reply(Result.EXISTS, detail="it is there already")
            if standing is not None and standing.body.role != make.part.get("over"):
                return _other_level(standing.body.role, str(values["role"]))
        elif call.look_first and self._there(kind, section, values, identity):
            return Reply(Result.EXISTS, detail="it is there already")
        reply, spoken = self.speaker.change(call, values, doing)
        if reply.result is not Result.DONE or spoken is None:
            return reply
        if call.later is not None:
            operation = at(spoken.body, call.later.operation)
            if operation not in (None, ""):
                finished = self._finished(call.later, {**values, "operation": operation})
                if isinstance(finished, Reply):
                    return finished
                spoken = spoken._replace(body=finished)
        if not identity:
            where = call.id
            found = at(spoken.body, where) if where is not None else self._shown_id(kind, section, spoken.body, values)
            identity = plain(str(found)) if found not in (None, "") and not isinstance(found, (dict, list)) else ""
            if identity:
                identity = joined(identity if n == "id" else values.get(n, "") for n in parts)
        if not identity:
            return Reply(
                Result.LOST,
                detail="the answer names no id",
                error=UnreachableError(
                    "the answer names no id of what was made",
                    where=self.address.name,
                    mend="name `id:` at `make` in the dialect",
                ),
            )
        if call.secret is not None and isinstance(given := at(spoken.body, call.secret), str) and given:
            self._secrets[identity] = Secret(given)
        return Reply(Result.DONE, record._replace(id=identity))

    def _shown_id(self, kind: Kind[Any], section: ThingSection, body: Any, values: Mapping[str, Any]) -> Any:
        from .values import shown

        where: ShownSection = section.shows["id"] if isinstance(section.id, list) else section.id
        return shown(where, body, values, self.dialect.words, "text") if body is not None else None

    def _values(self, make: Make, mark: str) -> dict[str, Any]:
        """What the calls that make something can name."""
        values: dict[str, Any] = {**make.part, "mark": mark, "account": make.about.get("account", make.part.get("name", ""))}
        if make.kind is GRANT:
            values |= self._role(str(make.part.get("role", "")))
        return values

    def _role(self, name: str) -> dict[str, Any]:
        """The values by which a role is told that has no name there."""
        role = next((r for r in self.dialect.roles if r.name == name), None)
        return {f"role.{n}": v for n, v in role.values.items()} if role is not None else {}

    def _level(self, values: Mapping[str, Any]) -> Record[Any] | None:
        """The one role that a principal has at a place. Raises HiddenError."""
        fact = self.things.fact(Query(GRANT, "principal", str(values["principal"])))
        if not fact.known:
            raise HiddenError(f"what it has there cannot be seen: {fact.unknown}")
        return next((r for r in fact.records if r.body.place == values["place"]), None)

    def _there(self, kind: Kind[Any], section: ThingSection, values: Mapping[str, Any], identity: str) -> bool:
        field = "id" if identity else kind.key[-1]
        fact = self.things.fact(Query(kind, field, identity or str(values.get(field, ""))))
        if not fact.known:
            raise HiddenError(f"whether it is there already cannot be seen: {fact.unknown}")
        return bool(fact.records)

    def _finished(self, later: LaterSection, values: Mapping[str, Any]) -> Any:
        """The answer of an operation once it is done; a reply where it is not, or failed."""
        answered = later.get == "{operation}"  # an address, which has to lie where everything lies
        call, waited = CallSection.model_validate({"get": "/" if answered else later.get}), 0.0
        url = urljoin(f"{self.speaker.base}/", str(values["operation"])) if answered else ""
        while True:
            try:
                spoken = self.speaker.ask(call, values, url=url)
            except HttpError as problem:
                return Reply(Result.LOST, detail=problem.what, error=problem)
            if fits(later.done, spoken.answer.status, spoken.body):
                return spoken.body
            if later.failed is not None and fits(later.failed, spoken.answer.status, spoken.body):
                return Reply(Result.REFUSED, detail=spoken.said, error=spoken.error("making it"))
            if waited >= self._link.timeout_seconds or self._link.pause is None:
                return Reply(
                    Result.LOST,
                    detail="the tenant accepted it, and has not finished it yet",
                    error=UnreachableError(
                        "the tenant accepted it, and has not finished it yet",
                        where=self.address.name,
                        mend="run the same command again in a while; it is looked for first",
                    ),
                )
            self._link.pause(POLL_SECONDS, "until the tenant has finished it")
            waited += POLL_SECONDS

    def change(self, change: Change) -> Reply:
        return self._safely(lambda: self._change(change))

    def _change(self, change: Change) -> Reply:
        section = self.things.section(change.kind)
        call = (
            next(
                (
                    c
                    for c in section.change
                    if set(change.part) <= set(c.fields) and all(change.part.get(n) == v for n, v in c.when.items())
                ),
                None,
            )
            if section is not None
            else None
        )
        if section is None or call is None:
            return self._not_described(f"{', '.join(change.part)} of a {change.kind.name} is changed")
        values = {**self.things.known(change.kind, str(change.id), needs(call) - set(change.part)), **change.part}
        headers = {"If-Match": change.version} if call.if_match and change.version else {}
        body = self._whole(section, call, values) if call.whole else NOTHING
        if isinstance(body, Reply):
            return body
        reply, _ = self.speaker.change(call, values, f"changing the {change.kind.name}", headers=headers, body=body)
        return reply

    def _whole(self, section: ThingSection, call: ChangeSection, values: Mapping[str, Any]) -> Any:
        """The thing as it is, with what is to be changed, and without what may not be sent."""
        from jsonpointer import JsonPointer

        if section.one is None:
            raise HiddenError("a whole is sent, and the dialect does not say how one is read")
        spoken = self.speaker.ask(section.one, values)
        if spoken.means != "done":
            return spoken.reply("reading it")
        whole, part = spoken.body, filled(call.body, values, self.dialect.words, self.speaker.now)
        _merged(whole, part)
        for pointer in call.without:
            inner, last = JsonPointer(pointer).to_last(whole)
            if isinstance(inner, dict):
                inner.pop(last, None)
        return whole

    def enter(self, entry: Entry) -> Reply:
        return self._safely(lambda: self._enter(entry))

    def _enter(self, entry: Entry) -> Reply:
        section = self.things.section(entry.kind)
        lists = section.lists.get(entry.field) if section is not None else None
        if lists is None:
            return self._not_described(f"{entry.field} of a {entry.kind.name} are changed")
        call = lists.take if entry.out else lists.add
        needed = needs(call)
        values = {**self.things.known(entry.kind, str(entry.id), needed - {"value"}), "value": entry.value, **entry.about}
        if entry.field == "members" and "member" in needed:
            account = self.things.fact(Query(ACCOUNT, "id", str(entry.value))).first
            values["member"] = account.body.name if account is not None else entry.value
        reply, _ = self.speaker.change(call, values, f"changing the {entry.kind.name}")
        return reply

    def end(self, end: End) -> Reply:
        return self._safely(lambda: self._end(end))

    def _end(self, end: End) -> Reply:
        section, identity = self.things.section(end.kind), str(end.id)
        if section is None or (section.end is None and section.document is None):
            return self._not_described(f"a {end.kind.name} is ended")
        doing = f"ending the {end.kind.name}"
        if section.document is not None:
            values = self.things.values_of(end.kind, identity)
            if section.document.of == "place":
                place = self.things.fact(Query(PLACE, "path", str(values.get("place", "")))).first
                values = {**values, **(self.things.of_record(place) if place is not None else {}), "id": identity}
            return self.things.documents.end(end.kind, section, values, identity, doing)
        call = section.end
        assert call is not None
        values, back = self.things.known(end.kind, identity, needs(call)), str(end.about.get("back") or "")
        if section.level:
            standing = self.things.fact(Query(GRANT, "id", identity)).first
            if standing is None:
                return Reply(Result.MISSING, detail="another level stands there by now, or none")
            if back and section.make is not None:
                role = self.things.fact(Query(ROLE, "name", back)).first
                call = section.make
                values |= {**self.things.of_record(standing), **self._role(back), "role": back,
                           "role_id": role.id if role is not None else back}
        reply, _ = self.speaker.change(call, values, doing)
        return reply

    def store(self, path: str) -> DialectStore | None:
        return DialectStore(self.speaker, self.dialect.store, path) if self.dialect.store is not None else None

    def fetch_secret(self, identity: str) -> Reply:
        section, known = self.things.section(CREDENTIAL), self._secrets.pop(identity, None)
        if known is not None:
            return Reply(Result.DONE, secret=known)
        if section is None or section.secret is None:
            return Reply(Result.MISSING, detail="it was shown once, when it was made")
        call = section.secret

        def send() -> Reply:
            reply, spoken = self.speaker.change(
                call, self.things.known(CREDENTIAL, identity, needs(call)), "fetching the secret"
            )
            found = at(spoken.body, section.secret_at) if spoken is not None and reply.result is Result.DONE else None
            return reply._replace(secret=Secret(found)) if isinstance(found, str) and found else reply

        return self._safely(send)


def _other_level(have: str, wanted: str) -> Reply:
    error = RefusedError(f"it has the role {have} there, of which one has one at a place, and {wanted} would take its place",
                         where="the grant", mend="end the other one first, or take it into the charter")
    return Reply(Result.REFUSED, detail=error.what, error=error)


def _merged(whole: Any, part: Any) -> None:
    """What a change says, in the whole; mappings inside are changed, everything else is replaced."""
    if not isinstance(whole, dict) or not isinstance(part, dict):
        return
    for name, value in part.items():
        if isinstance(value, dict) and isinstance(whole.get(name), dict):
            _merged(whole[name], value)
        else:
            whole[name] = value
