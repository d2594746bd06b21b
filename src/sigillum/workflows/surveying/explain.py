"""Explain: why something is allowed or refused, from what is known of a tenant, at any time asked."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from itertools import pairwise

from sigillum.core.deciding import gathering
from sigillum.core.deciding.explanations import Explanation, explain
from sigillum.core.deciding.foreseen import spoiling
from sigillum.core.deciding.proofs import Trial
from sigillum.core.deciding.values import Question
from sigillum.core.deciding.world import World
from sigillum.core.kinds.access import PLACE, ROLE, Role
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.snapshot import Snapshot
from sigillum.core.values.errors import RefusedError, UsageError
from sigillum.core.values.text import did_you_mean
from sigillum.core.values.worlds import Observed
from sigillum.tenants.port import Tenant
from sigillum.workflows.desk import lookup
from sigillum.workflows.desk.office import Office
from sigillum.workflows.desk.tenants import time_of


@dataclass(frozen=True, slots=True)
class Explained:
    """One question with its explanation, and the tenant's own answer where it was asked for."""

    explanation: Explanation
    world: World[Observed]
    theirs: Trial | None = None
    ours: bool = True  # does a charter of this workspace describe the principal?

    @property
    def differs(self) -> bool:
        """Do we and the tenant answer differently?"""
        ours = self.explanation.decision.allowed
        return self.theirs is not None and self.theirs.allowed is not None and ours is not None and self.theirs.allowed != ours


@dataclass(frozen=True, slots=True)
class Wish:
    """What was asked: `later_seconds` counts from the tenant's now, `at` is an instant."""

    who: str
    permissions: tuple[str, ...]
    places: tuple[str, ...]
    at: datetime | None = None
    later_seconds: int = 0
    credential: str = ""
    tenant: str = ""
    ask_tenant: bool = False
    person: str = ""


def run(office: Office, wish: Wish) -> list[Explained]:
    """Every permission at every place. Raises UsageError, SomebodyError, RefusedError."""
    roles: tuple[Record[Role], ...] = ()
    person, expected, ours = wish.person, None, False
    try:
        who = lookup.subject(office, wish.who, wish.tenant)
    except lookup.NobodyError:
        charter = lookup.charter_of(office, wish.who) if not wish.tenant else None
        tenant = office.tenants.reach(wish.tenant or (charter.tenant if charter is not None else lookup.only_tenant(office)))
        nothing = Snapshot(tenant.address.name, time_of(tenant), tenant.profile).known()
        world, principal, places, credential = gathering.world_of(nothing, tenant.profile), wish.who, list(wish.places), ""
    else:
        tenant, principal = who.tenant, who.record.id
        places = [lookup.place(tenant, who.record, p) for p in wish.places]
        person = lookup.person(tenant, person) if person else ""
        expected = office.books.expected(tenant.address.name, principal)
        ours = expected is not None or bool(who.charter)
        kept = [p.at for p in expected.proofs] if expected is not None else []
        below = [Query(PLACE, "under", p) for p in places if not p.startswith("@")]
        seen = lookup.snapshot(
            office,
            tenant,
            who.record,
            [*places, *kept],
            [gathering.ALL_ROLES, *below],
            credentials=bool(wish.credential),
            people=[person] if person else [],
        )
        _known(tenant, seen, wish.permissions, [p for p in places if not p.startswith("@")])
        world, roles = gathering.world_of(seen.known(), seen.profile), seen.ask(gathering.ALL_ROLES).records
        lookup.holds(office, world)
        lookup.leaving(office, world, who.record, who.charter)
        credential = _credential(world, principal, wish.credential)
    at = wish.at or time_of(tenant) + timedelta(seconds=wish.later_seconds)
    questions = [Question(principal, p, place, at, credential, person) for p in wish.permissions for place in places]
    theirs: list[Trial] | list[None] = [None] * len(questions)
    if wish.ask_tenant:
        if wish.at is not None or wish.later_seconds:
            raise UsageError("the tenant answers for now only", where="--ask-tenant", mend="leave --when or --ask-tenant out")
        if not tenant.profile.decisions:
            raise RefusedError(
                f"{tenant.address.name} answers no questions",
                where=tenant.address.name,
                mend="leave --ask-tenant out; `sigillum tenant inspect` shows what it can do",
            )
        theirs = tenant.ask_all(questions)
    spoiled = spoiling(world, principal, expected.proofs if expected is not None else (), at)
    return [Explained(explain(world, q, roles, spoiled), world, t, ours) for q, t in zip(questions, theirs, strict=True)]


def _known(tenant: Tenant, seen: Snapshot, permissions: Iterable[str], places: Iterable[str]) -> None:
    """What the tenant does not know is not refused: it was mistyped. Raises UsageError, with a near miss."""
    roles = seen.ask(gathering.ALL_ROLES)
    known = {p for r in roles.records for p, _ in r.body.permissions or ()} | set(seen.profile.operations)
    for permission in permissions if roles.known and known else ():
        if permission not in known:
            raise UsageError(
                f"no role of {seen.tenant} has the permission {permission!r}",
                where=seen.tenant,
                mend=did_you_mean(permission, known),
            )
    for place in places:
        fact, near = seen.ask(Query(PLACE, "path", place)), Query(PLACE, "under", place.rpartition("/")[0])
        if fact.known and fact.first is None:
            beside = [r.body.path for r in tenant.facts([near])[near].records]
            raise UsageError(
                f"{seen.tenant} shows no place {place!r}",
                where=seen.tenant,
                mend=did_you_mean(place, beside) or "`sigillum tenant places [UNDER]` lists them",
            )


def through(office: Office, wish: Wish, principals: list[str]) -> list[Explained]:
    """May WHO act as the first of these, that as the next, and the last one do what is asked? Each link, then the question.

    Raises UsageError, SomebodyError, RefusedError.
    """
    subjects = [lookup.subject(office, who, wish.tenant) for who in (wish.who, *principals)]
    acting, where = subjects[0].tenant.profile.acting, subjects[0].tenant.address.name
    if not acting:
        raise UsageError(f"at {where} nobody acts as somebody else", where="--as", mend="leave it out")
    chain = [s.record.id for s in subjects]
    out = list[Explained]()
    for one, other in pairwise(chain):
        out += run(
            office, replace(wish, who=one, permissions=(acting,), places=(f"@{other}",), tenant=where, credential="", person="")
        )
    return out + run(office, replace(wish, who=chain[-1], tenant=where))


def _credential(world: World[Observed], principal: str, name: str) -> str:
    """A credential's id by its name (the newest generation) or id; the name itself where there is none."""
    own = [
        h for h in world.credentials.values() if h.principal == principal and name in (h.id, h.name, h.name.rpartition("-")[0])
    ]
    return max(own, key=lambda h: (h.active, h.name)).id if own else name


def usual(office: Office, name: str) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The permissions and places of a charter: what a matrix shows where nothing is named. Raises FileError."""
    charter = office.charters([name])[0]
    tenant = office.tenants.reach(charter.tenant)
    queries = [Query(ROLE, "name", g.role) for g in charter.grants]
    held = [p for f in tenant.facts(queries).values() for r in f.records for p, _ in r.body.permissions]
    held += [p for r in charter.roles for p in r.permissions]
    places = [g.at for g in charter.grants] + [p.at for p in charter.proofs]
    return (tuple(dict.fromkeys([*held, *(p.permission for p in charter.proofs)])), tuple(dict.fromkeys(places)))
