"""Looking things up at a tenant by what people type: principals, places, and the world around them."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from sigillum.core.deciding import gathering
from sigillum.core.deciding.values import Right
from sigillum.core.deciding.world import World
from sigillum.core.kinds.facts import Fact, Query, Snapshot, Thing
from sigillum.core.values.errors import SomebodyError, UsageError
from sigillum.core.values.text import did_you_mean
from sigillum.core.values.times import parse_instant
from sigillum.tenants.port import Tenant

from .office import Office

MOST_ROUNDS = 20


class NobodyError(SomebodyError):
    """The tenant was asked, and shows no principal of that name or id."""


class Subject(NamedTuple):
    """Whom a question is about: the tenant, the principal there, and the charter where one was named."""

    tenant: Tenant
    thing: Thing
    charter: str = ""


def subject(office: Office, who: str, tenant_name: str = "") -> Subject:
    """A charter's name, or a principal's name or id. Raises UsageError, SomebodyError where there is none."""
    from sigillum.charters import files
    name, charter = who, ""
    if not tenant_name and who in files.names(office.workspace):
        found = office.charters([who])[0]
        name, charter, tenant_name = found.identity.name, found.name, found.tenant
    tenant = office.tenant(tenant_name or only_tenant(office))
    return Subject(tenant, principal(tenant, name), charter)


def only_tenant(office: Office) -> str:
    """The one tenant of the workspace. Raises UsageError where there are several."""
    names = list(office.workspace.file.tenants)
    if len(names) != 1:
        raise UsageError("it is not said which tenant is meant" if names else "this workspace knows no tenant",
                         where="sigillum.yaml", mend=f"say --tenant: {', '.join(names)}" if names else
                         "add one with `sigillum tenant add`")
    return names[0]


def principal(tenant: Tenant, name: str) -> Thing:
    """An account, team or service principal by name or id; of a client also by its client id. Raises SomebodyError."""
    kinds = [k for k in ("account", "team", "principal") if k in tenant.profile.kinds]
    fields = {"principal": ("display", "id", "client_id")}
    found = tenant.facts([Query(k, f, name) for k in kinds for f in fields.get(k, ("name", "id"))])
    thing = next((t for f in found.values() for t in f.things), None)
    if thing is not None and thing.kind == "principal" and name not in (thing.id, thing.get("display")):
        _meant(tenant, f"{name} is the client id", thing)
    elif thing is None and "client" in tenant.profile.kinds:
        thing = _registered(tenant, name)
    if thing is None:
        unknown = next((f.unknown for f in found.values() if not f.known), "")
        kind = SomebodyError if unknown else NobodyError
        raise kind(f"{tenant.address.name} shows no account or team {name!r}{f' ({unknown})' if unknown else ''}",
                   where=tenant.address.name, mend="give its name or principal id as the tenant has it")
    return thing


def _registered(tenant: Tenant, identity: str) -> Thing | None:
    """The service principal of a client whose registration id, or whose registration's name, was given."""
    found = tenant.facts([Query("client", field, identity) for field in ("id", "name")])
    client = next((t for f in found.values() for t in f.things), None)
    second = Query("principal", "client_id", str(client.get("client_id"))) if client is not None else None
    thing = tenant.facts([second])[second].first if second is not None else None
    if thing is not None and client is not None and client.id == identity:
        _meant(tenant, f"{identity} is the registration", thing)
    return thing


def _meant(tenant: Tenant, given: str, thing: Thing) -> None:
    """The wrong one of several identifiers was given: said, and the right one used."""
    tenant.say(f"{given} of {thing.get('name')}; its principal id {thing.id} is meant here, and used")


def person(tenant: Tenant, value: str) -> str:
    """The id of a person by name or id; the value itself where nobody is known by it, for the tenant to say so.

    Raises UsageError for an identifier of a client, which is nobody to act for.
    """
    found = tenant.facts([Query("account", "name", value), Query("account", "id", value)])
    thing = next((t for f in found.values() for t in f.things), None)
    if thing is not None or "client" not in tenant.profile.kinds:
        return thing.id if thing is not None else value
    asked = {Query("client", "client_id", value): "the client id", Query("client", "id", value): "the registration id",
             Query("principal", "id", value): "the principal id"}
    for query, fact in tenant.facts(asked).items():
        if fact.first is not None:
            raise UsageError(f"{value} is {asked[query]} of the client {fact.first.get('name')}: a person is meant here",
                             where=tenant.address.name, mend="name the person on whose behalf it acts")
    return value


def place(tenant: Tenant, who: Thing, path: str) -> str:
    """A place as typed: a path, `self`, or `@NAME` for a principal as a place. Raises SomebodyError."""
    if path == "self":
        return f"@{who.id}"
    return f"@{principal(tenant, path[1:]).id}" if path.startswith("@") else path


def snapshot(office: Office, tenant: Tenant, who: Thing, places: Iterable[str], more: Iterable[Query] = (), *,
             credentials: bool = False, people: Iterable[str] = ()) -> Snapshot:
    """What has to be known for deciding about a principal at these places; asked in rounds."""
    made = Snapshot(tenant.address.name, office.now(tenant), tenant.profile)
    made.facts[Query(who.kind, "id", who.id)] = Fact((who,))
    wanted = list(places)
    others = list(people)
    ids = [*others, *(p[1:] for p in wanted if p.startswith("@"))]
    extra = [*more, *(Query("account", "id", i) for i in ids)]
    for _ in range(MOST_ROUNDS):
        asked = made.missing([*extra, *gathering.queries(made, [who.id, *others], wanted, credentials=credentials)])
        if not asked:
            break
        made.facts.update(tenant.facts(asked))
    return made


def require(snapshot: Snapshot, kind: str, field: str, value: str, near: Query) -> Thing:
    """The thing that somebody named. Raises UsageError, with a near miss among what answers `near`; SomebodyError where
    nobody shows it.
    """
    fact = snapshot.fact(kind, field, value)
    found = fact.first
    if not fact.known:
        raise SomebodyError(f"the {kind} {value} cannot be looked up at {snapshot.tenant}: {fact.unknown}",
                            where=snapshot.tenant, mend="ask with an administrator who may look at it")
    if found is None:
        known = [str(t.get(field)) for t in snapshot.facts.get(near, Fact()).things]
        raise UsageError(f"{snapshot.tenant} has no {kind} {value!r}", where=snapshot.tenant,
                         mend=did_you_mean(value, known) or "look at `sigillum tenant inspect`")
    return found


def leaving(office: Office, world: World, who: Thing, charter: str) -> None:
    """Add what we ended a moment ago, and what decisions may still follow."""
    if not world.felt or not office.has_ledger():
        return
    from sigillum.core.undertakings.loans import FACET
    gone = list[tuple[str, str, str, str]]()
    if charter:
        _, state = office.state(charter)
        for (facet, _), generations in state.generations.items():
            gone += [(g.id, *_role_at(g.name), g.ended_at) for g in generations if facet == "grant" and g.ended_at]
    for loan, state in office.loans():
        generation = state.latest(FACET, FACET)
        if loan.principal == who.id and generation is not None and generation.ended_at:
            gone.append((generation.id, loan.role, loan.at, min(generation.ended_at, loan.until.isoformat())))
    for identity, role, at, ended in gone:
        if role in world.roles:
            world.rights.append(Right(identity, who.id, role, at, until=parse_instant(ended) + world.felt, leaving=True))


def _role_at(name: str) -> tuple[str, str]:
    role, _, at = name.partition("@")
    return role, at.partition("?")[0].partition(">")[0]
