"""Windows of grants: how the ledger has them, and which one of somebody else's fits what is wanted."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

from sigillum.core.charter.charter import GrantWant
from sigillum.core.kinds.access import Grant
from sigillum.core.values.times import format_instant, parse_instant, whole_second, within_grain


def terms_of(want: GrantWant, now: datetime, known: Mapping[str, Any], grain: int = 1) -> dict[str, Any]:
    """The window to write, as the ledger has it: `for` counts from the first enacting, whose terms are `known`.

    `grain`: in seconds, of the ends that the tenant can have; it ends a little earlier than wanted.
    """
    asked = {
        "for": want.lasts_seconds,
        "from": format_instant(want.start) if want.start else None,
        "asked_until": format_instant(want.until) if want.until else None,
    }
    terms = {k: v for k, v in asked.items() if v is not None}
    if known and {k: v for k, v in known.items() if k != "until"} == terms:
        return dict(known)
    until = want.until
    if want.lasts_seconds is not None:
        begin = max(want.start, now) if want.start else now
        until = whole_second(begin) + timedelta(seconds=want.lasts_seconds)
    return {**terms, **({"until": format_instant(within_grain(until, grain))} if until else {})}


def instant(terms: Mapping[str, Any], name: str) -> datetime | None:
    return parse_instant(terms[name]) if terms.get(name) else None


def within(want: GrantWant, terms: Mapping[str, Any], body: Grant, now: datetime) -> dict[str, Any] | None:
    """The terms of one that may be taken over as it stands, since it has begun and ends within the time that is wanted."""
    until = instant(terms, "until")
    begun = body.start is None or body.start <= now
    if want.lasts_seconds is None or until is None or body.until is None or not (begun and now < body.until <= until):
        return None
    return {**terms, "until": format_instant(body.until)}
