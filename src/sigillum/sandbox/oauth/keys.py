"""The tenants' own keys, and checking what others signed."""

from __future__ import annotations

import base64
import hashlib
import json
import re
from datetime import datetime, timedelta
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from joserfc import jws, jwt
from joserfc.errors import JoseError
from joserfc.jwk import ECKey, JWKRegistry, Key, OKPKey, RSAKey

from sigillum.sandbox.http.texts import loads

Json = dict[str, Any]
ALGORITHMS = ["RS256", "ES256", "Ed25519", "EdDSA"]
MOST_BYTES, LAST_SECOND = 16_384, 253_402_300_799  # of a token; of the year 9999
_SEGMENT = re.compile(r"[A-Za-z0-9_-]*\Z")  # base64url without padding (RFC 7515 §2)
_REQUIRED = {"OKP": ("crv", "kty", "x"), "EC": ("crv", "kty", "x", "y"), "RSA": ("e", "kty", "n")}


class SigningKey:
    """A tenant's key for access tokens. RS256, which RFC 9068 §2.1 asks everybody to support."""

    def __init__(self, kept: Json | None = None) -> None:
        self._key = RSAKey.import_key(kept) if kept is not None else RSAKey.generate_key(2048, auto_kid=True)

    def private(self) -> Json:
        """For the file in which a sandbox keeps its state."""
        return dict(self._key.as_dict(private=True))

    def public(self) -> Json:
        return {**self._key.as_dict(private=False), "use": "sig", "alg": "RS256"}

    def sign(self, kind: str, claims: Json) -> str:
        return jwt.encode({"alg": "RS256", "typ": kind, "kid": self._key.kid}, claims, self._key)

    def read(self, token: str) -> Json | None:
        """The claims of a token of ours, or None; times are not looked at."""
        try:
            peeked = peek(token)
            if peeked is None or peeked[0].get("typ") != "at+jwt" or "crit" in peeked[0]:  # RFC 9068 §4
                return None
            return dict(jwt.decode(token, self._key, algorithms=["RS256"]).claims)
        except (JoseError, ValueError):
            return None


def thumbprint(key: Json) -> str | None:
    """RFC 7638 thumbprint of a public JWK, or None where members are missing."""
    names = _REQUIRED.get(str(key.get("kty")))
    if names is None or not all(isinstance(key.get(n), str) for n in names):
        return None
    canonical = json.dumps({n: key[n] for n in names}, separators=(",", ":"), sort_keys=True)
    return base64.urlsafe_b64encode(hashlib.sha256(canonical.encode()).digest()).rstrip(b"=").decode()


def usable(key: Json) -> Key | None:
    """The public key, or None where it cannot be used: wrong form, private members, weak RSA."""
    if thumbprint(key) is None or any(n in key for n in ("d", "p", "q", "k", "dp", "dq", "qi")):
        return None
    try:
        made = JWKRegistry.import_key(key)
        size = getattr(made.public_key, "key_size", 2048) if isinstance(made, RSAKey) else 2048
    except (JoseError, ValueError, TypeError):
        return None
    return made if isinstance(made, (OKPKey, ECKey, RSAKey)) and size >= 2048 else None


def peek(token: str) -> tuple[Json, Json] | None:
    """Header and claims of a JWT, unverified; None where it is not one. Whatever comes in as one is read here."""
    parts = token.split(".")
    if len(token) > MOST_BYTES or len(parts) != 3 or not all(_SEGMENT.match(p) for p in parts):
        return None
    try:
        header, claims = (loads(base64.urlsafe_b64decode(p + "=" * (-len(p) % 4)), once=True) for p in parts[:2])
    except (ValueError, TypeError, RecursionError):
        return None
    return (header, claims) if isinstance(header, dict) and isinstance(claims, dict) else None


def verify(token: str, key: Json) -> bool:
    """Is the JWS signature right for this public key?"""
    made, peeked = usable(key), peek(token)
    if made is None or peeked is None or "crit" in peeked[0]:  # RFC 7515 §4.1.11: nothing critical is understood here
        return False
    try:
        jws.deserialize_compact(token, made, algorithms=ALGORITHMS)
    except (JoseError, ValueError, TypeError):
        return False
    return True


def lifetime_fault(claims: Json, now: datetime, most_seconds: int) -> str | None:
    """What is wrong with `exp`, `iat` and `nbf` of an assertion (RFC 7523 §3), or None."""
    second = now.timestamp()
    for name in ("exp", "iat", "nbf"):
        value = claims.get(name)
        date = isinstance(value, (int, float)) and not isinstance(value, bool) and 0 <= value <= LAST_SECOND
        if not date and (value is not None or name == "exp"):  # RFC 7519 §2: a NumericDate
            return f"{name} is {'required' if value is None else 'no date'}"
    expires, issued, begins = claims["exp"], claims.get("iat"), claims.get("nbf")
    if expires <= second:
        return "it has expired"
    if expires > second + most_seconds + 5:
        return f"it lives longer than {most_seconds} seconds"
    for name, value in (("iat", issued), ("nbf", begins)):
        if value is not None and value > second + 5:
            return f"{name} lies in the future"
    return None


def certificate_of(text: str) -> tuple[Json, str, datetime] | None:
    """Public JWK, `x5t#S256` (RFC 7515 §4.1.8) and the first instant after it, of a certificate that signs no others."""
    try:
        der = base64.b64decode(text, validate=True)
        found = x509.load_der_x509_certificate(der)
        pem = found.public_key().public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo)
        public = found.public_key()
        kind = "EC" if hasattr(public, "curve") else "RSA" if hasattr(public, "public_numbers") else "OKP"
        key = dict(JWKRegistry.import_key(pem, kind).as_dict(private=False))
        signs = any(e.value.ca for e in found.extensions if isinstance(e.value, x509.BasicConstraints))
    except (ValueError, KeyError, TypeError, JoseError):
        return None
    key = {n: key[n] for n in ("kty", "crv", "x", "y", "n", "e") if n in key}
    mark = base64.urlsafe_b64encode(hashlib.sha256(der).digest()).rstrip(b"=").decode()
    return (key, mark, found.not_valid_after_utc + timedelta(seconds=1)) if usable(key) is not None and not signs else None
