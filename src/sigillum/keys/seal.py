"""Sealing a sheet: signed, then encrypted to the receiver's public key. A nested JWT (RFC 7519 §11.2): JWS in JWE.

The sender signs with the ledger's key (Ed25519, RFC 8037), the receiver is an X25519, P-256 or RSA key.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from datetime import datetime
from typing import Any, NamedTuple

from cryptography.exceptions import UnsupportedAlgorithm
from joserfc import jwe, jws
from joserfc.errors import DecodeError, JoseError
from joserfc.jwk import JWKRegistry, Key, OKPKey

from sigillum.core.values.canonical import public_half, thumbprint
from sigillum.core.values.errors import FileError, UsageError
from sigillum.core.values.outside import json_of
from sigillum.core.values.secret import Secret

from .ledgerkey import LedgerKey, b64, unb64

ENCRYPTION = "A256GCM"
# what the libraries raise for keys and texts that are none
WRONG = (JoseError, DecodeError, ValueError, KeyError, TypeError, AttributeError, OverflowError, UnsupportedAlgorithm)
WAYS = {"OKP": "ECDH-ES+A256KW", "EC": "ECDH-ES+A256KW", "RSA": "RSA-OAEP-256"}
MOST_BYTES = 200_000
_TAKEN = [*dict.fromkeys(WAYS.values()), ENCRYPTION]


class Opened(NamedTuple):
    """A sheet that was opened: its claims, and whose key signed it."""

    claims: Mapping[str, Any]
    signer: str


def receiving_key() -> tuple[Secret, dict[str, Any]]:
    """A new key pair for receiving sheets: the private JWK as text, and the public one."""
    key = OKPKey.generate_key("X25519")
    return Secret(json.dumps(key.as_dict(private=True))), dict(key.as_dict(private=False))


def seal(claims: Mapping[str, Any], signer: LedgerKey, receiver: Mapping[str, Any], where: str) -> str:
    """The sealed text. Raises UsageError where the receiver's key cannot be used, or is a private one."""
    if any(n in receiver for n in ("d", "p", "q", "k")):
        raise UsageError(
            "this is the receiver's private key, which must never travel",
            where=where,
            mend="ask for the public half, and let the receiver make a new pair",
        )
    way = WAYS.get(str(receiver.get("kty")))
    try:
        key = JWKRegistry.import_key(dict(receiver))
        if way is None or receiver.get("crv") in ("Ed25519", "Ed448"):
            raise ValueError("signing key")
        header = {"alg": "Ed25519", "typ": "JWT", "kid": signer.key_id, "jwk": signer.public}
        protected, payload = b64(json.dumps(header).encode()), b64(json.dumps(claims).encode())
        signed = f"{protected}.{payload}.{signer.sign(f'{protected}.{payload}'.encode())}"
        outer = {"alg": way, "enc": ENCRYPTION, "cty": "JWT", "kid": thumbprint(receiver)}
        return jwe.encrypt_compact(outer, signed, key, algorithms=_TAKEN)
    except WRONG as problem:
        raise UsageError(
            "nothing can be sealed to this key",
            where=where,
            mend="ask the receiver for a public X25519, P-256 or RSA key as a JWK: `sigillum handover key FILE`",
        ) from problem


def unseal(text: str, private: Mapping[str, Any], known: frozenset[str], now: datetime, where: str) -> Opened:
    """Open a sealed sheet. Raises FileError, and gives no plaintext, where anything is wrong with it."""

    def wrong(what: str, mend: str) -> FileError:
        return FileError(what, where=where, mend=mend)

    parts = text.strip().split(".")
    try:
        header = json_of(unb64(parts[0]))
        if len(text) > MOST_BYTES or len(parts) != 5 or not all(parts[2:]) or not isinstance(header, dict):
            raise ValueError
        key = JWKRegistry.import_key(dict(private))
        own = thumbprint(public_half(private))
    except WRONG as problem:
        raise wrong("this is no sealed sheet, or a part of it is missing", "ask the sender for it anew") from problem
    if header.get("kid") not in (None, own):
        raise wrong("it is sealed to another key", f"open it with the private half of {header.get('kid')}")
    try:
        inner = (jwe.decrypt_compact(text.strip(), key, algorithms=_TAKEN).plaintext or b"").decode()
    except WRONG as problem:
        raise wrong(
            "it does not open: it was changed or damaged on its way, or the key is another one", "ask the sender for it anew"
        ) from problem
    claims, signer = _signed(inner, wrong)
    if signer not in known:
        raise wrong(
            f"it is signed by a key that is not known here ({signer})",
            "ask the sender on another way for the "
            "thumbprint of its key; then name it with `--from`, or under `signers` in sigillum.yaml",
        )
    until = claims.get("exp")
    if not isinstance(until, int) or until <= now.timestamp():
        raise wrong("it has ended", "ask the sender for a new one")
    if claims.get("aud") != own:
        raise wrong("it was meant for somebody else", "ask the sender for one of your own")
    return Opened(claims, signer)


def _signed(inner: str, wrong: Any) -> tuple[dict[str, Any], str]:
    """The claims and the signer's thumbprint; the signature is checked with the key that the header carries."""
    try:
        public = json_of(unb64(inner.split(".")[0]))["jwk"]
        key: Key = JWKRegistry.import_key(dict(public))
        payload = jws.deserialize_compact(inner, key, algorithms=["Ed25519"]).payload
        claims = json_of(payload)
        if not isinstance(claims, dict):
            raise TypeError
        return claims, thumbprint({n: public[n] for n in ("kty", "crv", "x")})
    except WRONG as problem:
        raise wrong("what is inside is not signed as it has to be", "ask the sender for it anew") from problem
