"""House rules: the bounds that `sigillum.yaml` sets, and checking a charter against them without a tenant."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date
from typing import NamedTuple

from sigillum.core.charter.charter import ACCOUNT, Charter, GrantWant, ProofWant, ServiceWant
from sigillum.core.values.errors import Mistake, Position
from sigillum.core.values.text import BECAUSE_CLASSES, did_you_mean


class Consumer(NamedTuple):
    """Who uses a credential, as far as the house describes that.

    `used_every`: the longest time between two uses, in seconds; `picks_up`: how many seconds after a new one is given it reads
    that, or `restart` or `by-hand`; `address`: the address or network from which it signs in.
    """

    name: str
    used_every: int | None = None
    picks_up: int | str = 0
    address: str = ""


@dataclass(frozen=True, slots=True)
class HouseRules:
    """What a charter may ask. Durations in seconds."""

    longest_credential_seconds: int = 365 * 86_400
    forbidden_roles: frozenset[str] = frozenset()
    named: tuple[str, ...] = ("owner",)
    because: frozenset[str] = BECAUSE_CLASSES
    longest_loan_seconds: int = 86_400
    delegable_scopes: frozenset[str] = frozenset()  # none said: whichever
    delegation_to_all: bool = False
    consumers: Mapping[str, Consumer] = field(default_factory=dict)  # those that are described, by their names
    quiet_seconds: int = 7 * 86_400  # how long a consumer may be silent that is not described


OUR_NOTE = re.compile(r"\[(?:sigillum|password|certificate):", re.I)
LEANING = frozenset(("proof-credential", "proof-trust", "proof-scope", "half-missing", "client-only", "reach-missing"))
# what these say may be so only because a section is left out that has mistakes of its own


def check(charter: Charter, rules: HouseRules, tenants: Iterable[str]) -> list[Mistake]:
    """What can be said against a charter as a whole; each facet's own module checks its section."""
    tenants = list(tenants)
    return [
        *_named(charter, rules),
        *_marked(charter),
        *unknown_tenant(charter.tenant, tenants, charter.position),
        *_elsewhere(charter, tenants),
        *_twice(charter),
    ]


def reviews(charter: Charter) -> list[tuple[str, date]]:
    """What of a charter is to be looked at again, and when: itself, its exemption, the rule that it relaxes,
    and credentials without an end.
    """
    found = [("the charter", charter.review)] if charter.review is not None else []
    found += [(f"{c.name}, which has no end,", c.endless.review) for c in charter.credentials if c.endless is not None]
    if charter.sign_in is not None:
        found += [(f"the exemption from {e.rule}", e.review) for e in [charter.sign_in.exempt] if e is not None]
        found += [(f"the relaxed rule {r.rule}", r.review) for r in [charter.sign_in.relax] if r is not None]
        found += [(f"the sign-in rule {r.name}", r.review) for r in charter.sign_in.rules]
    return found


def overdue(charter: Charter, today: date) -> list[str]:
    """The reviews of a charter that were due before today, in words."""
    return [f"{what} was to be looked at again on {day.isoformat()}" for what, day in reviews(charter) if day < today]


def _marked(charter: Charter) -> Iterator[Mistake]:
    """What looks like our own mark in a text that a tenant shows would be taken for one."""
    for name, text in (("display", charter.identity.display), ("purpose", charter.purpose)):
        if OUR_NOTE.search(text):
            what = f"`{name}` holds what Sigillum marks its own with"
            yield Mistake("mark", what, "leave the part in brackets out", charter.position)


def _named(charter: Charter, rules: HouseRules) -> Iterator[Mistake]:
    for who in rules.named:
        if not getattr(charter, who, ""):
            yield Mistake(
                f"{who}-missing",
                f"nobody is named as {who}",
                f"add `{who}: name@example` (a house rule asks for it)",
                charter.position,
            )


def unknown_tenant(name: str, tenants: Iterable[str], position: Position | None) -> Iterator[Mistake]:
    """Nothing, where the workspace knows it."""
    if name not in (known := list(tenants)):
        yield Mistake("tenant-unknown", f"this workspace knows no tenant {name!r}", did_you_mean(name, known), position)


