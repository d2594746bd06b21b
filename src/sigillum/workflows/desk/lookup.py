"""Looking things up at a tenant by what people type: principals, places, and the world around them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from sigillum.core.charter.charter import Charter
from sigillum.core.deciding.values import Right
from sigillum.core.deciding.world import World
from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.identities import ACCOUNT, CLIENT, PRINCIPAL, TEAM
from sigillum.core.kinds.kind import Fact, Kind, Query, Record
from sigillum.core.kinds.snapshot import Snapshot, rounds
from sigillum.core.values.errors import SomebodyError, UsageError
from sigillum.core.values.text import did_you_mean
from sigillum.core.values.times import format_instant, parse_instant
from sigillum.tenants.port import Tenant

from .office import Office


class NobodyError(SomebodyError):
    """The tenant was asked, and shows no principal of that name or id."""


class NamedSubject(NamedTuple):
    """Whom a question is about: the tenant, the principal there, and the charter where one was named."""

    tenant: Tenant
    record: Record[Any]
    charter: str = ""


def subject(office: Office, who: str, tenant_name: str = "") -> NamedSubject:
    """A charter's name, or a principal's name or id. Raises UsageError, SomebodyError where there is none."""
    found = None if tenant_name else charter_of(office, who)
    name, charter = (found.identity.name, found.name) if found is not None else (who, "")
    tenant = office.tenants.reach(tenant_name or (found.tenant if found is not None else only_tenant(office)))
    return NamedSubject(tenant, principal(tenant, name), charter)


def charter_of(office: Office, name: str) -> Charter | None:
    """The charter of that name, where there is one. Raises FileError where it is wrong."""
    from sigillum.charters import files

    return office.charters([name])[0] if name in files.names(office.workspace) else None


def only_tenant(office: Office) -> str:
    """The one tenant of the workspace. Raises UsageError where there are several."""
    names = list(office.workspace.file.tenants)
    if len(names) != 1:
        raise UsageError(
            "it is not said which tenant is meant" if names else "this workspace knows no tenant",
            where="sigillum.yaml",
            mend=f"say --tenant: {', '.join(names)}" if names else "add one with `sigillum tenant add`",
        )
    return names[0]


def principal(tenant: Tenant, name: str) -> Record[Any]:
    """An account, team or service principal by name or id; of a client also by its client id. Raises SomebodyError."""
    fields: dict[Kind[Any], tuple[str, ...]] = {
        ACCOUNT: ("name", "id"),
        TEAM: ("name", "id"),
        PRINCIPAL: ("display", "id", "client_id"),
    }
    found = tenant.facts(
        [Query(k, f, name) for k, names in fields.items() if tenant.profile.carried(k) is not None for f in names]
    )
    record = next((r for f in found.values() for r in f.records), None)
    if record is not None and record.kind is PRINCIPAL and name != record.id and record.denies(display=name):
        _meant(tenant, f"{name} is the client id", record)
    elif record is None and tenant.profile.carried(CLIENT) is not None:
        record = _registered(tenant, name)
    if record is None:
        unknown = next((f.unknown for f in found.values() if not f.known), "")
        kind = SomebodyError if unknown else NobodyError
        raise kind(
            f"{tenant.address.name} shows no account or team {name!r}{f' ({unknown})' if unknown else ''}",
            where=tenant.address.name,
            mend="give its name or principal id as the tenant has it",
        )
    return record


def _registered(tenant: Tenant, identity: str) -> Record[Any] | None:
    """The service principal of a client whose registration id, or whose registration's name, was given."""
    found = tenant.facts([Query(CLIENT, field, identity) for field in ("id", "name")])
    client = next((r for f in found.values() for r in f.records), None)
    if client is None:
        return None
    second = Query(PRINCIPAL, "client_id", client.body.client_id)
    record = tenant.facts([second])[second].first
    if record is not None and client.id == identity:
        _meant(tenant, f"{identity} is the registration", record)
    return record


def _meant(tenant: Tenant, given: str, record: Record[Any]) -> None:
    """The wrong one of several identifiers was given: said, and the right one used."""
    tenant.say(f"{given} of {record.body.name}; its principal id {record.id} is meant here, and used")


