"""A charter as it is understood, with its defaults filled in."""

from __future__ import annotations

from typing import Any

from rich.console import Group, RenderableType
from rich.text import Text

from sigillum.core.charter import Charter, GrantWant
from sigillum.core.times import format_duration, format_instant

from .common import Ident, pairs, table


def _window(grant: GrantWant) -> str:
    parts = [f"from {format_instant(grant.start)}"] if grant.start else []
    if grant.lasts_seconds:
        parts.append(f"for {format_duration(grant.lasts_seconds)} from the first enacting")
    if grant.until:
        parts.append(f"until {format_instant(grant.until)}")
    return ", ".join(parts) or "no end"


def text(charter: Charter, ident: Ident) -> RenderableType:
    parts: list[RenderableType] = [pairs([
        ("charter", charter.name), ("tenant", charter.tenant), ("stage", charter.stage or "(none)"),
        ("purpose", charter.purpose), ("owner", ident(charter.owner)), ("deputy", ident(charter.deputy) or "(none)"),
        ("review", charter.review or "(none)"), ("ticket", charter.ticket or "(none)"),
        ("identity", f"{charter.identity.kind} {charter.identity.name} ({charter.identity.display})")])]
    if charter.grants:
        parts += ["", Text("grants", "bold"), table(("role", "at", "window", "because"), [
            (g.role, g.at, _window(g), g.because) for g in charter.grants])]
    if charter.credentials:
        parts += ["", Text("credentials", "bold"), table(("name", "kind", "lasts", "due before", "limits", "kept in"), [
            (c.name, c.kind, format_duration(c.lasts_seconds), format_duration(c.renew_before_seconds),
             ", ".join(c.limits) or "none", c.keep_in) for c in charter.credentials])]
    if charter.proofs:
        parts += ["", Text("proofs", "bold"), *[Text(p.words()) for p in charter.proofs]]
    return Group(*parts)


def as_json(charter: Charter) -> dict[str, Any]:
    return {
        "charter": charter.name, "tenant": charter.tenant, "stage": charter.stage, "purpose": charter.purpose,
        "owner": charter.owner, "deputy": charter.deputy, "ticket": charter.ticket,
        "review": charter.review.isoformat() if charter.review else None,
        "identity": {"kind": charter.identity.kind, "name": charter.identity.name, "display": charter.identity.display},
        "grants": [{"role": g.role, "at": g.at, "because": g.because, "for_seconds": g.lasts_seconds,
                    "from": format_instant(g.start) if g.start else None,
                    "until": format_instant(g.until) if g.until else None} for g in charter.grants],
        "credentials": [{"name": c.name, "kind": c.kind, "lasts_seconds": c.lasts_seconds,
                         "renew_before_seconds": c.renew_before_seconds, "limits": list(c.limits),
                         "keep_in": c.keep_in, "consumers": list(c.consumers)} for c in charter.credentials],
        "proofs": [p.words() for p in charter.proofs],
    }
