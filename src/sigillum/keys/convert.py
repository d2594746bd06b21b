"""One key in another form: PEM (PKCS#8, PKCS#1, SEC1, SubjectPublicKeyInfo), encrypted or not, DER, JWK, JWK set, PKCS#12."""

from __future__ import annotations

import json
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import serialization as forms
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import pkcs12

from sigillum.core.values.errors import Outcome, SigillumError
from sigillum.core.values.secret import Secret

from .shapes import TROUBLE, Shape

FORMS = ("pem", "pkcs1", "sec1", "der", "jwk", "jwks", "pkcs12")


class NoFormError(SigillumError):
    """This key cannot stand in that form; why."""

    outcome, code = Outcome.USAGE, "form"


def convert(
    shape: Shape, to: str, *, public: bool = False, password: Secret | None = None, certificate: x509.Certificate | None = None
) -> bytes:
    """Its bytes in another form; `public`: only that half; `password` encrypts what is private. Raises NoFormError."""
    key = shape.key
    if key is None:
        raise NoFormError(f"it holds no key that can be used: {shape.kind}, {shape.form}")
    private = hasattr(key, "private_bytes") and not public
    if not private and hasattr(key, "public_key"):
        key = key.public_key()
    try:
        if to in ("jwk", "jwks"):
            return _jwk(key, shape, private, to, password)
        if to == "pkcs12":
            return _pkcs12(key, private, password, certificate)
        return _private(key, to, password) if private else _public(key, to)
    except NoFormError:
        raise
    except TROUBLE as problem:
        raise NoFormError(f"a key of the kind {shape.algorithm} has no such form") from problem


def _lock(password: Secret | None) -> forms.KeySerializationEncryption:
    return forms.BestAvailableEncryption(password.reveal().encode()) if password is not None else forms.NoEncryption()


def _private(key: Any, to: str, password: Secret | None) -> bytes:
    wanted = {"pkcs1": rsa.RSAPrivateKey, "sec1": ec.EllipticCurvePrivateKey}.get(to)
    if wanted is not None and not isinstance(key, wanted):
        raise NoFormError(f"{to} is for {'RSA' if to == 'pkcs1' else 'elliptic curve'} keys only; `pem` is for all")
    form = forms.PrivateFormat.TraditionalOpenSSL if wanted is not None else forms.PrivateFormat.PKCS8
    encoding = forms.Encoding.DER if to == "der" else forms.Encoding.PEM
    return bytes(key.private_bytes(encoding, form, _lock(password)))


def _public(key: Any, to: str) -> bytes:
    if to == "sec1":
        raise NoFormError("sec1 is for private keys; `pem` is for all")
    if to == "pkcs1" and not isinstance(key, rsa.RSAPublicKey):
        raise NoFormError("pkcs1 is for RSA keys only; `pem` is for all")
    form = forms.PublicFormat.PKCS1 if to == "pkcs1" else forms.PublicFormat.SubjectPublicKeyInfo
    return bytes(key.public_bytes(forms.Encoding.DER if to == "der" else forms.Encoding.PEM, form))


def _jwk(key: Any, shape: Shape, private: bool, to: str, password: Secret | None) -> bytes:
    from joserfc.jwk import ECKey, OKPKey, RSAKey

    if password is not None:
        raise NoFormError("a JWK is not encrypted here: `pem` and `pkcs12` are")
    kind: Any = RSAKey if shape.algorithm == "RSA" else ECKey if shape.algorithm.startswith("EC ") else OKPKey
    text = _private(key, "pem", None) if private else _public(key, "pem")
    made = {**kind.import_key(text).as_dict(private=private), "kid": shape.thumbprint}
    return (json.dumps({"keys": [made]} if to == "jwks" else made, indent=1) + "\n").encode()


def _pkcs12(key: Any, private: bool, password: Secret | None, certificate: x509.Certificate | None) -> bytes:
    if not private or password is None:
        raise NoFormError("PKCS#12 holds a private key, and is encrypted: say --encrypt")
    return pkcs12.serialize_key_and_certificates(b"key", key, certificate, None, _lock(password))
