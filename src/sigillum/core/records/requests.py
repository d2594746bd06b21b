"""Requests: steps that somebody else has the power for, as exact values with nothing secret in them; and what answers them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any, NamedTuple

from sigillum.core.kinds.access import PLACE, ROLE
from sigillum.core.kinds.changes import Change, Doing, End, Entry, Make, part_of, plain
from sigillum.core.kinds.identities import ACCOUNT, CLIENT, PRINCIPAL, TEAM
from sigillum.core.kinds.kind import Kind, Query, Record, alike, compared, inside
from sigillum.core.kinds.registry import KINDS
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.results import Result, filled, result, results_in
from sigillum.core.records.steps import Ask, Step, StepKind
from sigillum.core.values.asked import AskedWant
from sigillum.core.values.canonical import digest, external_id
from sigillum.core.values.errors import FileError
from sigillum.core.values.marks import Mark, StepId
from sigillum.core.values.times import parse_instant

KIND, RECEIPT, WITHDRAWAL = "sigillum-request", "sigillum-receipt", "sigillum-withdrawal"
MOST_ASKED = 100  # requests in one file
MAKE, CHANGE, END, ADD, TAKE = "make", "change", "end", "add", "take"
TELL, VALUE = "tell", "value"  # something is to be told, and not to be done
ID = "id"  # among the values, where the id is the result of another request
MOST_FORM = 200  # characters of a pattern
DO = (MAKE, CHANGE, END, ADD, TAKE, TELL)


@dataclass(frozen=True, slots=True)
class Request:
    """What is asked for: `do` one thing at a tenant. `values` are in our words; of a change or an end, `id` names it.

    A value may be the result of another request of the same file; so may be the id, which stands among the values then.
    """

    do: str
    thing: str  # the name of a kind
    tenant: str  # its SCIM base address
    about: str
    values: Mapping[str, Any]
    id: str = ""
    power: str = ""
    to: str = ""
    why: str = ""
    charter: str = ""
    accepted: Mapping[str, str] = field(default_factory=dict)  # of a change: who accepted its risk, why, until when
    workspace: str = ""  # of which the charter is
    number: int = 0  # in that workspace: the same wish, asked once more, has another one
    expires: str = ""  # the instant from which nobody answers it any more
    replaces: tuple[str, ...] = ()  # the digests of those in whose place it is asked
    after: tuple[int, ...] = ()  # the numbers of those in the same file that have to be done before

    @property
    def wish(self) -> str:
        """The same for the same wish of the same charter, whenever it is asked."""
        of = {"workspace": self.workspace, "charter": self.charter}
        return digest({"do": self.do, "thing": self.thing, "tenant": self.tenant, "id": self.id, "values": self.values, **of})

    @property
    def digest(self) -> str:
        """Of this asking alone: a receipt answers no other one, and not the same wish asked before or after."""
        return digest({"wish": self.wish, "number": self.number})

    @property
    def mark(self) -> str:
        """What is written into `externalId` of what is made for it, by whoever makes it: both sides can tell it again."""
        return external_id(self.workspace, "request", {"digest": self.digest}, 1)

    @property
    def needs(self) -> tuple[tuple[str, Result], ...]:
        """The results of other requests that it needs, and for which value."""
        return tuple(results_in(self.values))

    def given(self, known: Mapping[int, Mapping[str, Any]]) -> Request:
        """With the results that are known in their places."""
        values = dict(filled(self.values, known))
        if any(name == "place_id" for name, _ in self.needs) and isinstance(values["place_id"], str):
            values["place"] = f"@{values['place_id']}"
        identity = values.pop(ID) if isinstance(values.get(ID), str) else self.id
        return replace(self, values=values, id=identity)

    def over(self, now: datetime) -> bool:
        """Has the time come from which nobody answers it any more?"""
        return bool(self.expires) and now >= parse_instant(self.expires)

    def body(self) -> dict[str, Any]:
        """As it stands in the file."""
        return {
            "number": self.number,
            "do": self.do,
            "thing": self.thing,
            "about": self.about,
            "why": self.why,
            "power": self.power,
            "id": self.id,
            "values": self.values,
            "accepted": self.accepted,
            "replaces": list(self.replaces),
            "after": list(self.after),
        }


def question_of(asked: AskedWant, tenant: str, charter: str) -> Request:
    """The request for a value that only somebody else can give."""
    return Request(
        TELL,
        VALUE,
        tenant,
        asked.what or asked.name,
        {"name": asked.name, "form": asked.form},
        to=asked.of,
        why=f"the charter {charter} needs it",
        charter=charter,
    )


def request_of(step: Step, doing: Doing, tenant: str, charter: str) -> Request:
    """The request for a step whose references are resolved. A secret in it is a fault of ours and raises ValueError."""
    about, to = (step.action.about, step.action.to) if isinstance(step.action, Ask) else (step.about, "")
    identity, values, accepted = "", dict[str, Any](), dict[str, str]()
    match doing:
        case Make():
            do, values = MAKE, plain(doing.part)
        case Change():
            do, (identity, values) = CHANGE, _of(doing, plain(doing.part))
            accepted = plain(doing.about) if doing.kind is not CREDENTIAL else {}
        case Entry():
            do, value = TAKE if doing.out else ADD, plain(doing.value)
            identity, values = _of(doing, {"field": doing.field, "value": value, "about": plain(doing.about)})
        case _:
            do, identity = END, str(doing.id)
    return Request(do, doing.kind.name, tenant, about, values, identity, step.power, to, step.why, charter, accepted)


def _of(doing: Change | Entry, values: dict[str, Any]) -> tuple[str, dict[str, Any]]:
    """Which thing is changed, and its values: the id stands among them where another request has to give it."""
    return (doing.id, values) if isinstance(doing.id, str) else ("", {**values, ID: doing.id})


def _fits(form: str, value: Any) -> bool:
    """Is a value from JSON of the form that a kind's field has?"""
    if value is None or value == "" or value == []:
        return True
    if result(value) is not None:
        return form == "str"
    if form in ("str", "datetime | None"):
        return isinstance(value, str)
    if form in ("bool", "bool | None", "int"):
        return type(value) is (int if form == "int" else bool)
    return isinstance(value, list) and all(_leaf(v, form == "tuple[str, ...]") for v in value)


