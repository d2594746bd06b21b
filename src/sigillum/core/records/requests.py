"""Requests: one step that somebody else has the power for, as exact values with nothing secret in them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sigillum.core.kinds.facts import Query, Thing
from sigillum.core.records.steps import Action, AddTo, Ask, Change, Create, End, Step, StepKind, TakeFrom
from sigillum.core.values.canonical import digest
from sigillum.core.values.errors import FileError
from sigillum.core.values.secret import Secret

KIND, RECEIPT = "sigillum-request", "sigillum-receipt"
DO = {Create: "make", Change: "change", End: "end", AddTo: "add", TakeFrom: "take"}
# How a thing that stands already is found again: the fields that tell it from others of its kind.
NATURAL = {"account": ("name",), "team": ("name",), "client": ("name",), "principal": ("client_id",), "role": ("name",),
           "grant": ("principal", "role", "place", "where", "from", "until"),
           "consent": ("principal", "api", "scope", "acts", "only"),
           "credential": ("principal", "name"), "rule": ("name",), "licence": ("name",)}
LOOK = {"account": "name", "team": "name", "client": "name", "principal": "client_id", "role": "name", "grant": "principal",
        "consent": "principal", "credential": "principal", "rule": "name", "licence": "name"}


@dataclass(frozen=True, slots=True)
class Request:
    """What is asked for: `do` one thing at a tenant. `values` are in our words; of a change or an end, `id` names it."""

    do: str
    thing: str
    tenant: str  # its SCIM base address
    about: str
    values: Mapping[str, Any]
    id: str = ""
    power: str = ""
    to: str = ""
    why: str = ""
    charter: str = ""

    @property
    def digest(self) -> str:
        """The same for the same wish, whenever it is written down."""
        return digest({"do": self.do, "thing": self.thing, "tenant": self.tenant, "id": self.id, "values": self.values})

    def body(self) -> dict[str, Any]:
        """As it stands in the file."""
        return {"kind": KIND, "do": self.do, "thing": self.thing, "tenant": self.tenant, "about": self.about,
                "why": self.why, "charter": self.charter, "power": self.power, "to": self.to, "id": self.id,
                "values": plain_values(self.values)}


def plain_values(values: Mapping[str, Any]) -> dict[str, Any]:
    """Values as JSON has them. A secret among them is a fault of ours and raises ValueError."""
    def one(value: Any) -> Any:
        if isinstance(value, Secret):
            raise ValueError("a secret never stands in a request")
        if isinstance(value, (tuple, list)):
            return [one(v) for v in value]
        return {n: one(v) for n, v in value.items()} if isinstance(value, Mapping) else value
    return {name: one(value) for name, value in values.items()}


def request_of(step: Step, action: Any, values: Mapping[str, Any], identity: str, tenant: str, charter: str) -> Request:
    """The request for a step whose references are resolved."""
    about, to = (step.action.about, step.action.to) if isinstance(step.action, Ask) else (step.about, "")
    return Request(DO[type(action)], action.thing, tenant, about, values, identity, step.power, to, step.why, charter)


def read(body: Mapping[str, Any], where: str) -> Request:
    """A request from its file. Raises FileError."""
    texts = {n: body.get(n, "") for n in ("do", "thing", "tenant", "about", "id", "power", "to", "why", "charter")}
    values = body.get("values")
    if body.get("kind") != KIND or not isinstance(values, Mapping) or not all(isinstance(v, str) for v in texts.values()) \
            or texts["do"] not in DO.values() or texts["thing"] not in NATURAL:
        raise FileError("this is not a request that this version understands", where=where,
                        mend="ask its sender which version wrote it")
    return Request(values={name: _inner(value) for name, value in values.items()}, **texts)


def _inner(value: Any) -> Any:
    """Lists as the rest of the program has them: as tuples."""
    return tuple(_inner(v) for v in value) if isinstance(value, list) else value


def queries(request: Request) -> list[Query]:
    """What has to be looked up to compare it anew."""
    if request.id:
        return [Query(request.thing, "id", request.id)]
    return [Query(request.thing, LOOK[request.thing], str(request.values.get(LOOK[request.thing], "")))]


def fulfilled(request: Request, things: tuple[Thing, ...]) -> Thing | bool:
    """Is it so already? The thing that stands as wanted, True for an ending, False where something is to be done."""
    found = next((t for t in things if t.id == request.id), None) if request.id else next(
        (t for t in things if all(same(t.get(n), request.values.get(n)) for n in NATURAL[request.thing])), None)
    if request.do == "end":
        return found is None
    if found is None:
        return False
    if request.do in ("add", "take"):
        inside = str(request.values["value"]) in [str(v[0] if isinstance(v, tuple) else v)
                                                  for v in found.get(str(request.values["attribute"])) or ()]
        return found if inside == (request.do == "add") else False
    if request.do == "change":
        return found if all(same(found.get(n), v) for n, v in request.values.items()) else False
    return found


def same(have: Any, want: Any) -> bool:
    """Equal, whatever the order in lists; nothing and empty are one."""
    if isinstance(have, (list, tuple)) or isinstance(want, (list, tuple)):
        return sorted(map(repr, have or ())) == sorted(map(repr, want or ()))
    return (have or None) == (want or None)


def step_of(request: Request, external_id: str, version: str = "") -> Step:
    """The step that fulfils a request in the workspace that has the power."""
    listed = (request.thing, request.id, str(request.values.get("attribute")), str(request.values.get("value")))
    action: Action
    match request.do:
        case "make":
            action = Create(request.thing, external_id, request.values)
        case "change":
            action = Change(request.thing, request.id, request.values, version)
        case "add":
            action = AddTo(*listed)
        case "take":
            action = TakeFrom(*listed)
        case _:
            action = End(request.thing, request.id)
    kind = {"make": StepKind.MAKE, "add": StepKind.MAKE, "change": StepKind.CHANGE}.get(request.do, StepKind.END)
    return Step("request", kind, "", request.thing, "request", request.about, action, power=request.power, why=request.why)
