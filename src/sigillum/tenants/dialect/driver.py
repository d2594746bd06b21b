"""The driver `dialect`: the port of a tenant, spoken as a dialect file says."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from sigillum.core.kinds.access import GRANT, ROLE
from sigillum.core.kinds.changes import Change, End, Entry
from sigillum.core.kinds.kind import Fact, Kind, Query, Record
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.errors import RefusedError
from sigillum.core.values.secret import Secret
from sigillum.protocols.http import Http
from sigillum.tenants.port import Address, Link, Reply, Result, Tenant

from . import lists
from .call_model import ChangeSection
from .fields import HiddenError
from .files import read
from .makes import Makes
from .model import DialectFile, ThingSection
from .profile import profile_of
from .store import DialectStore
from .values import NOTHING, at, filled, needs


def connect(address: Address, link: Link) -> Tenant:
    """Read the dialect. Raises FileError with every mistake in it."""
    dialect = read(link.folder, address.dialect or f"dialects/{address.name}.yaml")
    ca = str(link.folder / address.ca) if address.ca else None
    http = Http(origins=address.trusted, timeout_seconds=link.timeout_seconds, ca_file=ca, log=link.log)
    return DialectTenant(address, link, dialect, http)


class DialectTenant(Makes):
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
        return self._safely(
            lambda: lists.enter(self.things, entry) or self._not_described(f"{entry.field} of a {entry.kind.name} are changed")
        )

    def end(self, end: End) -> Reply:
        return self._safely(lambda: self._end(end))

    def _end(self, end: End) -> Reply:
        section, identity = self.things.section(end.kind), str(end.id)
        if section is None or (section.end is None and section.document is None):
            return self._not_described(f"a {end.kind.name} is ended")
        doing = f"ending the {end.kind.name}"
        if section.document is not None:
            values = {**self.things.above(section.document.of, self.things.values_of(end.kind, identity)), "id": identity}
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
                values |= {
                    **self.things.of_record(standing),
                    **self._role(back),
                    "role": back,
                    "role_id": role.id if role is not None else back,
                }
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


def _merged(whole: Any, part: Any) -> None:
    """What a change says, in the whole; mappings inside are changed, everything else is replaced."""
    if not isinstance(whole, dict) or not isinstance(part, dict):
        return
    for name, value in part.items():
        if isinstance(value, dict) and isinstance(whole.get(name), dict):
            _merged(whole[name], value)
        else:
            whole[name] = value