def _leaf(value: Any, text: bool) -> bool:
    """Is it a text, or, where the field has more than texts, a list of such?"""
    if isinstance(value, str) or result(value) is not None:
        return True
    return not text and (value is None or (isinstance(value, list) and all(_leaf(v, False) for v in value)))


def _check_types(kind: Kind[Any], values: Mapping[str, Any]) -> None:
    """Raises ValueError for a field that the kind does not have, and for a value that its field cannot have."""
    forms = {n: str(getattr(t, "__forward_arg__", t)) for n, t in kind.type.__annotations__.items()}
    for name, value in values.items():
        fits = (name in forms or name in kind.write_only or name in kind.shown_as) and _fits(forms.get(name, "str"), value)
        if name in kind.shown_as and isinstance(value, Mapping):  # a key or a certificate
            fits = all(isinstance(v, str) for v in value.values())
        if not fits:
            raise ValueError(f"{name} of a {kind.name} cannot be that")


def doing_of(request: Request, version: str = "") -> Doing:
    """The change that is asked for. Raises ValueError, KeyError for values of the wrong form."""
    kind, values = KINDS[request.thing], {n: v for n, v in request.values.items() if n != ID}
    if request.do in (MAKE, CHANGE):
        _check_types(kind, values)
    match request.do:
        case "make":
            return Make(kind, part_of(kind, values))
        case "change":
            return Change(kind, request.id, part_of(kind, values), version, request.accepted)
        case "add" | "take":
            return Entry(
                kind,
                request.id,
                str(values["field"]),
                str(values["value"]),
                dict(values.get("about") or {}),
                out=request.do == TAKE,
            )
    return End(kind, request.id)


def queries(request: Request) -> list[Query[Any]]:
    """What has to be looked up to compare it anew."""
    kind = KINDS[request.thing]
    if request.id:
        return [Query(kind, "id", request.id)]
    return [Query(kind, kind.key[0], str(request.values.get(kind.key[0], "")))]


def fulfilled(request: Request, records: tuple[Record[Any], ...], carried: frozenset[str] | None = None) -> Record[Any] | bool:
    """Is it so already? The thing that stands as wanted, True for an ending, False where something is to be done."""
    doing = doing_of(request)
    if isinstance(doing, Make):
        return next((r for r in records if alike(r, doing.part) and not compared(r, doing.part, carried).different), False)
    found = next((r for r in records if r.id == request.id), None)
    if isinstance(doing, End):
        return found is None
    if found is None:
        return False
    if isinstance(doing, Entry):
        return found if inside(found, doing.field, str(doing.value)) != doing.out else False
    return found if compared(found, doing.part, carried).same else False


class Beside(NamedTuple):
    """Something like what is to be made, that is there already: its id, and each field in which it differs, with what is
    there and what is asked for. `itself`: it is the same thing, by its natural key.
    """

    id: str
    different: Mapping[str, tuple[Any, Any]]
    itself: bool
    version: str = ""


