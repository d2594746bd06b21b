"""Signed tokens (JWT, RFC 7519) as anybody can read them: nothing here shows that one is genuine."""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime, timedelta
from typing import Any, NamedTuple

from sigillum.core.values.errors import FileError
from sigillum.core.values.outside import json_of
from sigillum.core.values.text import plain
from sigillum.core.values.times import format_instant, rough_duration

from .conditions import MOST_WHOLE

MOST_BYTES, MOST_DEPTH = 16_384, 8
SEGMENT = re.compile(r"[A-Za-z0-9_-]*\Z")
ALGORITHMS = ("Ed25519", "EdDSA", "ES256", "RS256")
OWN_KEYS = ("jwk", "jku", "x5u", "x5c")  # header members in which a token names its own key
LEEWAY = timedelta(seconds=60)


class NoTokenError(FileError):
    """A text that is no signed token in compact form."""

    code = "no-token"


class Unverified(NamedTuple):
    """A token's header and claims as they stand in it. Nobody has shown that they are true."""

    header: Mapping[str, Any]
    claims: Mapping[str, Any]


class TokenFault(NamedTuple):
    """Something that is wrong with a token, or worth knowing; `refuse`: nobody should take it."""

    code: str
    what: str
    refuse: bool = True


def read(text: str) -> Unverified:
    """Header and claims of a token in compact form (RFC 7515 §7.1). Raises NoTokenError, for what is too big or too deep,
    and for names that stand twice, too.
    """
    whole = text.strip()
    if len(whole.encode()) > MOST_BYTES:
        raise _no(f"it is longer than {MOST_BYTES} bytes")
    parts = whole.split(".")
    if len(parts) == 5:
        raise _no("it is encrypted (JWE), and only whom it is for can read it")
    if len(parts) != 3:
        raise _no("a signed token has three parts, with dots between them")
    header, claims = _object(parts[0], "header"), _object(parts[1], "claims")
    if not SEGMENT.match(parts[2]):
        raise _no("its signature is no base64url")
    return Unverified(header, claims)


def _no(what: str) -> NoTokenError:
    return NoTokenError(f"this is no token: {what}", where="the token", mend="give a JWT in compact form, whole and alone")


def _object(segment: str, name: str) -> dict[str, Any]:
    """A part of a token: strict base64url without padding, of one JSON object."""
    if not SEGMENT.match(segment) or len(segment) % 4 == 1:
        raise _no(f"its {name} is no base64url")
    try:
        decoded = base64.b64decode(segment + "=" * (-len(segment) % 4), altchars=b"-_", validate=True)
        found = json_of(decoded.decode(), once=True, most_depth=MOST_DEPTH)
    except (binascii.Error, ValueError) as problem:
        raise _no(f"its {name} cannot be read ({plain(problem)[:60]})") from problem
    if not isinstance(found, dict):
        raise _no(f"its {name} is no object")
    return found


def moment(value: Any) -> datetime | None:
    """A NumericDate (RFC 7519 §2); None where it is none."""
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not 0 <= value < 253_402_300_800:
        return None
    return datetime.fromtimestamp(value, UTC)


# --- what is wrong with it ----------------------------------------------------------------------------------------------
def look(token: Unverified, now: datetime, *, audience: str = "", most_seconds: int | None = None) -> Iterator[TokenFault]:
    """What is wrong with it at an instant, without its issuer's keys. `most_seconds`: the longest life that a tenant takes."""
    yield from _header(token.header)
    yield from _who(token.claims, audience)
    yield from _times(token.claims, now, most_seconds)


