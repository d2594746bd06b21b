"""Receiving a secret that a tenant seals to a key of ours (JWE, RFC 7516; ECDH-ES, RFC 7518 §4.6)."""

from __future__ import annotations

from typing import Any

from joserfc import jwe
from joserfc.errors import JoseError
from joserfc.jwk import OKPKey

from sigillum.core.values.errors import UnreachableError
from sigillum.core.values.secret import Secret


class Envelope:
    """A key for one delivery; its private half lives in memory only."""

    def __init__(self) -> None:
        self._key = OKPKey.generate_key("X25519")

    def public(self) -> dict[str, Any]:
        return dict(self._key.as_dict(private=False))

    def open(self, sealed: str) -> Secret:
        """Raises UnreachableError where it was not sealed to this key."""
        try:
            content = jwe.decrypt_compact(sealed, self._key, algorithms=["ECDH-ES", "A256GCM"]).plaintext
            return Secret((content or b"").decode())
        except (JoseError, ValueError) as problem:
            raise UnreachableError("the sealed secret does not open", mend="run the same command again") from problem
