"""Making key material: key pairs as JWKs (RFC 7517), certificates, passwords."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from datetime import datetime
from typing import Any

from sigillum.core.values.secret import Secret

from .ledgerkey import b64

LETTERS = "abcdefghijkmnpqrstuvwxyz23456789"


def make_key(algorithm: str) -> dict[str, Any]:
    """A new private JWK for Ed25519 (RFC 8037), ES256 or RS256 with 3072 bits (RFC 7518)."""
    if algorithm == "Ed25519":
        from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

        private = Ed25519PrivateKey.generate()
        return {
            "kty": "OKP",
            "crv": "Ed25519",
            "x": b64(private.public_key().public_bytes_raw()),
            "d": b64(private.private_bytes_raw()),
        }
    from joserfc.jwk import ECKey, RSAKey

    if algorithm == "ES256":
        return dict(ECKey.generate_key("P-256").as_dict(private=True))
    return dict(RSAKey.generate_key(3072).as_dict(private=True))


def make_password() -> Secret:
    """A new password: 24 letters and digits (120 bits) in groups, without those that look alike."""
    return Secret("-".join("".join(secrets.choice(LETTERS) for _ in range(6)) for _ in range(4)))


def make_certificate(key: Mapping[str, Any], subject: str, start: datetime, until: datetime) -> str:
    """A self-signed certificate: base64 of its DER."""
    from .certificates import self_signed

    return self_signed(key, subject, start, until)