def beside(request: Request, records: tuple[Record[Any], ...], carried: frozenset[str] | None = None) -> list[Beside]:
    """What is there already, and not as it is asked for: without its end, wider or narrower, say."""
    if request.do != MAKE:
        return []
    doing = doing_of(request)
    assert isinstance(doing, Make)
    kind, part = doing.kind, doing.kind.shown(doing.part)
    first = [n for n in kind.key if n in ALIKE] or list(kind.key[:1])
    return [
        Beside(r.id, different, alike(r, doing.part), r.version)
        for r in records
        if r.says(**{n: part.get(n) for n in first}) and (different := compared(r, doing.part, carried).different)
    ]


ALIKE = frozenset(("principal", "role", "place", "api", "scope"))  # what two grants or consents have in common that are alike


def step_of(request: Request, digest: str, tenant: str, version: str = "", there: Beside | None = None) -> Step:
    """The step that fulfils a request in the workspace that has the power. `digest`: of the request as it was sent; `there`:
    the same thing, which is to be changed.
    """
    doing, kind = doing_of(request, version), request.do
    if there is not None:
        doing = Change(KINDS[request.thing], there.id, {n: wanted for n, (_, wanted) in there.different.items()}, there.version)
        kind = CHANGE
    made = {MAKE: StepKind.MAKE, ADD: StepKind.MAKE, CHANGE: StepKind.CHANGE}.get(kind, StepKind.END)
    mark = Mark("request", tenant, (("digest", digest),))
    return Step(StepId(mark, 1, kind), made, request.about, doing, power=request.power, why=request.why)


def numbered(request: Request, number: int, expires: str, replaces: Iterable[str] = ()) -> Request:
    """A wish as it is asked now."""
    return replace(request, number=number, expires=expires, replaces=tuple(replaces))


def results_of(record: Record[Any]) -> dict[str, str]:
    """What others may need of a thing that a request made: its id, and what the tenant chose beside it."""
    return {ID: record.id, **{n: v for n in sorted(record.kind.assigned) if isinstance(v := record.value(n), str) and v}}


WHO: tuple[Kind[Any], ...] = (ACCOUNT, TEAM, PRINCIPAL, CLIENT)
IDS: Mapping[str, tuple[Kind[Any], ...]] = {
    "principal": WHO,
    "role_id": (ROLE,),
    "place_id": (PLACE, *WHO),
    "targets": WHO,
    "members": WHO,
    "holders": WHO,
    "exempt": WHO,
}
SAID: Mapping[str, tuple[str, str]] = {"role_id": ("role", "name"), "place_id": ("place", "path")}  # the name beside an id


class IdReference(NamedTuple):
    """An id that would be sent, and what it stands for at the tenant; `said`: what the request calls it, where it does."""

    label: str
    id: str
    kinds: tuple[Kind[Any], ...]
    said: str = ""
    field: str = ""


def references(request: Request) -> list[IdReference]:
    """Every id in a request, the one that it is about first."""
    found = [IdReference("about", request.id, (KINDS[request.thing],))] if request.id else []
    values = request.values
    if request.do in (ADD, TAKE):
        field = str(values.get("field"))
        known = field in IDS and result(values.get("value")) is None
        return [*found, *([IdReference(field, str(values.get("value")), IDS[field])] if known else [])]
    for label, kinds in IDS.items():
        held = values.get(label)
        for one in held if isinstance(held, (list, tuple)) else [held] if held else []:
            if result(one) is not None:
                continue  # it is there once another request is carried out
            name, field = SAID.get(label, ("", ""))
            found.append(
                IdReference(label.removesuffix("_id"), str(one), kinds, str(values.get(name, "")) if name else "", field)
            )
    return found


def standing_for(reference: IdReference, records: Iterable[Record[Any]]) -> str:
    """In words what an id is at the tenant. Raises FileError where that is nothing, or something else than the request says."""
    record = next((r for r in records if r.id == reference.id), None)
    if record is None:
        raise FileError(
            f"it names a {reference.label} by an id that is not there: {reference.id}",
            where="the request",
            mend="ask its sender for it anew",
        )
    itself = record.kind in WHO and reference.label == "place"
    name = f"@{record.id}" if itself else str(record.value(reference.field) if reference.field else "")
    if reference.said and name != reference.said:
        raise FileError(
            f"it says {reference.label} {reference.said} and would send {name or reference.id}",
            where="the request",
            mend="do not carry it out; ask its sender on another way",
        )
    named = record.value("name")
    told = [named] if isinstance(named, str) and named else []
    told += [v for n in record.kind.key if isinstance(v := record.value(n), str) and v and v not in told]
    return f"{record.kind.name} {', '.join(told) or record.id}"
