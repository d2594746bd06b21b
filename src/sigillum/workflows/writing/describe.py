"""Writing the charter of a principal that stands already: its right kind, and all of it that a charter can say."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, NamedTuple

from sigillum.core.charter.credential_kinds import CREDENTIAL_KINDS
from sigillum.core.kinds.access import CONSENT, GRANT, Consent, Grant
from sigillum.core.kinds.identities import ACCOUNT, CLIENT, PRINCIPAL, TEAM, Account, Client, Team
from sigillum.core.kinds.kind import Fact, Query, Record, inside
from sigillum.core.kinds.signing import CREDENTIAL, LICENCE, Credential
from sigillum.core.values.errors import SomebodyError
from sigillum.core.values.text import CHARTER_NAME
from sigillum.core.values.times import format_instant
from sigillum.tenants.port import Tenant
from sigillum.workflows.desk.office import Office

from . import drafts
from .drafts import free, listed, scalar, write

DAY = 86_400
STANDS = "it stood already"  # the reason of a grant that has none
AUDIENCES = {"any": "any-tenant"}


class Described(NamedTuple):
    """What stands: the identity's record, and the principal that its rights hang on."""

    record: Record[Any]
    principal: str
    client_id: str = ""


def from_principal(office: Office, name: str, tenant_name: str, principal: str) -> Path:
    """Write the charter that describes an account, a team or a client as it stands. Raises SomebodyError."""
    path, tenant = free(office, name), office.tenants.reach(tenant_name)
    found = _found(tenant, principal)
    asked: dict[str, Query[Any]] = {
        "teams": Query(TEAM, "member", found.principal),
        "grants": Query(GRANT, "principal", found.principal),
        "credentials": Query(CREDENTIAL, "principal", found.record.id),
        "licences": Query(LICENCE, "all"),
        "consents": Query(CONSENT, "principal", found.principal),
    }
    facts = tenant.facts(asked.values())
    body, shown = found.record.body, {n: facts[q] for n, q in asked.items()}
    lines = [f"charter: {name}", f"tenant: {tenant_name}"]
    lines += [f"stage: {body.stage}"] if getattr(body, "stage", "") else []
    lines.append(f"purpose: {scalar(body.purpose or f'Described from {body.name} as it stands')}")
    lines += [f"{who}: {scalar(value)}" for who, value in (("owner", body.owner), ("deputy", body.deputy)) if value]
    lines += ["", "identity:", *(f"  {n}: {v}" for n, v in _identity(found.record, tenant))]
    lines += _licence(shown["licences"], found.record) + _teams(shown["teams"])
    if found.record.kind is TEAM:
        lines += _members(tenant, found.record)
    lines += _permissions(shown["consents"], found.record) + _grants(shown["grants"], found, tenant)
    lines += _credentials(shown["credentials"])
    write(path, "\n".join([*lines, "", drafts.PROOFS]) + "\n")
    return path


def _found(tenant: Tenant, name: str) -> Described:
    """An account, a team or a client, by its name, its id, or its client id."""
    queries: list[Query[Any]] = [Query(k, f, name) for k in (ACCOUNT, TEAM, CLIENT) for f in ("name", "id")]
    queries += [Query(CLIENT, "client_id", name), Query(PRINCIPAL, "id", name)]
    facts = tenant.facts(queries)
    record = next((f.first for q in queries for f in [facts[q]] if f.first is not None), None)
    if record is None:
        raise SomebodyError(
            f"{tenant.address.name} shows no account, team or client {name!r}",
            where=tenant.address.name,
            mend="give its name or principal id as the tenant has it",
        )
    if record.kind is PRINCIPAL:
        principal, asked = record, Query(CLIENT, "client_id", record.body.client_id)
        record = tenant.facts([asked])[asked].first
        if record is None:
            raise SomebodyError(
                f"{name!r} is a principal of a client whose registration is not shown",
                where=tenant.address.name,
                mend="describe it in the tenant where it is registered",
            )
        return Described(record, principal.id, principal.body.client_id)
    if record.kind is CLIENT:
        of = Query(PRINCIPAL, "client_id", record.body.client_id)
        acting = tenant.facts([of])[of].first
        return Described(record, acting.id if acting is not None else record.id, record.body.client_id)
    return Described(record, record.id)


