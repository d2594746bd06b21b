"""The driver `dialect`: the port of a tenant, spoken as a dialect file says."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING, Any

from sigillum.core.deciding.proofs import Trial
from sigillum.core.kinds.access import GRANT, ROLE
from sigillum.core.kinds.changes import Change, End, Entry, Make
from sigillum.core.kinds.kind import Fact, Kind, Query, Record
from sigillum.core.kinds.profile import Operation
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.errors import RefusedError, UnreachableError
from sigillum.core.values.secret import Secret
from sigillum.core.values.times import ClockReading
from sigillum.protocols.http import Http
from sigillum.tenants.port import Address, Foreseen, Link, Proof, Reply, Result, SignedIn, Tenant, refused

from . import lists
from .call_model import ChangeSection, EndSection, FittingSection
from .calls import Speaker
from .fields import HiddenError, NoIdError
from .identity import DialectSignIns
from .makes import Makes, role_values
from .model import DialectFile, ThingSection
from .profile import profile_of
from .shipped import agreed, described
from .store import DialectStore
from .things import Things
from .values import NOTHING, ValueRefusedError, at, filled, fitting, needed_by, needs

if TYPE_CHECKING:
    from sigillum.core.deciding.values import Question


def connect(address: Address, link: Link) -> Tenant:
    """Read the dialect. Raises FileError with every mistake in it."""
    found = agreed(described(link.folder, address), address)
    if found.beside and link.say is not None:
        link.say(f"{address.name} is spoken to by {found.where}, and not by the description that comes with Sigillum")
    ca = str(link.folder / address.ca) if address.ca else None
    http = Http(origins=address.trusted, timeout_seconds=link.timeout_seconds, ca_file=ca, log=link.log)
    return DialectTenant(address, link, found.dialect, http)


class DialectTenant:
    """Everything that the port asks for, by the calls of a dialect."""

    known_seconds = 0.0
    token_endpoint = ""

    def __init__(self, address: Address, link: Link, dialect: DialectFile, http: Http) -> None:
        self.address, self.dialect, self.http, self._link = address, dialect, http, link
        self.clock: ClockReading | None = None
        self.speaker = Speaker(dialect, http, address.address, link.token, address.admin, self._heard)
        self.speaker.keys = link.keys or list
        self.profile = profile_of(dialect, address)
        self._secrets = dict[str, Secret]()  # what a making answered, until it is fetched
        self._identity = DialectSignIns(self.speaker, address, link)
        self._makes = Makes(self._identity, address, link, self._secrets)

    def _heard(self, reading: ClockReading) -> None:
        self.clock = reading

    def say(self, text: str) -> None:
        if self._link.say is not None:
            self._link.say(text)

    # --- what is described, for who tries it ------------------------------------------------------------------------------
    @property
    def last(self) -> str:
        return self.speaker.last

    def describes(self, kind: Kind[Any], way: str) -> bool:
        section = self.things.section(kind)
        if section is None:
            return False
        if way in ("make", "end"):
            return bool(getattr(section, way) or section.document)
        return way in section.lists or any(way in call.fields for call in section.change)

    def unguarded(self, part: Mapping[str, Any]) -> Callable[[], bool | None] | None:
        things = self.things
        section = things.section(GRANT)
        document = section.document if section is not None else None
        if document is None:
            return None
        values = things.above(document.of, part)
        before = things.documents.read(document, values, "looking")
        return lambda: things.documents.unguarded(document, values, before)

    # --- facts --------------------------------------------------------------------------------------------------------
    @property
    def things(self) -> Things:
        """What can be looked up, as it is now."""
        return Things(self.speaker)

    def facts(self, queries: Iterable[Query[Any]]) -> dict[Query[Any], Fact[Any]]:
        things = self.things
        return {q: things.fact(q) for q in queries}

    def read(self, kind: Kind[Any], identity: str) -> Record[Any] | None:
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
        return refused(
            f"the dialect {self.dialect.dialect} does not say how {what}",
            self.address.name,
            "describe it there, or have it done by hand",
        )

    def _safely(self, send: Callable[[Things], Reply]) -> Reply:
        """What keeps a request from being sent is no answer of the tenant's."""
        try:
            return send(self.things)
        except NoIdError as problem:
            return Reply(Result.MISSING, detail=problem.what)
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
        def send(things: Things) -> Reply:
            making = self._makes.begun(things, make, mark)
            return self._makes.send(making) if making is not None else self._not_described(f"a {make.kind.name} is made")

        return self._safely(send)

    def foresee(self, make: Make, mark: str) -> Foreseen | None:
        with suppress(RefusedError, UnreachableError, HiddenError, NoIdError):  # its making will say it
            found = self._makes.foresee(self.things, make, mark)
            if found is not None:
                digest, making, read = found
                return Foreseen(digest, lambda: self._safely(lambda _: self._makes.send(making, read)))
        return None

    def looks(self, kind: Kind[Any], identity: str) -> str:
        things = self.things
        section = things.section(kind)
        if section is None or section.document is None:
            return ""
        with suppress(RefusedError, UnreachableError, HiddenError, NoIdError):
            values = things.above(section.document.of, things.values_of(kind, identity))
            return things.documents.looks(kind, section.document, values)
        return ""

    def change(self, change: Change) -> Reply:
        return self._safely(lambda things: self._change(things, change))

    def _change(self, things: Things, change: Change) -> Reply:
        section = things.section(change.kind)
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
        values = {**things.known(change.kind, str(change.id), needs(call) - set(change.part)), **change.part}
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
        whole, part = spoken.handed, filled(call.body, values, self.dialect.words, self.speaker.now)
        _merged(whole, part)
        for pointer in call.without:
            inner, last = JsonPointer(pointer).to_last(whole)
            if isinstance(inner, dict):
                inner.pop(last, None)
        return whole

    def enter(self, entry: Entry) -> Reply:
        unknown = f"{entry.field} of a {entry.kind.name} are changed"
        return self._safely(lambda things: lists.enter(things, entry) or self._not_described(unknown))

    def end(self, end: End) -> Reply:
        return self._safely(lambda things: self._end(things, end))

    def _end(self, things: Things, end: End) -> Reply:
        section, identity = things.section(end.kind), str(end.id)
        if section is None or not (section.end or section.document):
            return self._not_described(f"a {end.kind.name} is ended")
        doing = f"ending the {end.kind.name}"
        if section.document is not None:
            values = {**things.above(section.document.of, things.values_of(end.kind, identity)), "id": identity}
            return things.documents.end(end.kind, section, values, identity, doing)
        values, back = things.known(end.kind, identity, needed_by(section.end)), str(end.about.get("back") or "")
        call: FittingSection | None = fitting(section.end, values)
        if section.level:
            standing = things.fact(Query(GRANT, "id", identity)).first
            if standing is None:
                return Reply(Result.MISSING, detail="another level stands there by now, or none")
            if back and section.make:
                role = things.fact(Query(ROLE, "name", back)).first
                values |= {
                    **things.of_record(standing),
                    **role_values(self.dialect, back),
                    "role": back,
                    "role_id": role.id if role is not None else back,
                }
                call = fitting(section.make, values)
        if call is None:
            return self._not_described(f"such a {end.kind.name} is ended")
        reply, _ = self.speaker.change(call, values, doing)
        return reply._replace(seen=not (isinstance(call, EndSection) and call.unseen))

    def store(self, path: str, by: SignedIn | None = None) -> DialectStore | None:
        section, headers = self.dialect.store, self._identity.presents(by) if by is not None else None
        return DialectStore(self.speaker, section, path, headers) if section is not None else None

    def fetch_secret(self, identity: str) -> Reply:
        section, known = self.things.section(CREDENTIAL), self._secrets.pop(identity, None)
        if known is not None:
            return Reply(Result.DONE, secret=known)
        if section is None or section.secret is None:
            return Reply(Result.MISSING, detail="it was shown once, when it was made")
        call = section.secret

        def send(things: Things) -> Reply:
            reply, spoken = self.speaker.change(call, things.known(CREDENTIAL, identity, needs(call)), "fetching the secret")
            found = at(spoken.handed, section.secret_at) if spoken is not None and reply.result is Result.DONE else None
            return reply._replace(secret=Secret(found)) if isinstance(found, str) and found else reply

        return self._safely(send)

    # --- the identity's own side ----------------------------------------------------------------------------------------
    def sign_in(self, proof: Proof) -> SignedIn:
        return self._identity.sign_in(proof)

    def taken(self, signed_in: SignedIn) -> bool | None:
        return self._identity.taken(signed_in)

    def as_administrator(self, principal: str) -> SignedIn:
        return self._identity.as_administrator(principal)

    def token_for(self, proof: Proof, issuer: str) -> Secret:
        return self._identity.token_for(proof, issuer)

    def attempt(self, signed_in: SignedIn, operation: Operation, place: str) -> Trial:
        return self._identity.attempt(signed_in, operation, place)

    def ask(self, signed_in: SignedIn, permission: str, place: str, person: str = "") -> Trial:
        return self._identity.ask(signed_in, permission, place, person)

    def ask_all(self, questions: Sequence[Question]) -> list[Trial]:
        return self._identity.ask_all(questions)

    def ask_sign_in(self, account: str, context: Mapping[str, Any]) -> Trial:
        return self._identity.ask_sign_in(account, context)


def _merged(whole: Any, part: Any) -> None:
    """What a change says, in the whole; mappings inside are changed, everything else is replaced."""
    if not isinstance(whole, dict) or not isinstance(part, dict):
        return
    for name, value in part.items():
        if isinstance(value, dict) and isinstance(whole.get(name), dict):
            _merged(whole[name], value)
        else:
            whole[name] = value
