"""Certificates (X.509, RFC 5280): self-signed ones, requests for the house's CA (PKCS#10, RFC 2986), and its answers."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any, NamedTuple

from cryptography import x509
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from sigillum.core.values.text import plain

from .ledgerkey import b64
from .shapes import key_mark

EARLY = timedelta(minutes=5)  # it begins so long before, for clocks that are late


class Seen(NamedTuple):
    """What a certificate says. `key`: RFC 7638 thumbprint of its public key; `mark`: its `x5t#S256` (RFC 7515 §4.1.8); `until`:
    the first instant at which it is over, since its last one is inclusive (RFC 5280 §4.1.2.5).
    """

    der: str  # base64
    key: str
    mark: str
    start: datetime
    until: datetime
    subject: str
    issuer: str
    authority: bool


def _private(key: Mapping[str, Any]) -> Any:
    from joserfc.jwk import JWKRegistry

    return JWKRegistry.import_key(dict(key)).private_key


def _hash(private: Any) -> Any:
    return None if isinstance(private, Ed25519PrivateKey) else hashes.SHA256()


def self_signed(key: Mapping[str, Any], subject: str, start: datetime, until: datetime) -> str:
    """A certificate that its own key signs, for signing only: base64 of its DER. `until`: the first instant after it."""
    private, name = _private(key), x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, subject[:64])])
    builder = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(private.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(start - EARLY)
        .not_valid_after(until - timedelta(seconds=1))
    )
    builder = builder.add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
    builder = builder.add_extension(_usage(), critical=True)
    made = builder.sign(private, _hash(private))
    return base64.b64encode(made.public_bytes(serialization.Encoding.DER)).decode()


def _usage() -> x509.KeyUsage:
    return x509.KeyUsage(
        digital_signature=True,
        content_commitment=False,
        key_encipherment=False,
        data_encipherment=False,
        key_agreement=False,
        key_cert_sign=False,
        crl_sign=False,
        encipher_only=False,
        decipher_only=False,
    )


def request(key: Mapping[str, Any], subject: str) -> bytes:
    """A request for a certificate (PEM) that the house's CA answers."""
    private, name = _private(key), x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, subject[:64])])
    made = (
        x509.CertificateSigningRequestBuilder()
        .subject_name(name)
        .add_extension(_usage(), critical=True)
        .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.CLIENT_AUTH]), critical=False)
        .sign(private, _hash(private))
    )
    return made.public_bytes(serialization.Encoding.PEM)


def read(data: bytes) -> Seen:
    """A certificate in PEM or DER. Raises ValueError; above all where a private key stands beside it."""
    if b"PRIVATE KEY" in data:
        raise ValueError("the file holds a private key, which never travels")
    try:
        found = x509.load_pem_x509_certificate(data) if b"-----BEGIN" in data else x509.load_der_x509_certificate(data)
        return _seen(found)
    except (ValueError, TypeError, KeyError) as problem:
        raise ValueError("the file holds no certificate that can be read") from problem


def _seen(found: x509.Certificate) -> Seen:
    try:
        authority = found.extensions.get_extension_for_class(x509.BasicConstraints).value.ca
    except x509.ExtensionNotFound:
        authority = False
    der = found.public_bytes(serialization.Encoding.DER)
    return Seen(
        base64.b64encode(der).decode(),
        key_mark(found.public_key()),
        b64(found.fingerprint(hashes.SHA256())),
        found.not_valid_before_utc,
        found.not_valid_after_utc + timedelta(seconds=1),
        plain(found.subject.rfc4514_string()),
        plain(found.issuer.rfc4514_string()),
        bool(authority),
    )


def chained(der: str, authorities: bytes) -> bool:
    """Did one of these authorities (PEM, one or more) sign it, directly? Raises ValueError where they cannot be read."""
    found = x509.load_der_x509_certificate(base64.b64decode(der))
    for authority in x509.load_pem_x509_certificates(authorities):
        try:
            found.verify_directly_issued_by(authority)
        except (ValueError, TypeError, InvalidSignature):
            continue
        return True
    return False
