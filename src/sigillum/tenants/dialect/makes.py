"""Making things as a dialect describes it: one request, its answer, and what finishes later."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import suppress
from typing import Any
from urllib.parse import unquote, urljoin, urlsplit

from sigillum.core.kinds.access import GRANT, PLACE
from sigillum.core.kinds.changes import Make
from sigillum.core.kinds.kind import Kind, Query, Record
from sigillum.core.values.errors import RefusedError, UnreachableError
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import plain
from sigillum.protocols.http import HttpError
from sigillum.tenants.port import Reply, Result

from .call_model import CallSection, LaterSection, MakeSection, SpotSection
from .calls import Spoken, fits, spot_of
from .fields import HiddenError, NoIdError, joined
from .identity import DialectSignIns
from .model import ShownSection, ThingSection
from .values import MisfitError, ValueRefusedError, Words, at, shown

POLL_SECONDS = 1.0


class Makes(DialectSignIns):
    """What makes things."""

    _secrets: dict[str, Secret]  # what a making answered, until it is fetched
    _looked_up: tuple[tuple[Make, str], dict[str, Any]] | None = None  # the values of the making that was foreseen last

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
        return self._safely(lambda: self._make(make, mark))

    def _make(self, make: Make, mark: str) -> Reply:
        kind, section = make.kind, self.things.section(make.kind)
        if section is None or (section.make is None and section.document is None):
            return self._not_described(f"a {kind.name} is made")
        values = self._values_at(section, make, mark)
        body = kind.made(make.part)
        identity = _id_made_of(section, values)
        record = Record(kind, identity, body, mark=mark)
        doing = f"making the {kind.name}"
        if section.document is not None:
            return self.things.documents.make(kind, section, values, record, doing)
        assert section.make is not None
        refused = self._before(kind, section, section.make, values, make)
        if refused is not None:
            return refused
        reply, spoken = self.speaker.change(section.make, values, doing)
        if reply.result is not Result.DONE or spoken is None:
            return reply
        answers = [spoken]
        if section.make.later is not None and (operation := spot_of(spoken, section.make.later.operation)):
            finished = self._finished(section.make.later, {**values, "operation": operation})
            if isinstance(finished, Reply):
                return finished
            answers.append(finished)
        identity = identity or self._identity(kind, section, section.make, answers, values)
        if not identity:
            return _lost("the answer names no id of what was made", self.address.name, "name `id:` at `make` in the dialect")
        for answer in answers:
            if section.make.secret is not None and isinstance(given := at(answer.body, section.make.secret), str) and given:
                self._secrets[identity] = Secret(given)
        return Reply(Result.DONE, record._replace(id=identity))

    def _values_at(self, section: ThingSection, make: Make, mark: str) -> dict[str, Any]:
        """Also what is above it, where that is a document's; what was looked up to foresee it is not looked up once more."""
        known, self._looked_up = self._looked_up, None
        if known is not None and known[0] == (make, mark):
            return known[1]
        values = self._values(make, mark)
        if section.document is not None and section.document.of != PLACE.name:
            return self.things.above(section.document.of, values)
        return values

    def foresee(self, make: Make, mark: str) -> str:
        section = self.things.section(make.kind)
        if section is None or section.document is None:
            return ""
        with suppress(RefusedError, UnreachableError, HiddenError, NoIdError):  # its making will say it
            self.things.anew()
            values = self._values_at(section, make, mark)
            self._looked_up = (make, mark), values
            return self.things.documents.foresee(make.kind, section.document, values, _id_made_of(section, values))
        return ""

    def looks(self, kind: Kind[Any], identity: str) -> str:
        section = self.things.section(kind)
        if section is None or section.document is None:
            return ""
        with suppress(RefusedError, UnreachableError, HiddenError, NoIdError):
            self.things.anew()
            values = self.things.above(section.document.of, self.things.values_of(kind, identity))
            return self.things.documents.looks(kind, section.document, values)
        return ""

    def _before(
        self, kind: Kind[Any], section: ThingSection, call: MakeSection, values: Mapping[str, Any], make: Make
    ) -> Reply | None:
        """Where a making would change what stands there, that is looked at first. Raises HiddenError."""
        if section.level:
            standing = self._level(values)
            if standing is None or standing.says(role=make.part.get("over")):
                return None
            if standing.denies(role=values["role"]):
                return _other_level(standing.body.role, str(values["role"]))
        elif make.instead_of or not call.look_first or not self._there(kind, section, values):
            return None
        return Reply(Result.EXISTS, detail="it is there already")

    def _identity(
        self, kind: Kind[Any], section: ThingSection, call: MakeSection, answers: list[Spoken], values: Mapping[str, Any]
    ) -> str:
        """Its id, from the newest answer that tells it; where none does, it is looked for like what was interrupted."""
        where = call.id or (section.shows["id"] if isinstance(section.id, list) else section.id)
        parts = _id_parts(section)
        for answer in reversed(answers):
            found = _told(answer, where, values, self.dialect.words)
            if found:
                return joined(found if n == "id" else values.get(n, "") for n in parts)
        self.things.anew()
        field = "mark" if "mark" in section.shows else kind.key[-1]
        records = self.things.fact(Query(kind, field, str(values.get(field, "")))).records
        return records[0].id if len(records) == 1 else ""

    def _values(self, make: Make, mark: str) -> dict[str, Any]:
        """What the calls that make something can name."""
        values: dict[str, Any] = {**make.part, "mark": mark, "account": make.about.get("account", make.part.get("name", ""))}
        if make.kind is GRANT:
            values |= self._role(str(make.part.get("role", "")))
        return self.things.made_of(make.kind, values)

    def _role(self, name: str) -> dict[str, Any]:
        """The values by which a role is told that has no name there."""
        role = next((r for r in self.dialect.roles if r.name == name), None)
        return {f"role.{n}": v for n, v in role.values.items()} if role is not None else {}

    def _level(self, values: Mapping[str, Any]) -> Record[Any] | None:
        """The one role that a principal has at a place. Raises HiddenError."""
        fact = self.things.fact(Query(GRANT, "principal", str(values["principal"])))
        if not fact.known:
            raise HiddenError(f"what it has there cannot be seen: {fact.unknown}")
        return next((r for r in fact.records if r.says(place=values["place"])), None)

    def _there(self, kind: Kind[Any], section: ThingSection, values: Mapping[str, Any]) -> bool:
        identity = _id_made_of(section, values)
        field = "id" if identity else kind.key[-1]
        fact = self.things.fact(Query(kind, field, identity or str(values.get(field, ""))))
        if not fact.known:
            raise HiddenError(f"whether it is there already cannot be seen: {fact.unknown}")
        return bool(fact.records)

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