def person(tenant: Tenant, value: str) -> str:
    """The id of a person by name or id; the value itself where nobody is known by it, for the tenant to say so.

    Raises UsageError for an identifier of a client, which is nobody to act for.
    """
    found = tenant.facts([Query(ACCOUNT, "name", value), Query(ACCOUNT, "id", value)])
    record = next((r for f in found.values() for r in f.records), None)
    if record is not None or tenant.profile.carried(CLIENT) is None:
        return record.id if record is not None else value
    asked: dict[Query[Any], str] = {
        Query(CLIENT, "client_id", value): "the client id",
        Query(CLIENT, "id", value): "the registration id",
        Query(PRINCIPAL, "id", value): "the principal id",
    }
    for query, fact in tenant.facts(asked).items():
        if fact.first is not None:
            raise UsageError(
                f"{value} is {asked[query]} of the client {fact.first.body.name}: a person is meant here",
                where=tenant.address.name,
                mend="name the person on whose behalf it acts",
            )
    return value


def place(tenant: Tenant, who: Record[Any], path: str) -> str:
    """A place as typed: a path, `self`, or `@NAME` for a principal as a place. Raises SomebodyError."""
    if path == "self":
        return f"@{who.id}"
    return f"@{principal(tenant, path[1:]).id}" if path.startswith("@") else path


def snapshot(
    office: Office,
    tenant: Tenant,
    who: Record[Any],
    places: Iterable[str],
    more: Iterable[Query[Any]] = (),
    *,
    credentials: bool = False,
    people: Iterable[str] = (),
    known: Mapping[Query[Any], Fact[Any]] | None = None,
) -> Snapshot:
    """What has to be known for deciding about a principal at these places; asked in rounds, but for what is `known`."""
    from sigillum.core.deciding.gathering import explore

    made = office.tenants.unseen(tenant)
    made.facts |= known or {}
    made.facts[Query(who.kind, "id", who.id)] = Fact((who,))
    wanted, others = list(places), list(people)
    ids = [*others, *(p[1:] for p in wanted if p.startswith("@"))]
    extra = [*more, *(Query(ACCOUNT, "id", i) for i in ids)]

    def look() -> None:
        for query in extra:
            made.ask(query)
        explore(made, [who.id, *others], wanted, credentials=credentials, delegating=[who.id] if others else ())

    rounds(made, look, tenant.facts)
    office.tenants.learn(made)
    return made


def require(snapshot: Snapshot, query: Query[Any], near: Query[Any]) -> Record[Any]:
    """The thing that somebody named. Raises UsageError, with a near miss among what answers `near`; SomebodyError where
    nobody shows it.
    """
    fact, kind = snapshot.ask(query), query.kind.name
    if not fact.known:
        raise SomebodyError(
            f"the {kind} {query.value} cannot be looked up at {snapshot.tenant}: {fact.unknown}",
            where=snapshot.tenant,
            mend="ask with an administrator who may look at it",
        )
    if fact.first is None:
        known = [str(r.value(query.field)) for r in snapshot.ask(near).records]
        where = "`sigillum tenant places [UNDER]` lists them" if kind == "place" else "look at `sigillum tenant inspect`"
        raise UsageError(
            f"{snapshot.tenant} has no {kind} {query.value!r}",
            where=snapshot.tenant,
            mend=did_you_mean(query.value, known) or where,
        )
    return fact.first


def holds(office: Office, world: World[Any]) -> None:
    """Say of whom we suspended that it is so: another cause than a switch that somebody else turned."""
    if not office.books.there or all(p.active for p in world.principals.values()):
        return
    from sigillum.core.undertakings.suspension import SUSPENSIONS

    for suspension in office.books.begun(SUSPENSIONS):
        who = world.principals.get(suspension.id)
        if who is not None and not suspension.found_off:
            until = f", until {format_instant(suspension.until)}" if suspension.until is not None else ""
            world.principals[suspension.id] = who._replace(held=f"{suspension.because}{until}")


def leaving(office: Office, world: World[Any], who: Record[Any], charter: str) -> None:
    """Add what we ended a moment ago, and what decisions may still follow."""
    if not world.felt or not office.books.there:
        return
    from sigillum.core.undertakings.loans import LOANS

    gone = list[tuple[str, str, str, str]]()
    if charter:
        _, state = office.books.history(charter)
        gone += [
            (g.id, m.get("role"), m.get("at"), g.ended_at)
            for m, all_ in state.generations.items()
            for g in all_
            if g.kind == GRANT.name and g.ended_at
        ]
    for loan in office.books.about(LOANS, who.id):
        generation = loan.generation
        if generation is not None and generation.ended_at:
            ended_at = min(parse_instant(generation.ended_at), loan.until)
            gone.append((generation.id, loan.grant.role, loan.grant.place, format_instant(ended_at)))
    for identity, role, at, ended in gone:
        if role in world.roles:
            world.rights.append(Right(identity, who.id, role, at, until=parse_instant(ended) + world.felt, leaving=True))
