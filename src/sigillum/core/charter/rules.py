"""House rules: the bounds that `sigillum.yaml` sets, and checking a charter against them without a tenant."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from sigillum.core.charter.charter import (
    API_TOKEN,
    FOREIGN,
    PASSWORD,
    SHARED_SECRET,
    Charter,
    GrantWant,
    ProofWant,
    ServiceWant,
)
from sigillum.core.kinds.facts import Thing
from sigillum.core.values.errors import Mistake, Position
from sigillum.core.values.text import did_you_mean
from sigillum.core.values.times import format_duration

CLASSES = ("looks", "changes-data", "manages", "administers")
BECAUSE_CLASSES = frozenset(CLASSES[1:])


@dataclass(frozen=True, slots=True)
class Rules:
    """What a charter may ask. Durations in seconds."""

    longest_credential_seconds: int = 365 * 86_400
    forbidden_roles: frozenset[str] = frozenset()
    named: tuple[str, ...] = ("owner",)
    because: frozenset[str] = BECAUSE_CLASSES
    longest_loan_seconds: int = 86_400


def check(charter: Charter, rules: Rules, tenants: Iterable[str]) -> list[Mistake]:
    """Everything that can be said against a charter from its own text and the workspace."""
    tenants = list(tenants)
    return [*_named(charter, rules), *_tenant(charter, tenants), *_roles(charter, rules),
            *_credentials(charter, rules), *_team(charter), *_account(charter), *_client(charter, tenants),
            *_twice(charter)]


def _named(charter: Charter, rules: Rules) -> Iterator[Mistake]:
    for who in rules.named:
        if not getattr(charter, who, ""):
            yield Mistake(f"{who}-missing", f"nobody is named as {who}",
                          f"add `{who}: name@example` (a house rule asks for it)", charter.position)


def _tenant(charter: Charter, tenants: list[str]) -> Iterator[Mistake]:
    if charter.tenant not in tenants:
        hint = did_you_mean(charter.tenant, tenants) or "add one with `sigillum tenant add`"
        yield Mistake("tenant-unknown", f"this workspace knows no tenant {charter.tenant!r}", hint, charter.position)


def _roles(charter: Charter, rules: Rules) -> Iterator[Mistake]:
    for grant in charter.grants:
        if grant.role in rules.forbidden_roles:
            yield Mistake("role-forbidden", f"a house rule forbids the role {grant.role!r}",
                          "choose a narrower role, or change `rules: forbidden_roles` in sigillum.yaml", grant.position)


def _credentials(charter: Charter, rules: Rules) -> Iterator[Mistake]:
    longest = rules.longest_credential_seconds
    for credential in charter.credentials:
        if credential.lasts_seconds > longest:
            yield Mistake("life-house", f"{credential.name} lasts {format_duration(credential.lasts_seconds)}, "
                          f"the house allows {format_duration(longest)}",
                          f"write `lasts: {format_duration(longest)}` or less", credential.position)


def _team(charter: Charter) -> Iterator[Mistake]:
    """What fits a team's charter, and what only an account's."""
    where = charter.identity.position
    if not charter.is_team:
        if charter.members or charter.identity.reach:
            yield Mistake("team-only", "`members` and `reach` are for a team", "write `kind: team`, or leave them out", where)
        return
    if charter.credentials or charter.identity.location:
        yield Mistake("team-signs-in", "a team has no credentials and no location: nobody signs in as a team",
                      "give them to its members' charters", where)
    if charter.identity.reach:
        return
    areas = charter.areas
    if not areas:
        yield Mistake("reach-missing", "it is not said how far the team reaches", "add `reach: [PLACE]` to `identity`", where)
    elif len(areas) > 1 or "/" not in areas[0]:
        yield Mistake("reach-several", f"the team's grants lie in {', '.join(areas)}, and a team reaches one area unless "
                      "more is said", f"add `reach: [{', '.join(areas)}]` to `identity`", where)


def _account(charter: Charter) -> Iterator[Mistake]:
    """What contradicts itself in an account, and what somebody else's account cannot be given here."""
    identity, where = charter.identity, charter.identity.position
    if identity.area and identity.wide:
        yield Mistake("area-and-wide", "the account lives in one area and is installation-wide", "keep one of them", where)
    if identity.kind == FOREIGN and charter.credentials:
        yield Mistake("foreign", "a foreign principal proves itself where it lives, and gets no credential here",
                      "leave `credentials` out", where)
    if (identity.kind == FOREIGN) != bool(identity.organisation):
        yield Mistake("foreign", "a foreign principal lives in an organisation, and nobody else does",
                      "write `kind: foreign` and `organisation: ...` together", where)
    if identity.web_only and any(c.kind != PASSWORD for c in charter.credentials):
        yield Mistake("web-only", "a web-only account signs in with its password, and nothing else",
                      "write `kind: password`, or leave `web_only` out", where)


