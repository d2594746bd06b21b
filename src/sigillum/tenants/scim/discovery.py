"""What a tenant of ours can do: its resource types, kept for a while, and its profile, asked in the same round."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any, NamedTuple

from sigillum.core.values.errors import UnreachableError
from sigillum.core.values.times import format_instant, parse_instant
from sigillum.protocols.scim import ScimClient, ScimRefusedError
from sigillum.protocols.together import together
from sigillum.tenants.port import Link

from .codecs import KIND_OF_SCHEMA, USUAL_ENDPOINTS
from .words import Json, many, text

KEPT_SECONDS = 600  # so long resource types are believed; after it, their version is asked
TYPES, PROFILE, USUAL_PROFILE = "/ResourceTypes", "profile", "/TenantProfiles"
NOT_THERE = (404, 501)


class Found(NamedTuple):
    """Endpoints by kind, schema extensions, the profile in force, and how old the first two are."""

    endpoints: dict[str, str]
    extensions: frozenset[str]
    profile: Json | None
    known_seconds: float


def discover(scim: ScimClient, link: Link, *, anew: bool, at_once: bool) -> Found:
    """Two requests at the same time, one where its types are kept. A plain SCIM server without a profile is a valid tenant.

    Raises UnreachableError, RefusedError.
    """
    kept = _Kept.of(link.kept() if link.kept is not None and not anew else None, scim.base)
    guess = kept.endpoints.get(PROFILE, USUAL_PROFILE)

    def types() -> _Kept:
        return kept if kept.young else _types(scim, kept)

    def profile() -> list[Json] | ScimRefusedError:
        try:
            return list(scim.find(guess, ""))
        except ScimRefusedError as problem:
            if problem.status == 401:
                raise
            return problem

    calls: list[Any] = [types, profile]
    known, all_ = together(calls) if at_once else [call() for call in calls]
    if link.keep is not None and known is not kept:
        link.keep(known.content(scim.base))
    endpoints = known.endpoints or dict(USUAL_ENDPOINTS)
    if PROFILE not in endpoints:
        all_ = []
    elif endpoints[PROFILE] != guess:
        all_ = list(scim.find(endpoints[PROFILE], ""))
    elif isinstance(all_, ScimRefusedError):
        raise all_
    found = next((p for p in all_ if p.get("inForce") is True), all_[0] if len(all_) == 1 else None)
    return Found(endpoints, known.extensions, found, known.age_seconds)


class _Kept(NamedTuple):
    """Resource types as they were read, and when; without endpoints: the server has no such list."""

    endpoints: dict[str, str]
    extensions: frozenset[str] = frozenset()
    version: str = ""
    at: datetime = datetime.min.replace(tzinfo=UTC)

    @classmethod
    def of(cls, content: Any, base: str) -> _Kept:
        """What was kept, where it is of this address and can be read; else nothing, which is old."""
        try:
            if content is None or content["address"] != base:
                return cls({})
            endpoints = {str(k): str(v) for k, v in content["endpoints"].items()}
            extensions = frozenset(map(str, content["extensions"]))
            return cls(endpoints, extensions, str(content["version"]), parse_instant(content["at"]))
        except (KeyError, TypeError, ValueError, AttributeError):
            return cls({})

    def content(self, base: str) -> Json:
        return {
            "address": base,
            "at": format_instant(self.at),
            "version": self.version,
            "endpoints": self.endpoints,
            "extensions": sorted(self.extensions),
        }

    @property
    def age_seconds(self) -> float:
        return (datetime.now(UTC) - self.at).total_seconds()

    @property
    def young(self) -> bool:
        return 0 <= self.age_seconds <= KEPT_SECONDS


def _types(scim: ScimClient, kept: _Kept) -> _Kept:
    """Its resource types (RFC 7644 §4), asked by the version that is kept, where there is one."""
    now = datetime.now(UTC)
    try:
        answer = scim.changed(TYPES, kept.version)
    except ScimRefusedError as problem:
        if problem.status not in NOT_THERE:
            raise
        return _Kept({}, at=now)
    if answer is None:
        return kept._replace(at=now)
    body, whole = answer.json, True
    if isinstance(body, dict):
        found, total = body.get("Resources") or [], body.get("totalResults")
        whole = not isinstance(total, int) or total <= len(found)
    else:
        found = body  # some servers answer with a bare list
    if not isinstance(found, list):
        raise UnreachableError(
            "the list has no resources in it",
            where=f"{scim.base}{TYPES}",
            mend="check the address: is it the tenant's SCIM base?",
        )
    all_ = [t for t in found if isinstance(t, dict)] if whole else list(scim.find(TYPES, ""))
    endpoints = {
        KIND_OF_SCHEMA[text(t.get("schema"))]: text(t["endpoint"])
        for t in all_
        if text(t.get("schema")) in KIND_OF_SCHEMA and text(t.get("endpoint")).startswith("/")
    }
    extensions = {text(e.get("schema")) for t in all_ for e in many(t.get("schemaExtensions"))}
    return _Kept(endpoints, frozenset(extensions), answer.headers.get("ETag", "") if whole else "", now)
