"""What a file of key material is: its form, whose, how strong, until when, and whether it holds a private key.

What is found holds the key itself as an object of the cryptographic library, which shows nothing of it.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import re
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any, NamedTuple

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives import serialization as forms
from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, rsa, x448, x25519
from cryptography.hazmat.primitives.serialization import pkcs12

from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.errors import Outcome, SigillumError
from sigillum.core.values.outside import json_of
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import plain
from sigillum.core.values.times import format_instant

from .blocks import blocks
from .ledgerkey import b64

OKP = (ed25519.Ed25519PublicKey, ed448.Ed448PublicKey, x25519.X25519PublicKey, x448.X448PublicKey)  # RFC 8037
MOST_BYTES = 1_000_000
MOST_MODULUS_BITS = 16_384  # a larger one takes long to look at, and nobody uses it
WEAK_BITS = 2_048  # of an RSA modulus: below it a key can be found (NIST SP 800-131A)
TROUBLE = (ValueError, TypeError, UnsupportedAlgorithm, OverflowError, LookupError, AttributeError)
_JWT = re.compile(r"[A-Za-z0-9_-]{2,}\.[A-Za-z0-9_-]{2,}\.[A-Za-z0-9_-]*\Z")
_LABELS = {
    "PRIVATE KEY": "PEM, PKCS#8",
    "ENCRYPTED PRIVATE KEY": "PEM, PKCS#8, encrypted",
    "RSA PRIVATE KEY": "PEM, PKCS#1",
    "EC PRIVATE KEY": "PEM, SEC1",
    "OPENSSH PRIVATE KEY": "OpenSSH",
    "PUBLIC KEY": "PEM, SubjectPublicKeyInfo",
    "RSA PUBLIC KEY": "PEM, PKCS#1",
    "CERTIFICATE": "PEM",
    "CERTIFICATE REQUEST": "PEM",
    "NEW CERTIFICATE REQUEST": "PEM",
}
PRIVATE, PUBLIC, CERTIFICATE, REQUEST, TOKEN, CREDENTIAL, CONFIGURATION, OTHER = (
    "private key",
    "public key",
    "certificate",
    "certificate request",
    "token",
    "credential file",
    "configuration",
    "something else",
)
HIDING = ("d", "p", "q", "dp", "dq", "qi", "k", "oth")  # the private members of a JWK (RFC 7518 §6)
LITERAL = re.compile(r"(?i)(secret|password|passwd|token|private.?key|api.?key|credential)")


class Shape(NamedTuple):
    """One thing in a file. `private`: None where that cannot be told without its password."""

    kind: str
    form: str
    private: bool | None
    algorithm: str = ""
    bits: int = 0
    thumbprint: str = ""  # RFC 7638
    strength: str = ""
    until: str = ""
    about: tuple[tuple[str, str], ...] = ()
    key: Any = None  # of the cryptographic library: private where it is at hand, else public

    def as_json(self) -> dict[str, Any]:
        """Everything that may be shown of it."""
        return {
            "kind": self.kind,
            "form": self.form,
            "private": self.private,
            "algorithm": self.algorithm,
            "bits": self.bits,
            "thumbprint": self.thumbprint,
            "strength": self.strength,
            "until": self.until,
            **dict(self.about),
        }


class NoShapeError(SigillumError):
    """It is none of the known things; why, in a few words without anything of its content."""

    outcome, code = Outcome.FILE, "shape"


def read(data: bytes, password: Secret | None = None) -> list[Shape]:
    """Everything in a file, in order. Raises NoShapeError."""
    if len(data) > MOST_BYTES:
        raise NoShapeError(f"it is larger than {MOST_BYTES // 1000} kB")
    if not data.strip():
        raise NoShapeError("it is empty")
    found = list(_pem(data, password))
    for way in (_json, _jwt, _ssh_line, _ppk, _der):
        if not found:
            found = way(data, password)
    return found or [Shape(OTHER, _looks(data), False)]


# --- PEM ----------------------------------------------------------------------------------------------------
def _pem(data: bytes, password: Secret | None) -> Iterator[Shape]:
    for block in blocks(data):
        label, form, text = block.label, _LABELS.get(block.label), data[block.begin : block.end]
        if form is None:
            yield Shape(OTHER, f"PEM, {label.capitalize()}", block.private)
            continue
        try:
            if not block.whole:
                raise ValueError("its last line is missing")
            yield _block(label, form, text, password)
        except TROUBLE as problem:
            if block.private and _locked(problem, text):
                yield _closed(form, problem)
            else:
                yield Shape(OTHER, f"{form}, and broken", block.private)


def _closed(form: str, problem: BaseException) -> Shape:
    """An encrypted key: its password is missing, or what it takes to open it."""
    form = form if "encrypted" in form else f"{form}, encrypted"
    needs = (("needs", "the extra `ssh`: pip install 'sigillum[ssh]'"),) if _lacks_bcrypt(problem) else ()
    return Shape(PRIVATE, form, True, about=(("locked", "yes"), *needs))


def _lacks_bcrypt(problem: BaseException) -> bool:
    """The library opens an encrypted OpenSSH key only with another one, which is not installed."""
    return isinstance(problem, UnsupportedAlgorithm) and "bcrypt" in str(problem).lower()


def _block(label: str, form: str, block: bytes, password: Secret | None) -> Shape:
    secret = password.reveal().encode() if password is not None else None
    if label == "OPENSSH PRIVATE KEY":
        return _key_shape(forms.load_ssh_private_key(block, _given(block, secret)), form)
    if "PRIVATE" in label:
        return _key_shape(forms.load_pem_private_key(block, _given(block, secret)), form)
    if "PUBLIC" in label:
        return _key_shape(forms.load_pem_public_key(block), form)
    if label == "CERTIFICATE":
        return _certificate(x509.load_pem_x509_certificate(block), form)
    return _request(x509.load_pem_x509_csr(block), form)


def _given(block: bytes, secret: bytes | None) -> bytes | None:
    """A password for what has one: the library takes none for what has none."""
    if b"ENCRYPTED" in block:
        return secret
    body = b"".join(block.split(b"\n")[1:-1])
    try:
        return secret if b"bcrypt" in base64.b64decode(body) else None
    except (ValueError, binascii.Error):
        return None


def _locked(problem: BaseException, block: bytes) -> bool:
    return (
        _lacks_bcrypt(problem) or isinstance(problem, TypeError) or b"ENCRYPTED" in block or "password" in str(problem).lower()
    )


# --- JSON ---------------------------------------------------------------------------------------------------
def _json(data: bytes, password: Secret | None) -> list[Shape]:
    if data.lstrip()[:1] not in (b"{", b"["):
        return []
    try:
        content = json_of(data)
    except ValueError:
        return []
    if isinstance(content, dict) and isinstance(content.get("keys"), list):
        form = "JWK set (RFC 7517 §5)"
        return [_jwk(k, form) for k in content["keys"]] or [Shape(PUBLIC, f"{form}, empty", False)]
    if isinstance(content, dict) and "kty" in content:
        return [_jwk(content, "JWK (RFC 7517)")]
    if isinstance(content, dict) and isinstance(content.get("credential"), dict):
        return [_credential(content)]
    held = _hides(content)
    return [Shape(CONFIGURATION, "JSON", bool(held), about=(("holds", held or "no secret"),))]


def _jwk(content: Any, form: str) -> Shape:
    if not isinstance(content, dict):
        return Shape(OTHER, f"{form}, and broken", False)
    private = any(name in content for name in HIDING)
    try:
        from joserfc.jwk import JWKRegistry

        made: Any = JWKRegistry.import_key({k: v for k, v in content.items() if k not in ("key_ops", "use", "alg")})
        raw = made.private_key if private and content.get("kty") != "oct" else getattr(made, "public_key", None)
        if content.get("kty") == "oct":
            return Shape(PRIVATE, f"{form}, a shared secret", True, "oct", len(made.raw_value) * 8)
        return _key_shape(raw, form)
    except Exception:  # the library raises whatever it finds
        return Shape(OTHER, f"{form}, and broken", private)


def _credential(content: dict[str, Any]) -> Shape:
    """Our own credential file: a JWK or a secret, beside what a consumer needs."""
    about = tuple((n, plain(v)) for n, v in content["credential"].items() if isinstance(v, (str, int)) and n not in HIDING)
    until = next((v for n, v in about if n == "ends"), "")
    if isinstance(content.get("key"), dict):
        inner = _jwk(content["key"], "credential file")
        return inner._replace(kind=CREDENTIAL, until=until, about=(*about, *inner.about))
    return Shape(CREDENTIAL, "credential file", "secret" in content, until=until, about=about)


def _hides(content: Any, name: str = "", depth: int = 0) -> str:
    """Which member looks like a secret written literally; empty where none does. References are none."""
    if isinstance(content, dict):
        return next((found for n, v in content.items() if (found := _hides(v, str(n), depth + 1))), "")
    if isinstance(content, list):
        return next((found for v in content if (found := _hides(v, name, depth + 1))), "")
    if not isinstance(content, str) or content.startswith(("env:", "file:", "keyring:", "store:", "http://", "https://")):
        return ""
    if "PRIVATE KEY-----" in content or (LITERAL.search(name) and len(content) >= 8 and " " not in content):
        return plain(name) or "a private key"
    return ""


# --- others -------------------------------------------------------------------------------------------------
def _jwt(data: bytes, password: Secret | None) -> list[Shape]:
    """A signed token (RFC 7519), not verified."""
    text = data.strip().decode("ascii", "replace")
    if not _JWT.match(text):
        return []
    try:
        head, claims = (json_of(base64.urlsafe_b64decode(p + "=" * (-len(p) % 4))) for p in text.split(".")[:2])
        if not isinstance(head, dict) or not isinstance(claims, dict) or "alg" not in head:
            return []
    except (ValueError, binascii.Error):
        return []
    until = _instant(claims.get("exp"))
    about = [("checked", "nothing: its claims are not verified")]
    about += [(n, plain(claims[n])) for n in ("iss", "sub", "aud") if n in claims]
    return [Shape(TOKEN, "JWT (RFC 7519)", False, plain(head["alg"]), until=until, about=tuple(about))]


def _instant(value: Any) -> str:
    try:
        return format_instant(datetime.fromtimestamp(int(value), UTC)) if value is not None else ""
    except (ValueError, TypeError, OverflowError, OSError):
        return ""


def _ssh_line(data: bytes, password: Secret | None) -> list[Shape]:
    first = data.strip().split(b"\n")[0]
    if not first.startswith((b"ssh-", b"ecdsa-", b"sk-")):
        return []
    try:
        return [_key_shape(forms.load_ssh_public_key(first), "OpenSSH")]
    except TROUBLE:
        return [Shape(OTHER, "OpenSSH, and broken", False)]


def _ppk(data: bytes, password: Secret | None) -> list[Shape]:
    """A key file of its own form: what it is for stands in its first line, and whether it is encrypted in its second."""
    lines = data.lstrip()[:400].splitlines()
    if not lines or not lines[0].startswith(b"PuTTY-User-Key-File-") or b"Private-Lines:" not in data:
        return []
    locked = len(lines) > 1 and lines[1].startswith(b"Encryption:") and not lines[1].endswith(b"none")
    algorithm = plain(lines[0].partition(b":")[2].decode("ascii", "replace").strip())
    return [Shape(PRIVATE, "PPK, which is not opened here", True, algorithm, about=(("locked", "yes"),) if locked else ())]


def _der(data: bytes, password: Secret | None) -> list[Shape]:
    """Binary forms; they say themselves how long they are."""
    if data[:1] != b"\x30":
        return []
    secret = password.reveal().encode() if password is not None else None
    ways: tuple[Any, ...] = (
        lambda: _certificate(x509.load_der_x509_certificate(data), "DER"),
        lambda: _request(x509.load_der_x509_csr(data), "DER"),
        lambda: _key_shape(forms.load_der_private_key(data, None), "DER"),
        lambda: _key_shape(forms.load_der_public_key(data), "DER, SubjectPublicKeyInfo"),
    )
    for way in ways:
        try:
            return [way()]
        except TROUBLE:
            continue
    try:
        key, certificate, more = pkcs12.load_key_and_certificates(data, secret)
    except TROUBLE as problem:
        locked = isinstance(problem, TypeError) or "password" in str(problem).lower()
        return [Shape(PRIVATE, "PKCS#12 or encrypted DER", None, about=(("locked", "yes"),))] if locked else []
    found = [_key_shape(key, "PKCS#12")] if key is not None else []
    return found + [_certificate(c, "PKCS#12") for c in (certificate, *more) if c is not None]


def _key_shape(key: Any, form: str) -> Shape:
    """A key of the library, in words. Raises ValueError for one that is no key of ours."""
    private = hasattr(key, "private_bytes")
    public = key.public_key() if private else key
    algorithm, bits, mark = "", 0, ""
    if isinstance(public, rsa.RSAPublicKey):
        bits = public.key_size
        if bits > MOST_MODULUS_BITS:
            raise ValueError("the modulus is too large")
        numbers = public.public_numbers()
        algorithm, mark = "RSA", thumbprint({"kty": "RSA", "n": _number(numbers.n), "e": _number(numbers.e)})
    elif isinstance(public, ec.EllipticCurvePublicKey):
        curve = {"secp256r1": "P-256", "secp384r1": "P-384", "secp521r1": "P-521"}.get(public.curve.name, public.curve.name)
        point, size, bits = public.public_numbers(), (public.key_size + 7) // 8, public.key_size
        algorithm = f"EC {curve}"
        x, y = (b64(n.to_bytes(size, "big")) for n in (point.x, point.y))
        mark = thumbprint({"kty": "EC", "crv": curve, "x": x, "y": y})
    elif isinstance(public, OKP):
        raw, algorithm = public.public_bytes_raw(), type(public).__name__.strip("_").removesuffix("PublicKey")
        bits, mark = len(raw) // 8 * 64, thumbprint({"kty": "OKP", "crv": algorithm, "x": b64(raw)})
    else:
        algorithm = type(public).__name__.removesuffix("PublicKey").strip("_")
    der = public.public_bytes(forms.Encoding.DER, forms.PublicFormat.SubjectPublicKeyInfo) if mark else b""
    about = (("spki", b64(hashlib.sha256(der).digest())),) if mark else ()
    return Shape(
        PRIVATE if private else PUBLIC, form, private, algorithm, bits, mark, _strength(algorithm, bits), about=about, key=key
    )


def spki_mark(public: dict[str, str]) -> str:
    """The SHA-256 of the SubjectPublicKeyInfo (RFC 5280 §4.1.2.7) of a JWK, base64url; empty for one that is no key of ours."""
    return dict(_jwk(public, "").about).get("spki", "")


def mark_of(text: str) -> str:
    """A thumbprint as it is compared, base64url: it may be typed in as hexadecimal digits, with colons or not, or as base64."""
    plain = text.strip().replace(":", "").replace(" ", "")
    if re.fullmatch(r"[0-9A-Fa-f]{64}", plain):
        return b64(bytes.fromhex(plain))
    return text.strip().rstrip("=").replace("+", "-").replace("/", "_")


def key_mark(key: Any) -> str:
    """The RFC 7638 thumbprint of a key of the library. Raises ValueError for one that is no key of ours."""
    return _key_shape(key, "").thumbprint


def _number(value: int) -> str:
    return b64(value.to_bytes((value.bit_length() + 7) // 8 or 1, "big"))


def _strength(algorithm: str, bits: int) -> str:
    if algorithm == "RSA":
        return "weak: it can be found" if bits < WEAK_BITS else "strong" if bits >= 3_072 else "enough for some years"
    return "strong" if algorithm in ("Ed25519", "EC P-256", "EC P-384", "EC P-521") else "of a kind that no tenant here takes"


def _certificate(found: x509.Certificate, form: str) -> Shape:
    """A certificate: the first instant at which it is over, since its last one is inclusive (RFC 5280 §4.1.2.5)."""
    shape, over = _key_shape(found.public_key(), form), found.not_valid_after_utc.timestamp() + 1
    about = (
        ("subject", plain(found.subject.rfc4514_string())),
        ("issuer", plain(found.issuer.rfc4514_string())),
        ("x5t#S256", b64(found.fingerprint(hashes.SHA256()))),
        ("from", format_instant(found.not_valid_before_utc)),
    )
    return shape._replace(kind=CERTIFICATE, until=_instant(over), about=about)


def _request(found: x509.CertificateSigningRequest, form: str) -> Shape:
    signed = "yes" if found.is_signature_valid else "no: it is broken"
    return _key_shape(found.public_key(), form)._replace(
        kind=REQUEST, about=(("subject", plain(found.subject.rfc4514_string())), ("signed", signed))
    )


def _looks(data: bytes) -> str:
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError:
        return "binary, and none that is known"
    lines = text.strip().count("\n") + 1
    return "one line of text; it may be a secret" if lines == 1 and " " not in text.strip() else f"text, {lines} lines"
