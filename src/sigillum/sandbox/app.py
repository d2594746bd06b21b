"""Putting the house together: tenants, their interfaces, the control interface, the `Date` of the own clock."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass, field
from email.utils import format_datetime
from typing import Any

from starlette.applications import Starlette
from starlette.convertors import Convertor, register_url_convertor
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from sigillum.reading import FileError

from .deciding import cluster
from .http import own, work
from .http.answers import bearer
from .http.errors import OAuthProblem, ScimProblem
from .http.faults import Fault, FaultLayer, order
from .http.texts import loads
from .oauth import clients, exchange, server, signer
from .oauth.keys import SigningKey
from .scim import endpoints
from .scim.profile import profile_of
from .scim.schemas import KINDS
from .worlds import behind, check, populate, world
from .worlds.clock import Clock, moment_of, stamp
from .worlds.world import Tenant

Json = dict[str, Any]


class _Discovery(Convertor[str]):
    regex = "ServiceProviderConfig|ResourceTypes|Schemas"

    def convert(self, value: str) -> str:
        return value

    def to_string(self, value: str) -> str:
        return value


register_url_convertor("scim_discovery", _Discovery())


@dataclass
class House:
    """All simulated tenants with one clock, and the administrators' tokens that were handed out."""

    world: Json
    base: str
    control_token: str
    clock: Clock = field(default_factory=Clock)
    tenants: dict[str, Tenant] = field(default_factory=dict)
    tokens: dict[str, dict[str, str]] = field(default_factory=dict)
    faults: list[Fault] = field(default_factory=list)
    keys: dict[str, SigningKey] = field(default_factory=dict)  # of services with several customers
    announce: Callable[[], None] = lambda: None  # tells the folder which tenants and tokens there are
    dirty: Callable[[], None] = lambda: None  # told when something may have changed
    keep: Callable[[], None] = lambda: None  # writes the state down
    tell: Callable[[str], None] = lambda text: None  # what is under way, where that takes its time
    remembered: Json = field(default_factory=dict)  # how all tenants were

    def open(self, name: str, like: str | Json | None = None) -> Tenant:
        """Make the tenant `name` anew; `like` names the tenant of the world file that it copies, or describes it.

        Raises ValueError where it is described wrongly.
        """
        try:
            tenant = self._open(name, like if isinstance(like, dict) else self.world["tenants"][like or name])
        except (AttributeError, TypeError, LookupError, ArithmeticError, RecursionError, StopIteration, ScimProblem) as problem:
            raise world.wrong(name, problem) from problem
        if isinstance(like, str):
            tenant.new_key = lambda: self.signs(like)
        return tenant

    def signs(self, service: str) -> SigningKey:
        """One service signs for all its customers with one key, as services do: who compares no issuer is found out."""
        if service not in self.keys:
            self.keys[service] = SigningKey()
        return self.keys[service]

    def _open(self, name: str, described: Json) -> Tenant:
        tokens = self.tokens[name] = {}
        tenant = populate.build(name, described, self.base, self.clock, tokens, self.tell)
        self.tenants[name] = tenant
        tenant.store.create(KINDS["TenantProfile"], profile_of(tenant))
        for record in tenant.store.records["TenantProfile"].values():
            record.past[0] = (record.created - populate.LONG_AGO, *record.past[0][1:])
        return tenant

    def change(self, described: Json) -> None:
        """Follow a changed world file: tenants that are new are opened, one that it no longer has goes on as it is."""
        self.world = described
        for name, about in described["tenants"].items():
            if name not in self.tenants:
                self.open(name)
                continue
            populate.change(self.tenants[name], about, self.tokens[name], self.tell)
            self.profile(self.tenants[name])

    def profile(self, tenant: Tenant) -> None:
        """The profile in force says what the tenant is by now."""
        kind = KINDS["TenantProfile"]
        for identity, data in list(tenant.store.all_current(kind.name)):
            if data.get("inForce"):
                tenant.store.update(kind, identity, profile_of(tenant))


class DateLayer:
    """Puts the sandbox's own time into `Date`, on every answer, and tells when something may have changed."""

    def __init__(self, app: ASGIApp, house: House) -> None:
        self.app, self.house, self.clock = app, house, house.clock

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        async def dated(message: Message) -> None:
            if message["type"] == "http.response.start":
                date = format_datetime(self.clock.now(), usegmt=True).encode()
                message["headers"] = [*message["headers"], (b"date", date)]
            await send(message)

        await self.app(scope, receive, dated if scope["type"] == "http" else send)
        if scope["type"] == "http" and scope["method"] != "GET":
            self.house.dirty()


