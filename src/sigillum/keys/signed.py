"""Signed JSON documents: readable, with a detached signature beside the content (JWS, RFC 7515 appendix F).

The signature covers the canonical form (RFC 8785) of everything else in the document.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

from sigillum.core.values.canonical import canonical, thumbprint
from sigillum.core.values.errors import FileError
from sigillum.core.values.outside import json_of

from .ledgerkey import LedgerKey, Verifier, b64, unb64

MEMBER = "signature"


class Signer(NamedTuple):
    """Whose key signed: its thumbprint (RFC 7638), and the public key."""

    key_id: str
    public: Mapping[str, Any]


def sign(content: Mapping[str, Any], key: LedgerKey) -> dict[str, Any]:
    """The document with its signature."""
    header = {"alg": "Ed25519", "kid": key.key_id, "jwk": key.public}
    protected = b64(canonical(header))
    signature = key.sign(f"{protected}.{b64(canonical(dict(content)))}".encode())
    return {**content, MEMBER: f"{protected}..{signature}"}


def check(document: Mapping[str, Any], where: str) -> Signer:
    """Who signed a document. Raises FileError where nobody did, or where it was changed since."""

    def wrong(what: str, mend: str) -> FileError:
        return FileError(what, where=where, mend=mend)

    text = document.get(MEMBER)
    if not isinstance(text, str) or text.count(".") != 2:
        raise wrong("the file is not signed", "ask its sender for the file as it was written")
    protected, _, signature = text.split(".")
    try:
        header = json_of(unb64(protected))
        public = dict(header["jwk"])
        algorithm, key_id, x, mark = header["alg"], str(header["kid"]), str(public["x"]), thumbprint(public)
        content = canonical({n: v for n, v in document.items() if n != MEMBER})
    except (ValueError, KeyError, TypeError) as problem:
        raise wrong("the file's signature is not readable", "ask its sender for the file as it was written") from problem
    if algorithm != "Ed25519" or public.get("crv") != "Ed25519" or mark != key_id:
        raise wrong("the file is signed in a way that is not taken here", "it must be an Ed25519 key and its own thumbprint")
    if not Verifier(x)(f"{protected}.{b64(content)}".encode(), signature):
        raise wrong("the file was changed after it was signed, or damaged on its way", "ask its sender for it anew")
    return Signer(key_id, public)
