"""Verifying a token from outside, step by step: each refusal with its reason (RFC 7519 §7.2, RFC 8725)."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any

from sigillum.core.federation.assertions import ALGORITHMS, NoTokenError, TokenFault, Unverified, look, read, whole
from sigillum.core.values.canonical import public_half
from sigillum.core.values.errors import RefusedError
from sigillum.core.values.text import plain

KINDS = {"Ed25519": ("OKP", "Ed25519"), "EdDSA": ("OKP", "Ed25519"), "ES256": ("EC", "P-256"), "RS256": ("RSA", "")}
ACCESS_TOKENS = ("at+jwt", "application/at+jwt")  # RFC 9068 §2.1: what was got for using something says nothing of who asks
MOST_KEYS = 100
Keys = Callable[[bool], Sequence[Mapping[str, Any]]]  # the issuer's keys; True: looked up anew, which its caller bounds


class TokenRefusedError(RefusedError):
    """A token that is not taken; `reason` is its code."""

    code = "token-refused"

    def __init__(self, reason: str, what: str) -> None:
        super().__init__(f"the token is not taken: {what}", where="the token", mend="look at it with `token read`")
        self.reason = reason


def verify(
    text: str,
    keys: Keys,
    *,
    issuer: str,
    audience: str,
    now: datetime,
    algorithms: Sequence[str] = ALGORITHMS,
    most_seconds: int | None = None,
) -> dict[str, Any]:
    """The claims of a token that is genuine, of this issuer, for this audience, and in time. Raises TokenRefusedError."""
    try:
        token = read(text)  # 1. its form: bounded, and each name once
    except NoTokenError as problem:
        raise TokenRefusedError("form", problem.what) from problem
    _header(token, algorithms)  # 2. what its header demands
    if token.claims.get("iss") != issuer:  # 3. whose keys are to be used follows from who issued it, exactly (RFC 9207 §2.4)
        raise TokenRefusedError("iss-other", f"it was issued by {plain(token.claims.get('iss'))}, not by {issuer}")
    if not _signed(text.strip(), token, keys):  # 4. the signature, by a key that is registered for it
        raise TokenRefusedError("signature", "no key of its issuer signed it")
    for finding in look(token, now, audience=audience, most_seconds=most_seconds):  # 5. for whom, and when
        if finding.refuse:
            raise TokenRefusedError(finding.code, finding.what)
    if not whole(token.claims):
        raise TokenRefusedError("numbers", "a number in it is not the same everywhere")
    return dict(token.claims)


def _header(token: Unverified, algorithms: Sequence[str]) -> None:
    wrong: TokenFault | None = next(
        (f for f in look(Unverified(token.header, {}), _NEVER) if f.code in ("alg-none", "alg-unknown", "crit-unknown")), None
    )
    if wrong is not None:
        raise TokenRefusedError(wrong.code, wrong.what)
    odd = next((n for n in ("kid", "typ") if not isinstance(token.header.get(n, ""), str)), None)
    if odd is not None:
        raise TokenRefusedError("form", f"`{odd}` in its header is no text (RFC 7515 §4.1)")
    if token.header["alg"] not in algorithms:
        raise TokenRefusedError("alg-unknown", f"{plain(token.header['alg'])} is not among {', '.join(algorithms)}")
    kind = str(token.header.get("typ", "JWT")).lower()
    if kind in ACCESS_TOKENS:
        raise TokenRefusedError("typ", "it is an access token, which says nothing of who asks (RFC 8725 §3.11)")


_NEVER = datetime.fromisoformat("1970-01-01T00:00:00+00:00")


def _signed(text: str, token: Unverified, keys: Keys) -> bool:
    """Did one of the issuer's keys sign it? Where none that it names is known, they are looked up anew, once."""
    if any(_by(text, token, key) for key in fitting(keys(False), token.header)):
        return True
    known = {k.get("kid") for k in keys(False)}
    named = token.header.get("kid")
    return named not in known and any(_by(text, token, key) for key in fitting(keys(True), token.header))


def fitting(keys: Sequence[Mapping[str, Any]], header: Mapping[str, Any]) -> Iterator[Mapping[str, Any]]:
    """The keys of a set that a token can have been signed with: of its algorithm's kind, for signing, and called as it says."""
    kind, curve = KINDS.get(str(header.get("alg")), ("", ""))
    for key in keys[:MOST_KEYS]:
        if key.get("kty") != kind or (curve and key.get("crv") != curve):
            continue
        if key.get("use", "sig") != "sig" or "verify" not in key.get("key_ops", ["verify"]):
            continue
        if key.get("alg", header["alg"]) not in (header["alg"], *(("Ed25519", "EdDSA") if curve == "Ed25519" else ())):
            continue
        if "kid" not in header or key.get("kid") == header["kid"]:
            yield key


def _by(text: str, token: Unverified, key: Mapping[str, Any]) -> bool:
    from joserfc import jws
    from joserfc.errors import JoseError
    from joserfc.jwk import JWKRegistry

    public = public_half(key)
    try:
        made: Any = JWKRegistry.import_key(public)
        if public["kty"] == "RSA" and made.public_key.key_size < 2048:  # RFC 7518 §3.3
            return False
        registry = jws.JWSRegistry(algorithms=[token.header["alg"]], strict_check_header=False)
        jws.deserialize_compact(text, made, registry=registry)
    except (JoseError, ValueError, TypeError, KeyError, AttributeError):
        return False
    return True
