"""Canonical JSON (RFC 8785, with integers only) and the digests that are made over it."""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Mapping
from typing import Any

LARGEST_INTEGER = 2**53 - 1  # RFC 8785 §3.2.2.3: beyond it JSON numbers lose their last digits


def _check(value: Any) -> None:
    if value is None or isinstance(value, (bool, str)):
        return
    if isinstance(value, int):
        if abs(value) > LARGEST_INTEGER:
            raise ValueError(f"{value} is too large for canonical JSON")
    elif isinstance(value, Mapping):
        for key, inner in value.items():
            if not isinstance(key, str):
                raise ValueError("canonical JSON has text keys only")
            _check(inner)
    elif isinstance(value, (list, tuple)):
        for inner in value:
            _check(inner)
    else:
        raise ValueError(f"canonical JSON holds no {type(value).__name__}")


def _ordered(value: Any) -> Any:
    """Keys in UTF-16 order (RFC 8785 §3.2.3), which differs from code point order beyond the BMP."""
    if isinstance(value, Mapping):
        return {k: _ordered(value[k]) for k in sorted(value, key=lambda k: k.encode("utf-16-be"))}
    if isinstance(value, (list, tuple)):
        return [_ordered(v) for v in value]
    return value


def canonical(value: Any) -> bytes:
    """The one way to write `value`. Raises ValueError for floats, huge integers and lone surrogates."""
    _check(value)
    return json.dumps(_ordered(value), separators=(",", ":"), ensure_ascii=False, allow_nan=False).encode()


def digest(value: Any) -> str:
    """SHA-256 over the canonical form, in hexadecimal."""
    return hashlib.sha256(canonical(value)).hexdigest()


def external_id(workspace: str, charter: str, facet: str, name: str, generation: int) -> str:
    """What Sigillum writes into `externalId` to find its own work again; no proof of ownership."""
    whole = hashlib.sha256(canonical([workspace, charter, facet, name, generation])).digest()
    return "sig-" + base64.urlsafe_b64encode(whole[:18]).decode()


def thumbprint(key: Mapping[str, Any]) -> str:
    """RFC 7638 thumbprint (SHA-256, base64url) of a public JWK. Raises ValueError for an unknown kind."""
    required = {"OKP": ("crv", "kty", "x"), "EC": ("crv", "kty", "x", "y"), "RSA": ("e", "kty", "n")}
    names = required.get(str(key.get("kty")))
    if names is None or not all(isinstance(key.get(n), str) for n in names):
        raise ValueError("not a public JWK of a kind we know")
    whole = hashlib.sha256(canonical({n: key[n] for n in names})).digest()
    return base64.urlsafe_b64encode(whole).rstrip(b"=").decode()