def _identity(record: Record[Any], tenant: Tenant) -> Iterable[tuple[str, str]]:
    body = record.body
    kind = {ACCOUNT: drafts.ACCOUNT, TEAM: drafts.TEAM, CLIENT: drafts.CLIENT}[record.kind]
    yield "kind", "foreign" if isinstance(body, Account) and body.type == "foreign" else kind
    yield "name", scalar(body.name)
    if isinstance(body, Account):
        for field in ("location", "organisation", "area"):
            if getattr(body, field):
                yield field, scalar(getattr(body, field))
        if tenant.profile.accounts_live_in and not body.area:
            yield "installation_wide", STANDS
        for field in ("web_only", "mailbox"):
            if getattr(body, field):
                yield field, "true"
        if body.display and body.display != body.name:
            yield "display", scalar(body.display)
    if isinstance(body, Team):
        yield "reach", listed(body.reach)
    if isinstance(body, Client):
        if body.redirects:
            yield "redirects", listed(body.redirects)
        if body.audience in AUDIENCES:
            yield "usable_in", AUDIENCES[body.audience]
        if not body.confidential:
            yield "confidential", "false"


def _licence(fact: Fact[Any], record: Record[Any]) -> list[str]:
    held = [r.body.name for r in fact.records if inside(r, "holders", record.id)]
    return ["", f"licence: {scalar(held[0])}"] if held else []


def _teams(fact: Fact[Team]) -> list[str]:
    names = [r.body.name for r in fact.records]
    return ["", f"member_of: {listed(names)}"] if names else []


def _members(tenant: Tenant, team: Record[Team]) -> list[str]:
    """Its members by their names; clients are members by their principals, and no charter lists these."""
    queries: list[Query[Any]] = [Query(k, "id", m) for m in team.body.members for k in (ACCOUNT, TEAM)]
    facts = tenant.facts(queries)
    names = [f.first.body.name for q in queries for f in [facts[q]] if f.first is not None]
    return ["", f"members: {listed(names)}"] if names else []


def _permissions(fact: Fact[Consent], record: Record[Any]) -> list[str]:
    """What a client asks for, and how far it is consented."""
    if not isinstance(record.body, Client):
        return []
    only = {(c.body.api, c.body.scope, c.body.acts): c.body.only for c in fact.records}
    groups = dict[tuple[str, str, tuple[str, ...]], list[str]]()
    for api, scope, acts in record.body.requests:
        groups.setdefault((api, acts, tuple(only.get((api, scope, acts), ()))), []).append(scope)
    lines = [
        f"  - {{api: {scalar(api)}, scopes: {listed(scopes)}, acts: {acts}"
        + (f", only: {listed(places)}" if places else "")
        + "}"
        for (api, acts, places), scopes in groups.items()
    ]
    return ["", "permissions:", *lines] if lines else []


def _grants(fact: Fact[Grant], of: Described, tenant: Tenant) -> list[str]:
    """Its grants; one where another principal is the place is that one's own page to tell."""
    own = [r.body for r in fact.records if not r.body.place.startswith("@") or r.says(place=f"@{of.principal}")]
    lines = ["", "grants:"] if own else []
    for grant in own:
        parts: dict[str, Any] = {
            "role": grant.role,
            "at": "self" if grant.place.startswith("@") else grant.place,
            "because": grant.reason or STANDS,
            "from": format_instant(grant.start) if grant.start else "",
            "until": format_instant(grant.until) if grant.until else "",
        }
        written = [f"{k}: {scalar(str(v))}" for k, v in parts.items() if v]
        rules = [f"{scalar(n)}: {listed(values)}" for n, values in grant.where]
        written += [f"where: {{{', '.join(rules)}}}"] if rules else []
        lines += [f"  {'- ' if i == 0 else '  '}{line}" for i, line in enumerate(written)]
    return lines


def _credentials(fact: Fact[Credential]) -> list[str]:
    """Key pairs stay with whoever uses them; a secret that is somewhere else can be told of, and not described."""
    lines, elsewhere = list[str](), list[str]()
    for held in (r.body for r in fact.records):
        kind = CREDENTIAL_KINDS.get(held.type)
        if kind is None or not kind.repeatable or not CHARTER_NAME.match(held.name):
            elsewhere.append(f"# It has the {held.type} {scalar(held.name)}, too, whose secret is with whoever uses it.")
            continue
        begun = held.start or datetime.now(UTC)
        ends = held.until or begun + timedelta(days=90)
        days = max(1, min(365, round((ends - begun).total_seconds() / DAY)))
        lines += [
            f"  - name: {scalar(held.name)}",
            f"    kind: {held.type}",
            f"    lasts: {days}d",
            "    keep_in: holder          # its private half is with whoever uses it now",
        ]
        if held.limits:
            lines.append(f"    limits: {listed(held.limits)}")
    return [*(["", "credentials:", *lines] if lines else []), *(["", *elsewhere] if elsewhere else [])]