def _elsewhere(charter: Charter, tenants: list[str]) -> Iterator[Mistake]:
    """Entries in another tenant than home, and people on whose behalf it acts: only a client has them."""
    entries: list[GrantWant | ServiceWant | ProofWant] = [*charter.services, *charter.grants, *charter.proofs]
    for entry in entries:
        if entry.tenant:
            yield from unknown_tenant(entry.tenant, tenants, entry.position)
        if entry.tenant in ("", charter.tenant) or entry.tenant not in tenants:
            continue
        if charter.is_client and charter.identity.audience == "tenant":
            yield Mistake(
                "usable-in",
                f"it acts in {entry.tenant}, and is registered for its home tenant only",
                "add `usable_in: any-tenant` to `identity`",
                entry.position,
            )
        elif charter.is_team:
            yield Mistake(
                "elsewhere",
                f"a team does not act in another tenant ({entry.tenant})",
                "write a charter of its own for that tenant",
                entry.position,
            )
    for proof in charter.proofs:
        if proof.person and not charter.is_client:
            yield Mistake(
                "client-only",
                "only a client, or who has a delegation, acts on behalf of people; looking after a directory is another thing",
                "leave `on_behalf_of` out, or add `delegation:`",
                proof.position,
            )
        yield from _names(charter, proof)
    for proof in charter.sign_ins:
        if proof.sign_in is not None and proof.sign_in.outside:
            yield from _outsider(charter, proof)
        elif proof.sign_in is not None and not proof.sign_in.who and charter.identity.kind != ACCOUNT:
            yield Mistake(
                "sign-in-account",
                "sign-in is expected of accounts, and this identity is none",
                "name the account: `as: NAME`",
                proof.position,
            )


def _outsider(charter: Charter, proof: ProofWant) -> Iterator[Mistake]:
    """Whoever comes from outside comes by a trust of this charter, and its subject is put together as the issuer's are."""
    assert proof.sign_in is not None
    own = [w.name for w in charter.trusts]
    if proof.sign_in.trust and proof.sign_in.trust not in own:
        yield Mistake(
            "proof-trust",
            f"this charter has no trust {proof.sign_in.trust!r}",
            did_you_mean(proof.sign_in.trust, own) or "name one of `trusts`",
            proof.position,
        )
    for wrong in proof.sign_in.wrong:
        yield Mistake("trust-subject", wrong.what, wrong.mend, proof.position)


def _names(charter: Charter, proof: ProofWant) -> Iterator[Mistake]:
    """What a proof names has to stand in the charter: its credential, and the role whose window it lasts as long as."""
    own = [c.name for c in charter.credentials]
    if proof.credential and proof.credential not in own:
        yield Mistake(
            "proof-credential",
            f"this charter has no credential {proof.credential!r}",
            did_you_mean(proof.credential, own),
            proof.position,
        )
    home = charter.tenant
    windowed = [g.role for g in charter.grants if g.windowed and (g.tenant or home) == (proof.tenant or home)]
    if proof.during and proof.during not in windowed:
        yield Mistake(
            "proof-window",
            f"no grant of this charter gives {proof.during!r} for a window",
            did_you_mean(proof.during, windowed) or "give the grant a window: `for`, or `from` and `until`",
            proof.position,
        )


def _twice(charter: Charter) -> Iterator[Mistake]:
    def repeated(keys: list[tuple[str, Position | None]], what: str, mend: str) -> Iterator[Mistake]:
        seen: set[str] = set()
        for key, position in keys:
            if key in seen:
                yield Mistake(f"{what}-twice", f"{key} is asked for twice", mend, position)
            seen.add(key)

    yield from repeated(
        [(c.name, c.position) for c in charter.credentials], "credential", "give each credential a name of its own"
    )
    yield from repeated([(f"{p.api}:{p.scope} {p.acts}", p.position) for p in charter.permissions], "permission", "keep one")
    yield from repeated(
        [(f"{g.words()} {g.tenant}".strip(), g.position) for g in charter.grants],
        "grant",
        "keep one; a role at a place can have one window",
    )
    yield from repeated([(f"{s.words()} {s.tenant}".strip(), s.position) for s in charter.services], "service", "keep one")
    yield from repeated([(r.name, r.position) for r in charter.roles], "role", "give each role a name of its own")
    yield from repeated([(m.name, m.position) for m in (*charter.member_of, *charter.members)], "membership", "keep one")
    for proof in charter.proofs:
        clash = next(
            (
                p
                for p in charter.proofs
                if p.allowed != proof.allowed
                and p.permission == proof.permission
                and p.at == proof.at
                and (p.tenant, p.person) == (proof.tenant, proof.person)
                and (p.credential == proof.credential or not (p.credential and proof.credential))
            ),
            None,
        )
        if clash is not None and proof.allowed:
            yield Mistake(
                "proof-contradiction",
                f"{proof.permission} at {proof.at} both can and cannot",
                "keep the one that is meant",
                proof.position,
            )


def narrower(limits: Iterable[str], permissions: Iterable[str]) -> list[str]:
    """The limits that no grant covers: a credential can be narrower than the grants, never wider."""
    have = set(permissions)
    return [limit for limit in limits if limit not in have]
