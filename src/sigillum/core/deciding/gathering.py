"""From a tenant's facts to a `World`: which queries a decision needs, in rounds, and compiling the answers."""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator, Mapping
from datetime import datetime, timedelta
from typing import Any

from sigillum.core.deciding.values import Asks, Consent, Held, Hidden, Membership, Place, Principal, Right, Team
from sigillum.core.deciding.world import World
from sigillum.core.kinds.facts import Query, Snapshot, Thing
from sigillum.core.values.text import lines
from sigillum.core.values.times import parse_instant

ALL_ROLES = Query("role", "all", "")


def queries(snapshot: Snapshot, principals: Iterable[str], places: Iterable[str], *,
            credentials: bool = False) -> Iterator[Query]:
    """What has to be known for deciding about these principals (ids) and places; more once teams are known."""
    for path in lines(places):
        yield Query("place", "path", path)
    todo, seen = list(principals), set[str]()
    yield Query("team", "everyone", "")
    todo += [t.id for t in snapshot.fact("team", "everyone", "").things]
    while todo:
        principal = todo.pop()
        if principal in seen:
            continue
        seen.add(principal)
        yield Query("grant", "principal", principal)
        for thing in snapshot.fact("grant", "principal", principal).things:
            yield Query("role", "name", str(thing.get("role")))
            if str(thing.get("place")).startswith("@"):
                yield Query("account", "id", str(thing.get("place"))[1:])
        client = snapshot.fact("principal", "id", principal).first
        registered = _registration(snapshot, client) if client is not None else None
        if client is not None:
            yield Query("consent", "principal", principal)
            yield Query("client", "client_id", str(client.get("client_id")))
        if credentials:
            yield Query("credential", "principal", registered.id if registered is not None else principal)
        yield Query("team", "member", principal)
        todo += [t.id for t in snapshot.fact("team", "member", principal).things]


def world_of(snapshot: Snapshot, *, felt: bool = True) -> World:
    """Everything of a snapshot that deciding needs; `felt` False: as if every change were felt at once."""
    profile = snapshot.profile
    world = World(rules=profile.operations,
                  felt=timedelta(seconds=(profile.felt_seconds or 0) if felt else 0))
    things: dict[tuple[str, str], Thing] = {}
    for query, fact in snapshot.facts.items():
        if query.kind in _ADD:
            things |= {(query.kind, t.id): t for t in fact.things}
    for (kind, _), thing in things.items():
        _ADD[kind](world, thing)
    _clients(world, things)
    world.hidden = dict(_hidden(world, snapshot))
    return world


# what a query that was not answered leaves unknown for deciding, and what is said of it
_HIDES = {("account", "id"): ("principal", "the account {v}"), ("team", "id"): ("principal", "the team {v}"),
          ("principal", "id"): ("principal", "the service principal {v}"), ("place", "path"): ("place", "the place {v}"),
          ("role", "name"): ("role", "the role {v}"), ("grant", "principal"): ("rights", "what is granted to {v}"),
          ("team", "member"): ("teams", "the teams of {v}"), ("team", "everyone"): ("everyone", "teams that hold everybody"),
          ("credential", "principal"): ("credentials", "the credentials of {v}"),
          ("consent", "principal"): ("consents", "the consents of {v}"),
          ("client", "client_id"): ("asks", "the registration {v}")}


def _hidden(world: World, snapshot: Snapshot) -> Iterator[tuple[Hidden, str]]:
    """What was asked for and not shown, as far as nothing else that was shown says it."""
    known: dict[str, Container[str]] = {"principal": world.principals, "place": world.places, "role": world.roles}
    clients = {str(t.get("client_id")): t.id for q, f in snapshot.facts.items() if q.kind == "principal" for t in f.things}
    for query, fact in snapshot.facts.items():
        what, words = _HIDES.get((query.kind, query.field), ("", ""))
        if fact.known or not what or query.value in known.get(what, ()):
            continue
        of = clients.get(query.value, query.value) if what == "asks" else query.value
        name = world.principals[of].name if of in world.principals else query.value
        yield Hidden(what, of), f"{words.format(v=name)} cannot be looked up: {fact.unknown}"


