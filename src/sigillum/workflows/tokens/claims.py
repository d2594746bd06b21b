"""Tokens: what one says, whether it is genuine, and whether it matches a trust."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, NamedTuple

from sigillum.core.charter.charter import Charter
from sigillum.core.federation.assertions import NoTokenError, TokenFault, Unverified, in_words, look, read
from sigillum.core.federation.trusts import DISCOVERY, Doubt, Match, Trust, about, match
from sigillum.core.values.errors import FileError, UsageError
from sigillum.core.values.outside import json_of
from sigillum.core.values.text import did_you_mean
from sigillum.protocols.http import Http
from sigillum.protocols.issuers import IssuerKeys, pinned
from sigillum.protocols.tokens import Keys, TokenRefusedError, verify
from sigillum.reading.given import data_of
from sigillum.tenants.port import now_at
from sigillum.workflows.desk.office import Office

MOST_BYTES = 100_000  # of a file that holds a token or claims


@dataclass(frozen=True, slots=True)
class TokenReading:
    """A token as it was read. `verified`: by whose keys; `unverified`: why that was not shown."""

    token: Unverified
    times: Mapping[str, str]
    findings: tuple[TokenFault, ...]
    verified: str = ""
    unverified: str = ""

    @property
    def good(self) -> bool:
        return not any(f.refuse for f in self.findings)


def look_at(text: str, audience: str = "") -> TokenReading:
    """Read a token as anybody could; nothing shows that it is genuine. Raises NoTokenError."""
    token, now = read(text), datetime.now(UTC)
    return TokenReading(
        token,
        in_words(token.claims, now),
        tuple(look(token, now, audience=audience)),
        unverified="nobody has shown that it is genuine; `--tenant TENANT` asks its issuer's keys",
    )


def look_against(office: Office, text: str, tenant_name: str, audience: str = "") -> TokenReading:
    """The same by a tenant's time and limits, and verified with the keys of its issuer where the workspace knows that one.

    Raises NoTokenError, UnreachableError.
    """
    token, tenant = read(text), office.tenants.reach(tenant_name)
    now = now_at(tenant, datetime.now(UTC))
    of_its_own = token.claims.get("iss") == token.claims.get("sub")  # the limit is one of assertions (RFC 7523 §3)
    most = tenant.profile.assertion_seconds if of_its_own else None
    findings = tuple(look(token, now, audience=audience, most_seconds=most))
    times, issuer = in_words(token.claims, now), str(token.claims.get("iss") or "")
    known = {tenant.profile.issuer: DISCOVERY, **{s.address: s.keys for s in office.workspace.issuers.values()}}
    if issuer not in known or not issuer:
        return TokenReading(
            token, times, findings, unverified="its issuer is neither that tenant nor one under `issuers` of sigillum.yaml"
        )
    try:
        verify(text, keys_of(office, issuer, known[issuer]), issuer=issuer, audience=str(_audience(token.claims)), now=now)
    except TokenRefusedError as problem:
        if problem.reason in ("signature", "form", "typ", "numbers"):
            return TokenReading(token, times, (*findings, TokenFault(problem.reason, problem.what)))
        if problem.reason not in {f.code for f in findings}:
            findings = (*findings, TokenFault(problem.reason, problem.what))
        return TokenReading(
            token,
            times,
            findings,
            unverified="what is wrong with it was found before its signature was looked at"
            if problem.reason.startswith(("alg", "crit"))
            else "",
        )
    return TokenReading(token, times, findings, verified=issuer)


def _audience(claims: Mapping[str, Any]) -> Any:
    value = claims.get("aud")
    return value[0] if isinstance(value, list) and len(value) == 1 else value


def keys_of(office: Office, issuer: str, keys: str) -> Keys:
    """Where an issuer's keys are: found by itself, or pinned in a file of the workspace."""
    if keys == DISCOVERY:
        settings = office.settings
        return IssuerKeys(Http(origins=[issuer], timeout_seconds=settings.timeout_seconds, log=settings.log), issuer)
    path = keys.removeprefix("file:")

    def read_(anew: bool) -> list[dict[str, Any]]:
        from sigillum.reading.document import read_text

        return pinned(read_text(office.workspace.folder / path, path), path)

    return read_


# --- trusts -------------------------------------------------------------------------------------------------------------
class Tried(NamedTuple):
    """One trust, held against claims; `doubts`: what is too wide about it."""

    trust: Trust
    match: Match
    doubts: tuple[Doubt, ...]


@dataclass(frozen=True, slots=True)
class TrustTrial:
    """Claims against the trusts of a charter. `unverified`: they came as a token, whose signature nobody looked at."""

    charter: Charter
    tried: tuple[Tried, ...]
    findings: tuple[TokenFault, ...] = ()
    token: bool = False

    @property
    def matching(self) -> tuple[Tried, ...]:
        return tuple(t for t in self.tried if t.match.holds)


def try_trusts(office: Office, text: str, charter_name: str, only: str = "") -> TrustTrial:
    """Hold a token, or claims as JSON, against the trusts of a charter. Raises FileError, UsageError."""
    charter = office.charters([charter_name])[0]
    wants = [w for w in charter.trusts if not only or w.name == only]
    if not wants:
        known = [w.name for w in charter.trusts]
        lacking = f"trust {only!r}" if only else "trusts"
        raise UsageError(
            f"{charter.name} has no {lacking}", where="trust try", mend=did_you_mean(only, known) or "write some under `trusts`"
        )
    claims, findings, token = _claims(text)
    name = charter.identity.name
    tried = tuple(Tried(w.trust, match(w.trust, claims, name), tuple(about(w.trust, w.issuer))) for w in wants)
    return TrustTrial(charter, tried, findings, token)


def _claims(text: str) -> tuple[Mapping[str, Any], tuple[TokenFault, ...], bool]:
    """The claims of a token or of a JSON object. Raises FileError."""
    if text.lstrip().startswith("{"):
        try:
            found = json_of(text, once=True)
        except ValueError as problem:
            raise FileError(
                f"the claims cannot be read: {problem}", where="the claims", mend="write one JSON object"
            ) from problem
        return found, (), False
    token = read(text)
    return token.claims, tuple(f for f in look(token, datetime.now(UTC)) if f.refuse), True


def text_of(file: str) -> str:
    """The text of a file, or of standard input. Raises FileError."""
    data = data_of(file, MOST_BYTES)
    if len(data) > MOST_BYTES:
        raise NoTokenError("it is too big for a token", where=file, mend="give a JWT in compact form, or claims as JSON")
    try:
        return data.decode()
    except UnicodeDecodeError as problem:
        raise NoTokenError("it is no text", where=file, mend="give a JWT in compact form, or claims as JSON") from problem
