"""The ways into an identity that are no credential of it: trusts, delegations, and who may act as it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any, NamedTuple

from sigillum.core.charter.charter import Charter
from sigillum.core.kinds.access import GRANT, ROLE, Grant
from sigillum.core.kinds.delegating import DELEGATION
from sigillum.core.kinds.identities import CLIENT
from sigillum.core.kinds.kind import Kind, Query, Record
from sigillum.core.kinds.machines import MACHINE
from sigillum.core.kinds.trusting import TRUST
from sigillum.core.records.history import History
from sigillum.tenants.port import Tenant


class OtherWay(NamedTuple):
    """One of them, in words; `off`: what becomes of it where the identity is off."""

    record: Record[Any]
    words: str
    off: str


def bearer_of(charter: Charter, state: History, principal: str) -> str:
    """Whom a delegation names: a client's registration, else the account."""
    registered = state.find(CLIENT, charter.tenant)
    return registered.id if charter.is_client and registered is not None else principal


def others(tenant: Tenant, charter: Charter, state: History, principal: str) -> Iterator[OtherWay]:
    """As far as they are shown. What cannot be looked up is left out: the tenant says elsewhere that it shows no such thing."""
    bearer = bearer_of(charter, state, principal)
    queries: list[tuple[Kind[Any], Query[Any]]] = [
        (TRUST, Query(TRUST, "principal", principal)),
        (DELEGATION, Query(DELEGATION, "principal", bearer)),
    ]
    if tenant.profile.carried(MACHINE) is not None:
        queries.append((MACHINE, Query(MACHINE, "principal", principal)))
    if tenant.profile.acting:
        queries.append((GRANT, Query(GRANT, "itself", principal)))
    asked = [q for kind, q in queries if q.value and tenant.profile.carried(kind) is not None]
    for query, fact in tenant.facts(asked).items():
        records = fact.records if query.kind is not GRANT else _acting(tenant, principal, fact.records)
        for record in records:
            yield _other_way(query.kind, record)


def _acting(tenant: Tenant, principal: str, grants: Iterable[Record[Grant]]) -> Iterator[Record[Grant]]:
    """Of the rights over it, those of others by which they act as it; of a role that is not shown, that is supposed."""
    theirs = [g for g in grants if g.denies(principal=principal)]
    roles = tenant.facts([Query(ROLE, "name", g.body.role) for g in theirs])
    for grant in theirs:
        role = roles[Query(ROLE, "name", grant.body.role)].first
        if role is None or tenant.profile.acting in {p for p, _ in role.body.permissions}:
            yield grant


def _other_way(kind: Kind[Any], record: Record[Any]) -> OtherWay:
    body = record.body
    if kind is TRUST:
        return OtherWay(
            record,
            f"tokens of {body.issuer}, by the trust {body.name}",
            "not tried: no token of theirs is at hand; they are exchanged for an account that is on",
        )
    if kind is MACHINE:
        return OtherWay(
            record,
            f"what runs on {body.name}, to which it is attached",
            "not tried: nobody here is that machine; it gets tokens for an account that is on",
        )
    if kind is DELEGATION:
        return OtherWay(record, f"acting for people of {body.domain}", "not tried: whoever signs in as it acts for them")
    who = body.principal_name or body.principal
    return OtherWay(record, f"{who}, who may act as it ({body.role})", "not tried: nobody acts as an account that is off")
