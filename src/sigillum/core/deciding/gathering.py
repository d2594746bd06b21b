"""From a tenant's facts to a `World`: what a decision asks for, in rounds, and compiling the answers."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import timedelta
from typing import Any

from sigillum.core.deciding import values
from sigillum.core.deciding.values import Asks, Held, Hidden, Membership, Right
from sigillum.core.deciding.world import World
from sigillum.core.kinds.access import CONSENT, GRANT, PLACE, ROLE, Grant, Place
from sigillum.core.kinds.changes import Facts
from sigillum.core.kinds.delegating import DELEGATION
from sigillum.core.kinds.identities import ACCOUNT, CLIENT, PRINCIPAL, TEAM
from sigillum.core.kinds.kind import Kind, Query, Record
from sigillum.core.kinds.profile import Profile
from sigillum.core.kinds.signing import CREDENTIAL, LICENCE
from sigillum.core.kinds.snapshot import NOT_ASKED, Snapshot
from sigillum.core.values.text import lines
from sigillum.core.values.worlds import W

ALL_ROLES, ALL_LICENCES = Query(ROLE, "all"), Query(LICENCE, "all")


def explore(
    snapshot: Snapshot,
    principals: Iterable[str],
    places: Iterable[str],
    *,
    credentials: bool = False,
    delegating: Iterable[str] = (),
) -> None:
    """Ask for what has to be known for deciding about these principals (ids) and places; more once teams are known.

    `delegating`: those who are asked about for a person.
    """
    for principal in delegating if snapshot.profile.carried(DELEGATION) is not None else ():
        snapshot.ask(Query(DELEGATION, "principal", _bearer(snapshot, principal)))
    ask = snapshot.ask
    for path in lines(places):
        ask(Query(PLACE, "path", path))
    if any(o.licence for o in snapshot.profile.operations.values()):
        ask(ALL_LICENCES)
    own, everyone = list(principals), ask(Query(TEAM, "everyone"))
    todo, seen = [*own, *((t.id for t in everyone.records) if everyone.known else snapshot.likely)], set[str]()
    while todo:
        principal = todo.pop()
        if principal in seen:
            continue
        seen.add(principal)
        for grant in ask(Query(GRANT, "principal", principal)).records:
            ask(Query(ROLE, "name", grant.body.role))
            if grant.body.place.startswith("@"):
                ask(Query(ACCOUNT, "id", grant.body.place[1:]))
        client = snapshot.facts.get(Query(PRINCIPAL, "id", principal), NOT_ASKED).first
        registered = None
        if client is not None:
            ask(Query(CONSENT, "principal", principal))
            registered = ask(Query(CLIENT, "client_id", client.body.client_id)).first
        if credentials and principal in own:  # a team proves itself with nothing
            ask(Query(CREDENTIAL, "principal", registered.id if registered is not None else principal))
        todo += [t.id for t in ask(Query(TEAM, "member", principal)).records]


def _bearer(snapshot: Snapshot, principal: str) -> str:
    """On what the delegations of a principal hang: of a client, on its registration."""
    client = snapshot.facts.get(Query(PRINCIPAL, "id", principal), NOT_ASKED).first
    registered = snapshot.ask(Query(CLIENT, "client_id", client.body.client_id)).first if client is not None else None
    return registered.id if registered is not None else principal


def world_of(facts: Facts[W], profile: Profile, *, felt: bool = True) -> World[W]:
    """Everything that deciding needs of the facts; `felt` False: as if every change were felt at once."""
    late = timedelta(seconds=(profile.felt_seconds or 0) if felt else 0)
    world = World[W](operations=profile.operations, felt=late, reach=profile.grants_reach)
    for account in facts.of(ACCOUNT):
        body = account.body
        world.principals[account.id] = values.KnownPrincipal(
            account.id, body.name, body.type or "service-account", body.active, account.ready, body.location
        )
    for principal in facts.of(PRINCIPAL):
        body = principal.body
        world.principals[principal.id] = values.KnownPrincipal(principal.id, body.name, "client", body.active, principal.ready)
    for team in facts.of(TEAM):
        _team(world, team)
    for place in facts.of(PLACE):
        world.places[place.body.path] = place_of(place.body)
    for role in facts.of(ROLE):
        world.roles[role.body.name] = frozenset(p for p, _ in role.body.permissions)
    world.rights += [right_of(g.body, g.id, ready=g.ready) for g in facts.of(GRANT) if not g.missing & _DECIDES[GRANT]]
    for held in facts.of(CREDENTIAL):
        body = held.body
        world.credentials[held.id] = Held(
            held.id,
            body.principal,
            body.name,
            body.active,
            body.start,
            body.until,
            frozenset(body.limits),
            body.type,
            body.place,
        )
    for consent in facts.of(CONSENT):
        body = consent.body
        world.consents.setdefault(body.principal, []).append(
            values.Consent(consent.id, body.principal, body.scope, body.acts, body.only, body.made, body.by)
        )
    for delegation in facts.of(DELEGATION):
        world.delegations.setdefault(delegation.body.principal, []).append(delegation.body)
    _clients(world, facts)
    licensed: dict[str, frozenset[str]] = {}
    for licence in facts.of(LICENCE):
        for holder in licence.body.holders:
            licensed[holder] = licensed.get(holder, frozenset()) | {licence.body.name}
    world.licensed = licensed
    world.hidden = dict(_hidden(world, facts, profile))
    return world


def _team(world: World[Any], team: Record[Any]) -> None:
    body = team.body
    world.principals[team.id] = values.KnownPrincipal(team.id, body.name, "team", True, team.ready)
    world.teams[team.id] = values.Team(team.id, body.name, body.reach, body.everyone)
    since = dict(body.joined)
    world.memberships += [Membership(m, team.id, since.get(m)) for m in body.members]


def place_of(body: Place) -> values.KnownPlace:
    """A place as deciding needs it."""
    return values.KnownPlace(body.path, body.type, body.services, body.location, body.labels, body.made)


def right_of(body: Grant, identity: str, *, ready: bool = True) -> Right:
    """A grant as deciding needs it."""
    return Right(
        identity,
        body.principal,
        body.role,
        body.place,
        body.start,
        body.until,
        tuple((n, frozenset(v)) for n, v in body.where),
        body.made,
        ready,
        reach=body.reach,
    )


def _clients(world: World[Any], facts: Facts[Any]) -> None:
    """What clients ask for; their credentials hang on the registration, and count for the principal."""
    principals = {p.body.client_id: p.id for p in facts.of(PRINCIPAL)}
    for client in facts.of(CLIENT):
        principal = principals.get(client.body.client_id)
        if principal is not None:
            if client.id in world.delegations:
                world.delegations[principal] = world.delegations.pop(client.id)
            world.asks[principal] = Asks(principal, frozenset(client.body.requests))
            for identity, held in world.credentials.items():
                if held.principal == client.id:
                    world.credentials[identity] = held._replace(principal=principal)


# of what is there, the fields by whose values it is decided: where one is not shown now, nothing is known of it
_DECIDES: dict[Kind[Any], frozenset[str]] = {
    ACCOUNT: frozenset({"active"}),
    PRINCIPAL: frozenset({"active"}),
    CREDENTIAL: frozenset({"active", "start", "until", "limits"}),
    GRANT: frozenset({"start", "until", "where"}),
}
# what a query that was not answered leaves unknown for deciding, and what is said of it
_HIDES = {
    (ACCOUNT, "id"): ("principal", "the account {v}"),
    (TEAM, "id"): ("principal", "the team {v}"),
    (PRINCIPAL, "id"): ("principal", "the service principal {v}"),
    (PLACE, "path"): ("place", "the place {v}"),
    (ROLE, "name"): ("role", "the role {v}"),
    (GRANT, "principal"): ("rights", "what is granted to {v}"),
    (TEAM, "member"): ("teams", "the teams of {v}"),
    (TEAM, "everyone"): ("everyone", "teams that hold everybody"),
    (LICENCE, "all"): ("licences", "who holds which licence"),
    (CREDENTIAL, "principal"): ("credentials", "the credentials of {v}"),
    (CONSENT, "principal"): ("consents", "the consents of {v}"),
    (CLIENT, "client_id"): ("asks", "the registration {v}"),
    (DELEGATION, "principal"): ("delegations", "the delegations of {v}"),
}


def _hidden(world: World[Any], facts: Facts[Any], profile: Profile) -> Iterator[tuple[Hidden, str]]:
    """What was asked for and not shown, as far as nothing else that was shown says it."""
    known = {"principal": world.principals.keys(), "place": world.places.keys(), "role": world.roles.keys()}
    clients = {p.body.client_id: p.id for p in facts.of(PRINCIPAL)}
    for query, why in facts.hidden.items():
        if query.kind is TEAM and profile.says_limits and profile.carried(GRANT) is not None and profile.carried(TEAM) is None:
            continue  # it shows what is granted, and knows no teams
        what, words = _HIDES.get((query.kind, query.field), ("", ""))
        if not what or query.value in known.get(what, ()):
            continue
        of = clients.get(query.value, query.value) if what == "asks" else query.value
        name = world.principals[of].name if of in world.principals else query.value
        yield Hidden(what, of), f"{words.format(v=name)} cannot be looked up: {why}"
    for role in () if profile.all_roles else {g.body.role for g in facts.of(GRANT)} - known["role"]:
        yield Hidden("role", role), f"what the role {role} allows is not described"
    for kind in (ACCOUNT, PRINCIPAL, CREDENTIAL):
        for record in (r for r in facts.of(kind) if r.missing & _DECIDES[kind]):
            field = min(record.missing & _DECIDES[kind])
            yield Hidden("active", record.id), f"{record.body.name or record.id}: {field} is left out, or is not described"
    for grant in (g for g in facts.of(GRANT) if g.missing & _DECIDES[GRANT]):
        field = min(grant.missing & _DECIDES[GRANT])
        yield (
            Hidden("rights", grant.body.principal),
            f"{grant.body.role} at {grant.body.place}: {field} is left out, or is not described",
        )