def _lost(what: str, where: str, mend: str) -> Reply:
    return Reply(Result.LOST, detail=what, error=UnreachableError(what, where=where, mend=mend))


def _id_parts(section: ThingSection) -> list[str]:
    """The names of the values that its id is made of; `id` is what the tenant tells itself."""
    return section.id if isinstance(section.id, list) else ["id"]


def _id_made_of(section: ThingSection, values: Mapping[str, Any]) -> str:
    """Its id, of values that are known before it is made; empty where the answer tells it, or a part of it."""
    parts = _id_parts(section)
    return "" if "id" in parts else joined(values.get(n, "") for n in parts)


def _told(answer: Spoken, where: SpotSection | ShownSection, values: Mapping[str, Any], words: Words) -> str:
    """An id as an answer tells it; what does not fit tells none, since what was sent is done."""
    if isinstance(where, SpotSection):
        found: Any = spot_of(answer, where)
        if where.header is not None:
            found = unquote(urlsplit(found).path.rstrip("/").rpartition("/")[2])
    else:
        try:
            found = shown(where, answer.body, values, words, "text") if answer.body is not None else None
        except MisfitError:
            return ""
    return plain(str(found)) if found not in (None, "") and not isinstance(found, (dict, list)) else ""


def _other_level(have: str, wanted: str) -> Reply:
    error = RefusedError(
        f"it has the role {have} there, of which one has one at a place, and {wanted} would take its place",
        where="the grant",
        mend="end the other one first, or take it into the charter",
    )
    return Reply(Result.REFUSED, detail=error.what, error=error)
