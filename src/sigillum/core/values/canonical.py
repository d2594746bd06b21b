"""Canonical JSON (RFC 8785, with integers only) and the digests that are made over it."""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Mapping
from typing import Any

LARGEST_INTEGER = 2**53 - 1  # RFC 8785 §3.2.2.3: beyond it JSON numbers lose their last digits


def _is_plain(value: Any) -> bool:
    """Are all keys ASCII, so that any sorting sorts them alike? Raises ValueError for what has no canonical form."""
    kind = type(value)
    if kind is str or kind is bool or value is None or isinstance(value, str):
        return True
    if kind is int:
        if abs(value) > LARGEST_INTEGER:
            raise ValueError(f"{value} is too large for canonical JSON")
        return True
    if isinstance(value, Mapping):
        plain = True
        for key, inner in value.items():
            if type(key) is not str:
                raise ValueError("canonical JSON has text keys only")
            plain = _is_plain(inner) and key.isascii() and plain
        return plain
    if isinstance(value, (list, tuple)):
        return all(map(_is_plain, value))
    raise ValueError(f"canonical JSON holds no {kind.__name__}")


def _ordered(value: Any) -> Any:
    """Keys in UTF-16 order (RFC 8785 §3.2.3), which differs from code point order beyond the BMP."""
    if isinstance(value, Mapping):
        return {key: _ordered(value[key]) for key in sorted(value, key=lambda k: k.encode("utf-16-be"))}
    return [_ordered(inner) for inner in value] if isinstance(value, (list, tuple)) else value


_PLAIN = json.JSONEncoder(separators=(",", ":"), ensure_ascii=False, allow_nan=False, sort_keys=True, default=dict)
_GIVEN = json.JSONEncoder(separators=(",", ":"), ensure_ascii=False, allow_nan=False)


def canonical(value: Any) -> bytes:
    """The one way to write `value`. Raises ValueError for floats, huge integers and lone surrogates."""
    text = _PLAIN.encode(value) if _is_plain(value) else _GIVEN.encode(_ordered(value))
    return text.encode()


def digest(value: Any) -> str:
    """SHA-256 over the canonical form, in hexadecimal."""
    return hashlib.sha256(canonical(value)).hexdigest()


def external_id(workspace: str, charter: str, mark: Mapping[str, Any], generation: int) -> str:
    """What Sigillum writes into `externalId` to find its own work again; no proof of ownership. `mark`: its body."""
    whole = hashlib.sha256(canonical([workspace, charter, mark, generation])).digest()
    return "sig-" + base64.urlsafe_b64encode(whole[:18]).decode()


def fitted(mark: str, alphabet: str, length: int) -> str:
    """A mark in the form that a tenant has room for: so many characters of this alphabet, the same for the same mark."""
    number, out = int.from_bytes(hashlib.sha256(mark.encode()).digest()), ""
    for _ in range(length):
        number, digit = divmod(number, len(alphabet))
        out += alphabet[digit]
    return out


def thumbprint(key: Mapping[str, Any]) -> str:
    """RFC 7638 thumbprint (SHA-256, base64url) of a public JWK. Raises ValueError for an unknown kind."""
    required = {"OKP": ("crv", "kty", "x"), "EC": ("crv", "kty", "x", "y"), "RSA": ("e", "kty", "n")}
    names = required.get(str(key.get("kty")))
    if names is None or not all(isinstance(key.get(n), str) for n in names):
        raise ValueError("not a public JWK of a kind we know")
    whole = hashlib.sha256(canonical({n: key[n] for n in names})).digest()
    return base64.urlsafe_b64encode(whole).rstrip(b"=").decode()


def certificate_mark(der: str) -> str:
    """The `x5t#S256` of a certificate (RFC 7515 §4.1.8), from the base64 of its DER. Raises ValueError."""
    return base64.urlsafe_b64encode(hashlib.sha256(base64.b64decode(der, validate=True)).digest()).rstrip(b"=").decode()


PUBLIC_MEMBERS = ("kty", "crv", "x", "y", "n", "e")


def public_half(key: Mapping[str, Any]) -> dict[str, Any]:
    """The public members of a JWK."""
    return {name: key[name] for name in PUBLIC_MEMBERS if name in key}
