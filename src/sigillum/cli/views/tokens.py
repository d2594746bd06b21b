"""Tokens and trusts: what is said, what is wrong, which condition holds."""

from __future__ import annotations

import json
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

from rich.console import Group, RenderableType
from rich.text import Text

from sigillum.core.federation.assertions import in_words
from sigillum.core.federation.conditions import Tested
from sigillum.core.federation.subjects import difference
from sigillum.core.values.text import plain
from sigillum.workflows.tokens.assertions import Minted
from sigillum.workflows.tokens.claims import TokenReading, Tried, TrustTrial

from .common import Ident, masked, pairs, table

WIDEST = 90  # characters of a text in which a difference is marked


def text(found: TokenReading, ident: Ident) -> RenderableType:
    """Header, claims, times, and what is wrong."""
    claims = {n: f"{v}  {found.times[n]}" if n in found.times else _value(v, ident) for n, v in found.token.claims.items()}
    parts: list[RenderableType] = [
        Text("header", "bold"),
        pairs((plain(n), _value(v, ident)) for n, v in found.token.header.items()),
        Text(""),
        Text("claims", "bold"),
        pairs((plain(n), v) for n, v in claims.items()),
        Text(""),
    ]
    for finding in found.findings:
        parts.append(Text(f"{'wrong' if finding.refuse else 'note '}  {plain(finding.what)}", "red" if finding.refuse else ""))
    if found.findings:
        parts.append(Text(""))
    if found.verified:
        parts.append(Text(f"Verified: a key of {found.verified} signed it.", "green"))
    elif found.unverified:
        parts.append(Text(f"Unverified: {found.unverified}.", "yellow"))
    return Group(*parts, Text("Nobody should take it." if not found.good else "Nothing is wrong with it on its face.", "bold"))


def minted(made: Minted, ident: Ident) -> RenderableType:
    """What an assertion will say, before it is encoded."""
    times = in_words(made.claims, datetime.fromtimestamp(made.claims["iat"], UTC))
    claims = ((n, f"{v}  {times[n]}" if n in times else _value(v, ident)) for n, v in made.claims.items())
    if made.by_tenant:
        return Group(
            Text("header", "bold"),
            Text("made by the tenant, which signs it with a key that nobody has"),
            Text(""),
            Text("claims", "bold"),
            pairs(claims),
            Text(""),
        )
    return Group(
        Text("header", "bold"),
        pairs((n, _value(v, ident)) for n, v in made.header.items()),
        Text(""),
        Text("claims", "bold"),
        pairs(claims),
        Text(""),
    )


def _value(value: Any, ident: Ident) -> str:
    return masked(plain(value) if isinstance(value, str) else plain(json.dumps(value, ensure_ascii=False)), ident)


def as_json(found: TokenReading) -> dict[str, Any]:
    return {
        "header": dict(found.token.header),
        "claims": dict(found.token.claims),
        "times": dict(found.times),
        "verified": bool(found.verified),
        "issuer": found.verified,
        "why_not": found.unverified,
        "good": found.good,
        "findings": [{"code": f.code, "what": f.what, "refuse": f.refuse} for f in found.findings],
    }


# --- trusts -------------------------------------------------------------------------------------------------------------
def trial(found: TrustTrial) -> RenderableType:
    """Each trust with its conditions; where one does not hold, the difference is marked in the text."""
    parts: list[RenderableType] = []
    for tried in found.tried:
        parts += [
            Text.assemble((tried.trust.name, "bold"), f"  {tried.trust.issuer}"),
            table(
                ("condition", "came", "why"), ((v.test.words(), _came(v), v.why) for v in tried.match.verdicts), whole=("came",)
            ),
        ]
        nearest = tried.match.nearest
        if nearest is not None and nearest.wanted:
            parts += [Text(""), marked(nearest)]
        parts += [Text(f"warning  {d.what}; {d.mend}", "yellow") for d in tried.doubts]
        parts.append(Text(""))
    parts += [Text(f"wrong  {f.what}", "red") for f in found.findings]
    names = ", ".join(t.trust.name for t in found.matching)
    who = found.charter.identity.name
    said = f"It matches {names}: whoever holds it may act as {who}." if names else f"It matches no trust of {who}."
    if names and found.findings:
        said = f"It matches {names}, and is accepted nowhere: {found.findings[0].what}."
    elif len(found.matching) > 1:
        said += " A request names which."
    parts.append(Text(said, "bold"))
    if found.token:
        parts.append(Text("No signature was looked at: `sigillum token read --tenant TENANT` does that.", "yellow"))
    return Group(*parts)


def _came(verdict: Tested) -> Text:
    return Text("holds", "green") if verdict.holds else Text("does not hold", "bold red")


def marked(verdict: Tested) -> RenderableType:
    """Both texts, and a mark below the first character in which they differ."""
    place = verdict.agrees
    start = max(0, place - WIDEST // 2)
    lead = "..." if start else ""
    rows = [
        f"{name:<8}{lead}{plain(value[start : start + WIDEST])}"
        for name, value in (("stands", verdict.found), ("wanted", verdict.wanted))
    ]
    mark = " " * (8 + len(lead) + place - start) + "^ " + difference(verdict.found, verdict.wanted, place)
    return Text("\n".join([*rows, mark]), no_wrap=True, overflow="fold")


def trial_json(found: TrustTrial) -> dict[str, Any]:
    return {
        "charter": found.charter.name,
        "matches": [t.trust.name for t in found.matching],
        "token": found.token,
        "trusts": [_one_json(t) for t in found.tried],
        "findings": [{"code": f.code, "what": f.what} for f in found.findings],
    }


def _one_json(tried: Tried) -> Mapping[str, Any]:
    return {
        "name": tried.trust.name,
        "issuer": tried.trust.issuer,
        "audience": tried.trust.audience,
        "subject": tried.trust.subject,
        "holds": tried.match.holds,
        "conditions": [
            {"claim": list(v.test.claim), "test": v.test.op, "value": v.test.value, "holds": v.holds, "why": v.why}
            for v in tried.match.verdicts
        ],
        "doubts": [{"code": d.code, "what": d.what, "do": d.mend} for d in tried.doubts],
    }