def _registration(snapshot: Snapshot, principal: Thing) -> Thing | None:
    """The registration behind a service principal, as far as it was asked for."""
    return snapshot.fact("client", "client_id", str(principal.get("client_id"))).first


def _clients(world: World, things: Mapping[tuple[str, str], Thing]) -> None:
    """What clients ask for; their credentials hang on the registration, and count for the principal."""
    principals = {str(t.get("client_id")): t.id for (kind, _), t in things.items() if kind == "principal"}
    for (kind, _), thing in things.items():
        principal = principals.get(str(thing.get("client_id"))) if kind == "client" else None
        if principal is not None:
            world.asks[principal] = Asks(principal, frozenset(thing.get("requests") or ()))
            for identity, held in world.credentials.items():
                if held.principal == thing.id:
                    world.credentials[identity] = held._replace(principal=principal)


def principal_of(thing: Thing) -> Principal:
    """An account or team as deciding needs it."""
    kind = "team" if thing.kind == "team" else str(thing.get("kind") or "service-account")
    return Principal(thing.id, str(thing.get("name")), kind, thing.get("active") is not False,
                     thing.get("progress") in (None, "", "ready"), str(thing.get("location") or ""))


def _instant(value: Any) -> datetime | None:
    return parse_instant(value) if value else None


def right_of(fields: Mapping[str, Any], identity: str) -> Right:
    """A grant, as a thing or as it would be made, as deciding needs it."""
    return Right(identity, str(fields["principal"]), str(fields["role"]), str(fields["place"]), _instant(fields.get("from")),
                 _instant(fields.get("until")), tuple((n, frozenset(v)) for n, v in fields.get("where") or ()),
                 _instant(fields.get("made")), fields.get("progress") in (None, "", "ready"))


def _account(world: World, thing: Thing) -> None:
    world.principals[thing.id] = principal_of(thing)


def _team(world: World, thing: Thing) -> None:
    world.principals[thing.id] = principal_of(thing)
    world.teams[thing.id] = Team(thing.id, str(thing.get("name")), tuple(thing.get("reach") or ()),
                                 thing.get("everyone") is True)
    since = dict(thing.get("joined") or ())
    world.memberships += [Membership(m, thing.id, _instant(since.get(m))) for m in thing.get("members") or ()]


def _place(world: World, thing: Thing) -> None:
    services = tuple((name, _instant(since)) for name, since in thing.get("services") or ())
    world.places[str(thing.get("path"))] = Place(
        str(thing.get("path")), str(thing.get("kind") or ""), services, str(thing.get("location") or ""),
        tuple(thing.get("labels") or ()), _instant(thing.get("made")))


def _role(world: World, thing: Thing) -> None:
    world.roles[str(thing.get("name"))] = frozenset(p for p, _ in thing.get("permissions") or ())


def _grant(world: World, thing: Thing) -> None:
    world.rights.append(right_of(thing.fields, thing.id))


def _credential(world: World, thing: Thing) -> None:
    world.credentials[thing.id] = Held(
        thing.id, str(thing.get("principal")), str(thing.get("name")), thing.get("active") is True,
        _instant(thing.get("from")), _instant(thing.get("until")), frozenset(thing.get("limits") or ()))


def _consent(world: World, thing: Thing) -> None:
    world.consents.setdefault(str(thing.get("principal")), []).append(Consent(
        thing.id, str(thing.get("principal")), str(thing.get("scope")), str(thing.get("acts")),
        tuple(thing.get("only") or ()), _instant(thing.get("made")), str(thing.get("by") or "")))


def _nothing(world: World, thing: Thing) -> None:
    """A registration decides nothing by itself: see `_clients`."""


_ADD = {"account": _account, "principal": _account, "client": _nothing, "consent": _consent,
        "team": _team, "place": _place, "role": _role, "grant": _grant, "credential": _credential}