def _header(header: Mapping[str, Any]) -> Iterator[TokenFault]:
    algorithm = header.get("alg")
    if not isinstance(algorithm, str) or algorithm.lower() == "none":
        yield TokenFault("alg-none", "it is not signed: its algorithm is none")
    elif algorithm not in ALGORITHMS:
        secret = " (it is signed with a shared secret)" if algorithm.startswith("HS") else ""
        yield TokenFault(
            "alg-unknown", f"its algorithm {plain(algorithm)} is not taken{secret}; known: {', '.join(ALGORITHMS)}"
        )
    if "crit" in header:
        yield TokenFault("crit-unknown", f"it demands {plain(header['crit'])}, which is not known here (RFC 7515 §4.1.11)")
    for name in OWN_KEYS:
        if name in header:
            yield TokenFault("own-key", f"its header brings a key of its own ({name}), which is never used", refuse=False)
    if "kid" not in header and "x5t#S256" not in header:
        yield TokenFault("no-kid", "it does not say which key signed it", refuse=False)


def _who(claims: Mapping[str, Any], audience: str) -> Iterator[TokenFault]:
    for name in ("iss", "sub"):
        if not isinstance(claims.get(name), str) or not claims[name]:
            yield TokenFault(
                f"no-{name}", f"it does not say {'who issued it' if name == 'iss' else 'about whom it is'} ({name})"
            )
    value = claims.get("aud")
    if value is None:
        yield TokenFault("no-aud", "it does not say for whom it is (aud)")
    elif isinstance(value, list) and len(value) != 1:
        yield TokenFault("aud-several", f"it is for {len(value)} audiences: {plain(value)}", refuse=bool(audience))
    elif audience and (value[0] if isinstance(value, list) else value) != audience:
        yield TokenFault("aud-other", f"it is for {plain(value)}, not for {audience}")


def _times(claims: Mapping[str, Any], now: datetime, most_seconds: int | None) -> Iterator[TokenFault]:
    """A token ends at its `exp`, and is not taken on it or after (RFC 7519 §4.1.4); not before its `nbf` (§4.1.5)."""
    found = {n: moment(claims.get(n)) for n in ("iat", "nbf", "exp")}
    for name, when in found.items():
        if name in claims and when is None:
            yield TokenFault(f"{name}-form", f"its {name} is no time: {plain(claims[name])[:40]}")
    ends, begins, made = found["exp"], found["nbf"], found["iat"]
    if "exp" not in claims:
        yield TokenFault("no-exp", "it does not say when it ends (exp)")
    elif ends is not None and now >= ends:
        yield TokenFault("ended", f"it ended at {format_instant(ends)}, {rough_duration((now - ends).total_seconds())} ago")
    if begins is not None and now < begins:
        ahead = rough_duration((begins - now).total_seconds())
        yield TokenFault("not-yet", f"it holds from {format_instant(begins)} on, in {ahead}")
    if made is not None and made > now + LEEWAY:
        ahead = rough_duration((made - now).total_seconds())
        yield TokenFault("made-ahead", f"it was made in {ahead}: its maker's clock is ahead")
    begun = made or begins
    lives = (ends - begun).total_seconds() if ends is not None and begun is not None else 0
    if most_seconds is not None and lives > most_seconds:
        yield TokenFault(
            "lives-long", f"it lives {rough_duration(lives)}, and {rough_duration(most_seconds)} is the most that is taken"
        )


def in_words(claims: Mapping[str, Any], now: datetime) -> dict[str, str]:
    """Its times, each as an instant with how far it is from now."""
    out = dict[str, str]()
    for name in ("iat", "nbf", "exp"):
        when = moment(claims.get(name))
        if when is not None:
            distance = rough_duration(abs((when - now).total_seconds()))
            out[name] = f"{format_instant(when)} ({f'{distance} ago' if when <= now else f'in {distance}'})"
    return out


def whole(claims: Mapping[str, Any]) -> bool:
    """Are all numbers in it the same everywhere (RFC 8259 §6)?"""
    level: list[Any] = [claims]
    while level:
        here = level.pop()
        if isinstance(here, Mapping):
            level += here.values()
        elif isinstance(here, list):
            level += here
        elif isinstance(here, int) and not isinstance(here, bool) and abs(here) >= MOST_WHOLE:
            return False
    return True
