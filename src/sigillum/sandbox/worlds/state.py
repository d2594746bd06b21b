"""What a house holds, kept in a file: so that it goes on where it was stopped."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sigillum.sandbox.app import House
from sigillum.sandbox.oauth.keys import SigningKey
from sigillum.sandbox.scim.schemas import KINDS
from sigillum.sandbox.scim.store import Record, Store

from .clock import moment_of, stamp
from .world import Admin, Client, Tenant

Json = dict[str, Any]
VERSION = 1


def kept(house: House, port: int) -> Json:
    """All of it, as JSON; it holds secrets."""
    return {
        "version": VERSION,
        "port": port,
        "world": house.world,
        "clock": house.clock.kept(),
        "tokens": house.tokens,
        "tenants": {n: _tenant(t) for n, t in house.tenants.items()},
    }


def take(house: House, content: Json) -> None:
    """Go on from what was kept. Raises ValueError where it is not that."""
    try:
        if content["version"] != VERSION:
            raise ValueError(f"it is of version {content['version']}")
        house.clock.take(content["clock"])
        house.tokens = content["tokens"]
        for name, described in content["tenants"].items():
            house.tenants[name] = _tenant_of(house, name, described)
    except (LookupError, TypeError, AttributeError) as problem:
        raise ValueError(f"it holds no state of a sandbox: {type(problem).__name__}: {problem}") from problem


def _tenant(tenant: Tenant) -> Json:
    store = tenant.store
    return {
        "described": tenant.described,
        "admins": [[a.name, sorted(a.powers), a.domain, a.token_hash] for a in tenant.admins],
        "clients": {i: vars(c) for i, c in tenant.clients.items()},
        "streams": tenant.streams,
        "used_assertions": {j: stamp(m) for j, m in tenant.used_assertions.items()},
        "revoked": sorted(tenant.revoked),
        "vault": tenant.vault,
        "reads": tenant.reads,
        "secrets": tenant.secrets,
        "unread": tenant.unread,
        "slow": {i: [stamp(m), how] for i, (m, how) in tenant.slow.items()},
        "used": {i: [stamp(m), address] for i, (m, address) in tenant.used.items()},
        "made": [[kind, name, identity, data] for (kind, name), (identity, data) in tenant.made.items()],
        "key": tenant.signing_key.private() if tenant.signing_key is not None else None,
        "signers": {i: k.private() for i, k in tenant.signers.items()},
        "external": sorted(map(list, store.external)),
        "order": store.order,
        "records": {name: [_record(r) for r in records.values()] for name, records in store.records.items()},
    }


def _record(record: Record) -> list[Any]:
    past = [[stamp(shown), data, stamp(changed), version] for shown, data, changed, version in record.past]
    return [record.id, stamp(record.created), stamp(record.changed), record.data, record.version, past]


def _tenant_of(house: House, name: str, content: Json) -> Tenant:
    tenant = Tenant(name, {}, f"{house.base}/{name}", house.clock, Store(house.clock))
    tenant.follow(content["described"])
    tenant.admins = [Admin(n, frozenset(powers), domain, token) for n, powers, domain, token in content["admins"]]
    tenant.clients = {i: Client(**c) for i, c in content["clients"].items()}
    tenant.streams, tenant.revoked = content["streams"], set(content["revoked"])
    tenant.used_assertions = {j: moment_of(m) for j, m in content["used_assertions"].items()}
    tenant.secrets, tenant.unread = content["secrets"], content["unread"]
    tenant.vault, tenant.reads = content.get("vault", {}), content.get("reads", [])
    tenant.slow = {i: (moment_of(m), how) for i, (m, how) in content["slow"].items()}
    tenant.used = {i: (moment_of(m), address) for i, (m, address) in content.get("used", {}).items()}
    tenant.made = {(kind, n): (identity, data) for kind, n, identity, data in content["made"]}
    tenant.signing_key = SigningKey(content["key"]) if content["key"] is not None else None
    tenant.signers = {i: SigningKey(k) for i, k in content.get("signers", {}).items()}
    store = tenant.store
    store.external = {(kind, domain, external) for kind, domain, external in content["external"]}
    store.order = {str(i): int(n) for i, n in content["order"].items()}
    for kind, records in content["records"].items():
        for identity, created, changed, data, version, past in records:
            told: list[tuple[datetime, Json | None, datetime, str]] = [
                (moment_of(s), d, moment_of(c), v) for s, d, c, v in past
            ]
            store.records[kind][identity] = Record(identity, moment_of(created), moment_of(changed), data, version, told)
            for _, was, _, _ in told:
                store.note(KINDS[kind], identity, was or {})
    return tenant
