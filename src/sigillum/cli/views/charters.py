"""A charter as it is understood, with its defaults filled in."""

from __future__ import annotations

from typing import Any

from rich.console import Group, RenderableType
from rich.text import Text

from sigillum.core.charter.charter import Charter, CredentialWant, GrantWant
from sigillum.core.values.times import format_duration, format_instant

from .common import Ident, pairs, table


def _window(grant: GrantWant) -> str:
    parts = [f"from {format_instant(grant.start)}"] if grant.start else []
    if grant.lasts_seconds:
        parts.append(f"for {format_duration(grant.lasts_seconds)} from the first enacting")
    if grant.until:
        parts.append(f"until {format_instant(grant.until)}")
    return ", ".join(parts) or "no end"


def _only(grant: GrantWant) -> str:
    return " and ".join(f"{name} is {' or '.join(values)}" for name, values in grant.where) or "everywhere there"


def _more(charter: Charter) -> list[tuple[str, str]]:
    """What only some charters have."""
    told = [
        ("location", charter.identity.location),
        ("reach", ", ".join(charter.reach) if charter.is_team else ""),
        ("like", charter.like),
        ("services", ", ".join(f"{s.service} at {s.at}" for s in charter.services)),
        ("member of", ", ".join(m.name for m in charter.member_of)),
        ("members", ", ".join(m.name for m in charter.members)),
        ("trusts", "; ".join(f"{w.trust.subject or 'whoever matches'} of {w.trust.issuer}" for w in charter.trusts)),
    ]
    if charter.workload is not None:
        want = charter.workload
        told.append(("workload", f"{', '.join(want.programs)} as {want.words} of {want.tenant}"))
    if charter.signing is not None:
        told.append(("signed for by", f"{charter.tenant}, on the machine {charter.signing.machine}"))
    if charter.delegation is not None:
        told.append(
            (
                "acts for",
                f"{', '.join(charter.delegation.people)} of {charter.delegation.domain}: "
                + ", ".join(charter.delegation.names),
            )
        )
    return [(name, value) for name, value in told if value]


def text(charter: Charter, ident: Ident) -> RenderableType:
    parts: list[RenderableType] = [
        pairs(
            [
                ("charter", charter.name),
                ("tenant", charter.tenant),
                ("stage", charter.stage or "(none)"),
                ("purpose", charter.purpose),
                ("owner", ident(charter.owner)),
                ("deputy", ident(charter.deputy) or "(none)"),
                ("review", charter.review or "(none)"),
                ("ticket", charter.ticket or "(none)"),
                ("identity", f"{charter.identity.kind} {charter.identity.name} ({charter.identity.display})"),
                *_more(charter),
            ]
        )
    ]
    if charter.roles:
        parts += [
            "",
            Text("roles", "bold"),
            table(("name", "permissions"), [(r.name, ", ".join(r.permissions)) for r in charter.roles]),
        ]
    if charter.grants:
        parts += [
            "",
            Text("grants", "bold"),
            table(
                ("role", "at", "only", "window", "because"),
                [(g.role, f"{g.at}{f' to {g.to}' if g.to else ''}", _only(g), _window(g), g.because) for g in charter.grants],
            ),
        ]
    if charter.credentials:
        parts += [
            "",
            Text("credentials", "bold"),
            table(
                ("name", "kind", "lasts", "due before", "limits", "kept in"),
                [(c.name, c.kind, *_life(c), ", ".join(c.limits) or "none", c.keep_in) for c in charter.credentials],
            ),
        ]
    if charter.expectations:
        parts += ["", Text("proofs", "bold"), *[Text(p.words()) for p in charter.expectations]]
    return Group(*parts)


def _life(want: CredentialWant) -> tuple[str, str]:
    if want.endless is not None:
        return f"never ends: {want.endless.accepted_by}, {want.endless.why}", f"review {want.endless.review.isoformat()}"
    return format_duration(want.lasts_seconds), format_duration(want.renew_before_seconds)


def as_json(charter: Charter) -> dict[str, Any]:
    return {
        "charter": charter.name,
        "tenant": charter.tenant,
        "stage": charter.stage,
        "purpose": charter.purpose,
        "owner": charter.owner,
        "deputy": charter.deputy,
        "ticket": charter.ticket,
        "review": charter.review.isoformat() if charter.review else None,
        "identity": {
            "kind": charter.identity.kind,
            "name": charter.identity.name,
            "display": charter.identity.display,
            "location": charter.identity.location,
            "reach": list(charter.reach) if charter.is_team else [],
        },
        "like": charter.like,
        "services": [{"service": s.service, "at": s.at} for s in charter.services],
        "roles": [{"name": r.name, "display": r.display, "permissions": list(r.permissions)} for r in charter.roles],
        "member_of": [m.name for m in charter.member_of],
        "members": [m.name for m in charter.members],
        "grants": [_grant(g) for g in charter.grants],
        "credentials": [_credential(c) for c in charter.credentials],
        "trusts": [
            {
                "name": w.name,
                "issuer": w.trust.issuer,
                "audience": w.trust.audience,
                "subject": w.trust.subject,
                "when": [c.words() for c in w.trust.when],
            }
            for w in charter.trusts
        ],
        **_outside(charter),
        "proofs": [p.words() for p in charter.expectations],
    }


def _grant(want: GrantWant) -> dict[str, Any]:
    return {
        "role": want.role,
        "at": want.at,
        "because": want.because,
        "for_seconds": want.lasts_seconds,
        "from": format_instant(want.start) if want.start else None,
        "until": format_instant(want.until) if want.until else None,
        "where": {name: list(values) for name, values in want.where},
        "to": want.to,
    }


def _credential(want: CredentialWant) -> dict[str, Any]:
    return {
        "name": want.name,
        "kind": want.kind,
        "lasts_seconds": want.lasts_seconds if want.endless is None else None,
        "renew_before_seconds": want.renew_before_seconds if want.endless is None else None,
        "limits": list(want.limits),
        "keep_in": want.keep_in,
        "purpose": want.purpose,
        "consumers": list(want.consumers),
    }


def _outside(charter: Charter) -> dict[str, Any]:
    """What acts as it, and for whom it acts, where that is wanted."""
    found, runs, people = dict[str, Any](), charter.workload, charter.delegation
    if runs is not None:
        found["workload"] = {
            "tenant": runs.tenant,
            "compartment": runs.compartment,
            "account": runs.account,
            "programs": list(runs.programs),
        }
    if people is not None:
        found["delegation"] = {"domain": people.domain, "people": list(people.people), "scopes": list(people.names)}
    return found
