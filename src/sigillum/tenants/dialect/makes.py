"""Making things as a dialect describes it: one request, its answer, and what finishes later."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple
from urllib.parse import unquote, urljoin, urlsplit

from sigillum.core.kinds.access import GRANT, PLACE
from sigillum.core.kinds.changes import Make
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.values.errors import RefusedError, UnreachableError
from sigillum.core.values.secret import Secret
from sigillum.protocols.http import HttpError
from sigillum.tenants.port import Address, Link, Proof, Reply, Result, refused

from .call_model import CallSection, LaterSection, MakeSection, ShownSection, SpotSection
from .calls import Spoken, fits, spot_of
from .document import Read
from .fields import HiddenError, joined
from .identity import DialectSignIns
from .limiting import limited
from .model import DialectFile, ThingSection
from .things import Things
from .values import MisfitError, Words, at, fitting, needed_by, text_of

POLL_SECONDS = 1.0


class Making(NamedTuple):
    """One thing that is made: what can be looked up for it, what its calls can name, and as what it will be there."""

    things: Things
    make: Make
    section: ThingSection
    values: dict[str, Any]
    record: Record[Any]


class Makes:
    """What makes things. `secrets`: what a making answered, until it is fetched."""

    def __init__(self, sign_ins: DialectSignIns, address: Address, link: Link, secrets: dict[str, Secret]) -> None:
        self.speaker, self.dialect, self.address, self._link = sign_ins.speaker, sign_ins.dialect, address, link
        self._sign_ins, self._secrets = sign_ins, secrets

    def begun(self, things: Things, make: Make, mark: str) -> Making | None:
        """What is to be sent, as far as looking shows it; None: the dialect does not say how. Raises HiddenError."""
        section = things.section(make.kind)
        if section is None or not (section.make or section.document):
            return None
        values = _values(things, section, make, mark)
        if isinstance(key := make.part.get("public_key"), Mapping):
            self.speaker.sent_keys.append(dict(key))
        if section.document is not None and section.document.of != PLACE.name:
            values = things.above(section.document.of, values)
        record = Record(make.kind, _id_made_of(section, values), make.kind.made(make.part), mark=mark)
        return Making(things, make, section, values, record)

    def foresee(self, things: Things, make: Make, mark: str) -> tuple[str, Making, Read] | None:
        """How the document will look, what is put into it, and the reading of it into which just that is put."""
        making = self.begun(things, make, mark)
        if making is None or making.section.document is None:
            return None
        document = making.section.document
        read = things.documents.read(document, making.values, "looking")
        digest = things.documents.foreseen(make.kind, document, making.values, making.record.id, read)
        return (digest, making, read) if digest else None

    def send(self, making: Making, read: Read | None = None) -> Reply:
        """The request, and what its answer gives. Raises HiddenError, MisfitError."""
        section, values, kind = making.section, making.values, making.make.kind
        doing = f"making the {kind.name}"
        if section.document is not None:
            return making.things.documents.make(kind, section.document, values, making.record, doing, read)
        call, identity = fitting(section.make, values), making.record.id
        if call is None:
            return refused(f"the dialect {self.dialect.dialect} does not say how such a {kind.name} is made", self.address.name)
        before = self._before(making, call)
        if before is not None:
            return before
        if call.limit is not None and values.get("limits"):
            values["limits"] = limited(making.things, call.limit, values)
        presented = self._as_identity(values) if call.by == "identity" else None
        reply, spoken = self.speaker.change(call, values, doing, presented=presented)
        if reply.result is not Result.DONE or spoken is None:
            return reply
        answers = [spoken]
        if call.later is not None and (operation := spot_of(spoken, call.later.operation)):
            finished = self._finished(call.later, {**values, "operation": operation})
            if isinstance(finished, Reply):
                return finished
            answers.append(finished)
        identity = identity or self._identity(making, call, answers)
        if not identity:
            return _lost("the answer names no id of what was made", self.address.name, "name `id:` at `make` in the dialect")
        for answer in answers:
            if call.secret is not None and isinstance(given := at(answer.handed, call.secret), str) and given:
                self._secrets[identity] = Secret(given)
        return Reply(Result.DONE, making.record._replace(id=identity))

    def _as_identity(self, values: Mapping[str, Any]) -> dict[str, str]:
        """What the identity itself presents that makes it, signed in with its password at the place in question. Raises
        RefusedError.
        """
        password, principal = values.get("signer"), str(values["principal"])
        if not isinstance(password, Secret):
            raise RefusedError(
                "its identity makes it itself, and no password of it is kept here",
                where=self.address.name,
                mend="add a credential of the kind password to the charter, kept here",
            )
        proof = Proof(principal, secret=password, account=str(values.get("account") or self._sign_ins.name_of(principal)))
        return self._sign_ins.presents(self._sign_ins.sign_in(proof, str(values.get("place", ""))))

    def _before(self, making: Making, call: MakeSection) -> Reply | None:
        """Where a making would change what stands there, that is looked at first. Raises HiddenError."""
        values, make = making.values, making.make
        if making.section.level:
            standing = _level(making.things, values)
            if standing is None or standing.says(role=make.part.get("over")):
                return None
            if standing.denies(role=values["role"]):
                return _other_level(standing.body.role, str(values["role"]))
        elif make.instead_of or not call.look_first or not _there(making):
            return None
        return Reply(Result.EXISTS, detail="it is there already")

    def _identity(self, making: Making, call: MakeSection, answers: list[Spoken]) -> str:
        """Its id, from the newest answer that tells it; where none does, it is looked for like what was interrupted."""
        section, values, kind = making.section, making.values, making.make.kind
        where = call.id or (section.shows["id"] if isinstance(section.id, list) else section.id)
        parts = _id_parts(section)
        for answer in reversed(answers):
            found = _id_in(answer, where, values, self.dialect.words)
            if found:
                return joined(found if n == "id" else values.get(n, "") for n in parts)
        field = "mark" if "mark" in section.shows else kind.key[-1]
        records = Things(self.speaker).fact(Query(kind, field, str(values.get(field, "")))).records
        return records[0].id if len(records) == 1 else ""

    def _finished(self, later: LaterSection, values: Mapping[str, Any]) -> Spoken | Reply:
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
                return spoken
            if later.failed is not None and fits(later.failed, spoken.answer.status, spoken.body):
                return Reply(Result.REFUSED, detail=spoken.said, error=spoken.error("making it"))
            if waited >= self._link.timeout_seconds or self._link.pause is None:
                return _lost(
                    "the tenant accepted it, and has not finished it yet",
                    self.address.name,
                    "run the same command again in a while; it is looked for first",
                )
            self._link.pause(POLL_SECONDS, "until the tenant has finished it")
            waited += POLL_SECONDS


def _values(things: Things, section: ThingSection, make: Make, mark: str) -> dict[str, Any]:
    """What the calls that make something can name."""
    account = make.about.get("account", make.part.get("name", "") if make.kind is ACCOUNT else "")
    values: dict[str, Any] = {**make.part, "mark": mark, **({"account": account} if account else {})}
    if make.kind is GRANT:
        values |= role_values(things.dialect, str(make.part.get("role", "")))
    return things.made_of(make.kind, values, needed_by(section.make))


def role_values(dialect: DialectFile, name: str) -> dict[str, Any]:
    """The values by which a role is told that has no name there."""
    role = next((r for r in dialect.roles if r.name == name), None)
    return {f"role.{n}": v for n, v in role.values.items()} if role is not None else {}


def _level(things: Things, values: Mapping[str, Any]) -> Record[Any] | None:
    """The one role that a principal has at a place. Raises HiddenError."""
    fact = things.fact(Query(GRANT, "principal", str(values["principal"])))
    if not fact.known:
        raise HiddenError(f"what it has there cannot be seen: {fact.unknown}")
    return next((r for r in fact.records if r.says(place=values["place"])), None)


def _there(making: Making) -> bool:
    kind, identity = making.make.kind, making.record.id
    field = "id" if identity else kind.key[-1]
    fact = making.things.fact(Query(kind, field, identity or str(making.values.get(field, ""))))
    if not fact.known:
        raise HiddenError(f"whether it is there already cannot be seen: {fact.unknown}")
    return bool(fact.records)


def _lost(what: str, where: str, mend: str) -> Reply:
    return Reply(Result.LOST, detail=what, error=UnreachableError(what, where=where, mend=mend))


def _id_parts(section: ThingSection) -> list[str]:
    """The names of the values that its id is made of; `id` is what the tenant tells itself."""
    return section.id if isinstance(section.id, list) else ["id"]


def _id_made_of(section: ThingSection, values: Mapping[str, Any]) -> str:
    """Its id, of values that are known before it is made; empty where the answer tells it, or a part of it."""
    parts = _id_parts(section)
    return "" if "id" in parts else joined(values.get(n, "") for n in parts)


def _id_in(answer: Spoken, where: SpotSection | ShownSection, values: Mapping[str, Any], words: Words) -> str:
    """An id as an answer tells it; what does not fit tells none, since what was sent is done."""
    if isinstance(where, SpotSection):
        found: Any = spot_of(answer, where)
        if where.header is not None:
            found = _last_of(urljoin(answer.answer.url, found), answer.answer.url)
    else:
        try:
            found = text_of(where, answer.body, values, words) if answer.body is not None else ""
        except MisfitError:
            return ""
    return str(found) if found not in (None, "") and not isinstance(found, (dict, list)) else ""


def _last_of(address: str, asked: str) -> str:
    """The last part of an address; nothing of one that lies elsewhere than where it was asked for (RFC 9110 §10.2.2)."""
    there, here = urlsplit(address), urlsplit(asked)
    same = (there.scheme, there.netloc) == (here.scheme, here.netloc)
    return unquote(there.path.rstrip("/").rpartition("/")[2]) if same else ""


def _other_level(have: str, wanted: str) -> Reply:
    return refused(
        f"it has the role {have} there, of which one has one at a place, and {wanted} would take its place",
        "the grant",
        "end the other one first, or take it into the charter",
    )
