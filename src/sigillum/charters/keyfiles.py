"""Public keys and certificates that a charter names as files."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sigillum.core.values.canonical import public_half
from sigillum.core.values.errors import FileError, Mistake, Position
from sigillum.core.values.outside import json_of
from sigillum.reading.document import read_text

if TYPE_CHECKING:
    from sigillum.core.charter.wants import CertificateAnswer


def read_public_key(path: Path, position: Position) -> Mapping[str, Any]:
    """The holder's public JWK. Raises FileError; above all where it is not only the public half."""

    def wrong(what: str, mend: str) -> FileError:
        return FileError(what, where=str(position), mend=mend, mistakes=(Mistake("public-key", what, mend, position),))

    try:
        key = json_of(read_text(path, str(path)))
    except (FileError, ValueError) as problem:
        raise wrong("the public key cannot be read", "name a file with a public JWK in it") from problem
    if not isinstance(key, dict) or "kty" not in key:
        raise wrong("the file holds no JWK", "ask the holder for the public half as a JWK (RFC 7517)")
    if any(n in key for n in ("d", "p", "q", "k")):
        raise wrong(
            "the file holds a private key, which must never travel",
            "ask the holder to make a new pair and to send the public half only",
        )
    return {n: str(v) for n, v in public_half(key).items()}


def read_certificate(path: Path, ca: Path | None, position: Position) -> CertificateAnswer:
    """What the house's CA answered; signed by it, where `house_ca:` of sigillum.yaml names that. Raises FileError."""
    from sigillum.core.charter.wants import CertificateAnswer
    from sigillum.keys.certificates import chained, read

    try:
        seen = read(path.read_bytes())
        held = chained(seen.der, ca.read_bytes()) if ca is not None else True
    except (OSError, ValueError) as problem:
        what = f"the certificate cannot be read: {getattr(problem, 'strerror', None) or problem}"
        mend = "name the file that the house's CA sent: PEM or DER, without a private key"
        wrong = Mistake("certificate", what, mend, position)
        raise FileError(what, where=str(position), mend=mend, mistakes=(wrong,)) from problem
    return CertificateAnswer(seen.der, seen.key, seen.until, seen.subject, seen.issuer, seen.authority, held)