async def control(request: Request) -> Response:
    """The control interface: clock, faults, tenants. It has a token of its own."""
    house: House = request.app.state.house
    if bearer(request) != house.control_token:
        return JSONResponse({"error": "the control token is needed"}, 401)
    what = request.path_params["what"]
    try:
        body = loads(await request.body() or b"{}") if request.method == "POST" else {}
        return JSONResponse(_CONTROLS[what](house, body))
    except FileError as problem:
        return JSONResponse({"mistakes": check.as_json(problem)}, 422)
    except ValueError as problem:
        return JSONResponse({"error": str(problem)}, 400)
    except (KeyError, TypeError) as problem:
        return JSONResponse({"error": f"{type(problem).__name__}: {problem}"}, 400)


def _clock(house: House, body: Json) -> Json:
    if "set" in body:
        house.clock.set(moment_of(body["set"]))
    house.clock.move(float(body.get("move", 0)))
    if "freeze" in body:
        house.clock.freeze(bool(body["freeze"]), moment_of(body["set"]) if "set" in body else None)
    return {"now": stamp(house.clock.now()), "frozen": house.clock.frozen}


def _faults(house: House, body: Json) -> Json:
    if body.get("clear"):
        house.faults.clear()
    for described in body.get("orders", []):
        house.faults.append(order(described))
    return {"faults": [vars(f) for f in house.faults]}


def _tenants(house: House, body: Json) -> Json:
    for name, like in body.get("open", {}).items():
        house.open(name, like)
    changes = {
        n: {"limits": {**house.tenants[n].described.get("limits", {}), **limits}}
        for n, limits in body.get("limits", {}).items()
    }
    for name, change in [*changes.items(), *body.get("describe", {}).items()]:
        tenant = house.tenants[name]
        tenant.follow({**tenant.described, **change})
        house.profile(tenant)
    for name, slow in body.get("slow", {}).items():
        house.tenants[name].described = {**house.tenants[name].described, "slow": slow}
    for name, seconds in body.get("stale", {}).items():
        house.tenants[name].store.stale_seconds = float(seconds)
    return {
        "tenants": {n: t.address for n, t in house.tenants.items()},
        "tokens": {n: house.tokens.get(n, {}) for n in body.get("open", {})},
    }


def _change(house: House, body: Json) -> Json:
    """A changed world file: `world` is its text, `shown` its name."""
    house.change(check.check(body["world"], body.get("shown", "the world file")))
    house.announce()
    return {"tenants": {n: t.address for n, t in house.tenants.items()}}


def _state(house: House, body: Json) -> Json:
    """Everything that a tenant holds now: for tests that compare states."""
    tenant = house.tenants[body["tenant"]]
    held = {name: [{"id": i, **d} for i, d in tenant.store.all_current(name)] for name in KINDS}
    return {"resources": held, "unread": sorted(tenant.unread), "streams": tenant.streams}


def _machine(house: House, body: Json) -> Json:
    """What a machine would get from where it runs."""
    tenant = house.tenants.get(body["tenant"])
    if tenant is None:
        raise ValueError(f"there is no tenant {body['tenant']}")
    try:
        return exchange.given_to(tenant, body["name"], str(body.get("audience") or ""))
    except OAuthProblem as problem:
        raise ValueError(problem.detail) from problem


def _started(house: House, body: Json) -> Json:
    """A workload of a cluster starts anew."""
    if body["tenant"] not in house.tenants:
        raise ValueError(f"there is no tenant {body['tenant']}")
    cluster.start(house.tenants[body["tenant"]], body["name"])
    return {}


def _about(house: House, body: Json) -> Json:
    """Which process this is: whoever wants to end it asks first."""
    return {"pid": os.getpid()}


def _behind(house: House, body: Json) -> Json:
    """What another hand does, and going back to how it was; for tests."""
    if body.get("remember"):
        house.remembered = behind.remember(house.tenants)
    if body.get("recall"):
        behind.recall(house.tenants, house.remembered)
    put = [behind.put(house.tenants[o["tenant"]], o["kind"], o.get("id", ""), o.get("data")) for o in body.get("put", [])]
    asked = [behind.decided(house.tenants[q["tenant"]], q) for q in body.get("decide", [])]
    tenant, kind = body.get("remembered", ("", ""))
    records = behind.then(house.remembered, tenant, kind) if tenant else {}
    return {"put": put, "allowed": asked, "records": records}


_CONTROLS = {
    "behind": _behind,
    "about": _about,
    "clock": _clock,
    "faults": _faults,
    "tenants": _tenants,
    "state": _state,
    "change": _change,
    "machine": _machine,
    "started": _started,
}


def build(house: House) -> ASGIApp:
    """The ASGI program."""
    routes = [
        Route("/control/{what}", control, methods=["GET", "POST"]),
        *server.routes(),
        *clients.routes(),
        *work.routes(),
        *exchange.routes(),
        *own.routes(),
        *signer.routes(),
        *endpoints.routes(),
    ]
    app = Starlette(routes=routes)
    app.state.house = house
    return DateLayer(FaultLayer(app, house.faults), house)
