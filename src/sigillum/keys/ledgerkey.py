"""The key that signs the ledger: Ed25519 (RFC 8032), kept as a private JWK (RFC 8037)."""

from __future__ import annotations

import base64
import os
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.errors import MachineError

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey


MANY = 500  # signatures that one thread checks at a time


def b64(data: bytes) -> str:
    """base64url without padding (RFC 7515 §2)."""
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()


def unb64(text: str) -> bytes:
    """Raises ValueError where the text is not base64url."""
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))


class LedgerKey:
    """Signs messages; `key_id` is the RFC 7638 thumbprint of its public half."""

    def __init__(self, private: Ed25519PrivateKey) -> None:
        self._private = private
        self.public: dict[str, Any] = {"kty": "OKP", "crv": "Ed25519", "x": b64(private.public_key().public_bytes_raw())}
        self.key_id = thumbprint(self.public)

    @classmethod
    def make(cls) -> LedgerKey:
        """A new key."""
        from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

        return cls(Ed25519PrivateKey.generate())

    @classmethod
    def of(cls, jwk: Mapping[str, Any], where: str) -> LedgerKey:
        """The key of a private JWK. Raises MachineError where it is none."""
        from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

        try:
            return cls(Ed25519PrivateKey.from_private_bytes(unb64(str(jwk["d"]))))
        except (KeyError, ValueError) as problem:
            raise MachineError(
                "the ledger's signing key cannot be used", where=where, mend="restore it from a copy"
            ) from problem

    def private_jwk(self) -> dict[str, Any]:
        """The whole key, for its keeping place alone."""
        return {**self.public, "d": b64(self._private.private_bytes_raw())}

    def sign(self, message: bytes) -> str:
        return b64(self._private.sign(message))


class Verifier:
    """Whether messages are signed by one key, by its public part `x`. Raises MachineError where that is none."""

    def __init__(self, public_x: str) -> None:
        self._x, self._one = public_x, _verifier(public_x)

    def __call__(self, message: bytes, signature: str) -> bool:
        return self._one(message, signature)

    def all(self, signed: Sequence[tuple[bytes, str]]) -> list[bool]:
        """Of each; many by a library that takes a third of the time for it, shared among the cores."""
        if len(signed) < MANY:
            return [self._one(*one) for one in signed]
        from concurrent.futures import ThreadPoolExecutor

        from nacl.exceptions import CryptoError
        from nacl.signing import VerifyKey

        key = VerifyKey(unb64(self._x))

        def good(message: bytes, signature: str) -> bool:
            try:
                key.verify(message, unb64(signature))
            except (CryptoError, ValueError):
                return False
            return True

        parts = [signed[n : n + MANY] for n in range(0, len(signed), MANY)]
        with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
            return [one for part in pool.map(lambda p: [good(*one) for one in p], parts) for one in part]


def _verifier(public_x: str) -> Callable[[bytes, str], bool]:
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

    try:
        key = Ed25519PublicKey.from_public_bytes(unb64(public_x))
    except ValueError as problem:
        raise MachineError(
            "the ledger's public key is not readable", where="sigillum.yaml", mend="restore `ledger_key` from a copy"
        ) from problem

    def verify(message: bytes, signature: str) -> bool:
        try:
            key.verify(unb64(signature), message)
        except (InvalidSignature, ValueError):
            return False
        return True

    return verify
