"""Identify: what a pasted identifier is, whose, where it may be used, and which others belong to it."""

from __future__ import annotations

import re
from typing import Any, NamedTuple

from sigillum.core.kinds.access import CONSENT, GRANT
from sigillum.core.kinds.identities import ACCOUNT, CLIENT, PRINCIPAL, TEAM
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.registry import KINDS
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.errors import SigillumError
from sigillum.core.values.secret import could_be_secret
from sigillum.core.values.times import format_instant
from sigillum.tenants.port import Tenant
from sigillum.workflows.desk.office import Office

# what is looked up: our kind, its field, what the value then is, and where it may be used
LOOK = (
    ("account", "id", "principal id of an account", "as the principal of grants, in members of teams, as `sub` of its tokens"),
    ("account", "name", "name of an account", "in charters (`identity`, `members`, `to`) and in explain and lend"),
    ("account", "subject", "client id of a client of another tenant", "there for signing in; here its principal id is used"),
    ("principal", "id", "principal id of a client", "for grants and consents; never for signing in"),
    ("principal", "client_id", "client id", "for signing in (and as `iss` and `sub` of its assertions); never for grants"),
    ("principal", "display", "name of a client's service principal", "in charters, and in explain and lend"),
    ("client", "id", "registration id of a client", "for changing the registration, and for its credentials; nowhere else"),
    ("client", "client_id", "client id", "for signing in (and as `iss` and `sub` of its assertions); never for grants"),
    ("client", "name", "name of a client registration", "for reading; two clients can have one name"),
    ("team", "id", "principal id of a team", "as the principal of grants"),
    ("team", "name", "name of a team", "in charters: `member_of`"),
    ("credential", "id", "credential id", "to tell which credential proved something"),
    ("credential", "thumbprint", "thumbprint of a public key (RFC 7638)", "as `kid` of assertions"),
    ("grant", "id", "id of a grant", "for ending it"),
    ("consent", "id", "id of a consent", "for ending it"),
    ("role", "id", "id of a role", "in the tenant's own interface; charters name roles"),
    ("role", "name", "name of a role", "in charters: `grants`"),
    ("place", "id", "id of a place", "in the tenant's own interface; charters name paths"),
    ("place", "path", "path of a place", "in charters: `at`"),
    ("api", "name", "name of an API", "in charters: `permissions`"),
)
TOKEN = re.compile(r"[\w-]{8,}\.[\w-]{8,}\.[\w-]{8,}(\.[\w-]+\.[\w-]+)?\Z")


class Found(NamedTuple):
    """One meaning of an identifier."""

    tenant: str
    what: str
    name: str
    use: str
    whose: str
    siblings: tuple[tuple[str, str], ...]


class Identified(NamedTuple):
    """All meanings, what its form tells, and the tenants that could not be asked."""

    found: list[Found]
    form: str
    silent: list[tuple[str, str]]


def identify(office: Office, value: str, tenant: str = "", *, send: bool = False) -> Identified:
    """Ask every tenant of the workspace, or one. What is a secret here is not sent, and what could be one only with `send`.

    Raises FileError for a tenant that the workspace does not know.
    """
    if tenant:
        office.workspace.tenant(tenant)
    found, silent = list[Found](), list[tuple[str, str]]()
    if form := form_of(value):
        return Identified([], form, [])
    if ours := office.keepings.known(value):
        return Identified([], f"{ours}: it was sent nowhere; replace it if others may have seen it", [])
    public = {*office.keepings.thumbprints(), *office.workspace.file.signers.values()}
    if not send and could_be_secret(value) and value not in public:
        return Identified(
            [], "something that could be a secret, so it was sent nowhere; `--send` asks the tenants for it all the same", []
        )
    for name in [tenant] if tenant else list(office.workspace.file.tenants):
        try:
            there = office.tenants.reach(name)
            hits, unknown = _hits(there, value)
            silent += [(name, why) for why in unknown]
        except SigillumError as problem:
            silent.append((name, problem.what))
            continue
        for record, what, use in hits:
            whose = office.books.owner(name, record.kind, record.id) or str(record.value("owner") or "")
            found.append(
                Found(
                    name,
                    what,
                    str(record.value("name") or record.value("path") or record.id),
                    use,
                    whose,
                    tuple(_siblings(there, record, value)),
                )
            )
    return Identified(found, "", silent)


def form_of(value: str) -> str:
    """What is told by the form alone, of things that are no identifiers and must not be looked up."""
    if TOKEN.match(value):
        return "a signed or sealed token: a secret, which nobody should paste; end it if others may have seen it"
    if value.lstrip().startswith(("{", "-----BEGIN")):
        return "key material: a secret where it holds a private half; it is not looked up"
    return ""


def _hits(tenant: Tenant, value: str) -> tuple[list[tuple[Record[Any], str, str]], list[str]]:
    """What it is there, and what could not be asked; what a tenant never has is not asked for."""
    asked: dict[Query[Any], tuple[str, str]] = {
        Query(KINDS[kind], field, value): (what, use) for kind, field, what, use in LOOK if kind in tenant.profile.carries
    }
    seen, out = set[tuple[str, str]](), list[tuple[Record[Any], str, str]]()
    unknown = dict[str, None]()
    for query, fact in tenant.facts(asked).items():
        what, use = asked[query]
        if not fact.known and not fact.never:
            unknown[f"whether it is the {what}: {fact.unknown}"] = None
        for record in fact.records:
            name = str(record.value("name") or record.id)
            if (what, name) not in seen:  # a client id leads to registration and principal
                seen.add((what, name))
                out.append((record, what, use))
    return out, list(unknown)


def _siblings(tenant: Tenant, record: Record[Any], value: str) -> list[tuple[str, str]]:
    """The other identifiers of the same identity."""
    kind, body = record.kind, record.body
    own = "principal id" if kind in (ACCOUNT, TEAM, PRINCIPAL) else "registration id" if kind is CLIENT else "id"
    named = [(own, record.id)]
    if kind in (CLIENT, PRINCIPAL) and body.client_id:
        query: Query[Any] = Query(PRINCIPAL if kind is CLIENT else CLIENT, "client_id", body.client_id)
        other = tenant.facts([query])[query].first
        named.append(("client id", body.client_id))
        if other is not None:
            named.append(("principal id" if other.kind is PRINCIPAL else "registration id", other.id))
    if kind in (ACCOUNT, TEAM):
        named.append(("name", body.name))
    if kind in (ACCOUNT, CLIENT) and tenant.profile.carried(CREDENTIAL) is not None:
        held: Query[Any] = Query(CREDENTIAL, "principal", record.id)
        fact = tenant.facts([held])[held]
        named += [(f"its {r.body.type or 'credential'}", f"{r.body.name or r.id}, {_ends(r)}") for r in fact.records]
        named += [] if fact.known else [("its credentials", f"not shown: {fact.unknown}")]
    if kind is ACCOUNT and body.subject:
        named.append((f"client id at {body.organisation}", body.subject))
    if kind in (GRANT, CONSENT, CREDENTIAL):
        named.append(("hangs on" if kind is CREDENTIAL else "its principal", body.principal))
    return [(word, text) for word, text in named if text and text != value]


def _ends(record: Record[Any]) -> str:
    """Until when a credential serves, and when it was used last, as far as that is shown."""
    body = record.body
    ends = f"until {format_instant(body.until)}" if body.until is not None else "without end"
    return f"{ends}{'' if body.active else ', off'}{f', used last at {format_instant(body.used_at)}' if body.used_at else ''}"