def _client(charter: Charter, tenants: list[str]) -> Iterator[Mistake]:
    """What only a client has and can: permissions of APIs, shared secrets, rights in another tenant."""
    where = charter.identity.position
    if not charter.is_client:
        if charter.permissions:
            yield Mistake("client-only", "`permissions` are for a client: scopes of APIs are consented to clients only",
                          "write `kind: client`, or ask for roles in `grants`", charter.permissions[0].position)
        if charter.identity.redirects or charter.identity.audience != "tenant":
            yield Mistake("client-only", "`redirects` and `usable_in` are for a client",
                          "write `kind: client`, or leave them out", where)
    elif charter.sign_in or charter.licence or charter.identity.mailbox:
        yield Mistake("not-client", "`sign_in`, `licence` and `mailbox` are for accounts", "leave them out", where)
    elif charter.identity.area or charter.identity.wide or charter.identity.web_only:
        yield Mistake("not-client", "`area`, `installation_wide` and `web_only` are for accounts", "leave them out", where)
    elif charter.identity.location or charter.identity.reach or charter.members or charter.member_of:
        yield Mistake("not-client", "a client has no location, reach, team or members", "leave them out", where)
    for credential in charter.credentials:
        if credential.kind == SHARED_SECRET and not charter.is_client:
            yield Mistake("client-only", f"{credential.name}: only a client has a shared secret",
                          "write `kind: key-pair` or `kind: api-token`", credential.position)
        if credential.kind == API_TOKEN and charter.is_client:
            yield Mistake("not-client", f"{credential.name}: a client signs in, and has no API token",
                          "write `kind: key-pair` (better) or `kind: shared-secret`", credential.position)
        if charter.is_client and not charter.identity.confidential:
            yield Mistake("public-client", f"{credential.name}: a client that can keep no secret has no credential",
                          "leave `credentials` out, or `confidential: false`", credential.position)
    entries: list[GrantWant | ServiceWant | ProofWant] = [*charter.services, *charter.grants, *charter.proofs]
    for entry in entries:
        if entry.tenant and entry.tenant not in tenants:
            yield Mistake("tenant-unknown", f"this workspace knows no tenant {entry.tenant!r}",
                          did_you_mean(entry.tenant, tenants) or "add one with `sigillum tenant add`", entry.position)
        elif entry.tenant and entry.tenant != charter.tenant and charter.is_client and charter.identity.audience == "tenant":
            yield Mistake("usable-in", f"it acts in {entry.tenant}, and is registered for its home tenant only",
                          "add `usable_in: any-tenant` to `identity`", entry.position)
        elif entry.tenant and entry.tenant != charter.tenant and not charter.is_client:
            yield Mistake("elsewhere", f"only a client can act in another tenant ({entry.tenant})",
                          "write `kind: client`, or a charter of its own for that tenant", entry.position)
    for proof in charter.proofs:
        if proof.person and not charter.is_client:
            yield Mistake("client-only", "only a client acts on behalf of people", "leave `on_behalf_of` out", proof.position)


def _twice(charter: Charter) -> Iterator[Mistake]:
    def repeated(keys: list[tuple[str, Position | None]], what: str, mend: str) -> Iterator[Mistake]:
        seen: set[str] = set()
        for key, position in keys:
            if key in seen:
                yield Mistake(f"{what}-twice", f"{key} is asked for twice", mend, position)
            seen.add(key)
    yield from repeated([(c.name, c.position) for c in charter.credentials], "credential",
                        "give each credential a name of its own")
    yield from repeated([(p.key, p.position) for p in charter.permissions], "permission", "keep one")
    yield from repeated([(f"{g.key} {g.tenant}".strip(), g.position) for g in charter.grants], "grant",
                        "keep one; a role at a place can have one window")
    yield from repeated([(f"{s.key} {s.tenant}".strip(), s.position) for s in charter.services], "service", "keep one")
    yield from repeated([(r.name, r.position) for r in charter.roles], "role", "give each role a name of its own")
    yield from repeated([(m.name, m.position) for m in (*charter.member_of, *charter.members)], "membership", "keep one")
    for proof in charter.proofs:
        clash = next((p for p in charter.proofs if p.allowed != proof.allowed and p.permission == proof.permission
                      and p.at == proof.at and (p.tenant, p.person) == (proof.tenant, proof.person)), None)
        if clash is not None and proof.allowed:
            yield Mistake("proof-contradiction", f"{proof.permission} at {proof.at} both can and cannot",
                          "keep the one that is meant", proof.position)


def narrower(limits: Iterable[str], permissions: Iterable[str]) -> list[str]:
    """The limits that no grant covers: a credential can be narrower than the grants, never wider."""
    have = set(permissions)
    return [limit for limit in limits if limit not in have]


def widest(role: Thing) -> str:
    """The strongest class among a role's permissions."""
    classes = [c for _, c in role.get("permissions") or () if c in CLASSES]
    return max(classes, key=CLASSES.index, default="looks")


def allows(role: Thing) -> str:
    """A role's permissions, each with its class: shown wherever a role is chosen."""
    return ", ".join(f"{p} ({c.replace('-', ' ')})" for p, c in role.get("permissions") or ()) or "nothing"
