"""The ledger's chain: what an entry is, how it is bound to the one before, and checking a whole ledger."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from json.encoder import encode_basestring
from typing import Any, NamedTuple, Protocol

from sigillum.core.values.canonical import canonical

VERSION = 3  # 1: what a charter asked for was named by one text
GENESIS = "0" * 64


@dataclass(frozen=True, slots=True)
class LedgerEntry:
    """One sealed entry. `at` is for reading only: nothing is ordered by it."""

    stream: str
    sequence: int
    previous: str
    at: str
    writer: str
    key_id: str
    kind: str
    charter: str
    body: Mapping[str, Any]
    hash: str = ""
    signature: str = ""
    version: int = VERSION
    text: bytes = b""  # the body as it was stored, where it was

    def content(self) -> dict[str, Any]:
        """Everything that the hash covers."""
        return {
            "version": self.version,
            "stream": self.stream,
            "sequence": self.sequence,
            "previous": self.previous,
            "at": self.at,
            "writer": self.writer,
            "key_id": self.key_id,
            "kind": self.kind,
            "charter": self.charter,
            "body": self.body,
        }


class Head(NamedTuple):
    """Where a ledger stands: how many entries, and the hash of the last."""

    stream: str
    sequence: int
    hash: str

    def message(self) -> bytes:
        """What the signature of a checkpoint covers."""
        return canonical({"stream": self.stream, "sequence": self.sequence, "hash": self.hash})


class ChainFault(NamedTuple):
    """Something wrong in a ledger: at which sequence, and what."""

    sequence: int
    what: str


Verify = Callable[[Sequence[tuple[bytes, str]]], Sequence[bool]]  # of messages with their signatures, which are good


def hash_of(entry: LedgerEntry, body: bytes | None = None) -> str:
    """SHA-256 over the canonical form of `content()`; `body` is the body's own form, where it is at hand already."""
    q = encode_basestring  # as canonical JSON has a text; the names stand in its order
    head = f'{{"at":{q(entry.at)},"body":'.encode() + (canonical(entry.body) if body is None else body)
    rest = (
        f',"charter":{q(entry.charter)},"key_id":{q(entry.key_id)},"kind":{q(entry.kind)},"previous":{q(entry.previous)},'
        f'"sequence":{entry.sequence},"stream":{q(entry.stream)},"version":{entry.version},"writer":{q(entry.writer)}}}'
    )
    return hashlib.sha256(head + rest.encode()).hexdigest()


def check(
    entries: Iterable[LedgerEntry], stream: str, verify: Verify, begin: Head | None = None
) -> tuple[Head, list[ChainFault]]:
    """Walk a ledger from its first entry, or from the one after a checkpoint; return where it stands and all that is wrong."""
    head, findings = begin or Head(stream, 0, GENESIS), list[ChainFault]()
    signed = list[tuple[int, tuple[bytes, str]]]()
    for entry in entries:
        number = head.sequence + 1
        if entry.sequence != number:
            findings.append(ChainFault(number, f"entry {number} is missing, {entry.sequence} stands in its place"))
        if entry.stream != stream:
            findings.append(ChainFault(entry.sequence, "it belongs to another ledger"))
        if entry.previous != head.hash:
            findings.append(ChainFault(entry.sequence, "it does not follow the entry before it"))
        if entry.hash != hash_of(entry, entry.text or None):  # what is stored in another form has another hash
            findings.append(ChainFault(entry.sequence, "its content was changed"))
        else:
            signed.append((entry.sequence, (entry.hash.encode(), entry.signature)))
        head = Head(stream, entry.sequence, entry.hash)
    good = verify([pair for _, pair in signed])
    findings += [
        ChainFault(n, "its signature is not by this ledger's key") for (n, _), yes in zip(signed, good, strict=True) if not yes
    ]
    return head, sorted(findings)


def compare_heads(now: Head, kept: Head, hash_at: Callable[[int], str | None]) -> list[ChainFault]:
    """Does the ledger continue the checkpoint that was kept elsewhere?"""
    if kept.stream != now.stream:
        return [ChainFault(0, "the checkpoint is of another ledger")]
    if now.sequence < kept.sequence:
        return [ChainFault(now.sequence, f"the ledger was rolled back: it had {kept.sequence} entries once")]
    if hash_at(kept.sequence) != kept.hash:
        return [ChainFault(kept.sequence, "the ledger was rewritten: the checkpoint's entry is not the same")]
    return []


class Signer(Protocol):
    """Who signs a checkpoint."""

    @property
    def key_id(self) -> str: ...
    def sign(self, message: bytes) -> str: ...


def signed_head(head: Head, key: Signer) -> dict[str, Any]:
    """A checkpoint: where a ledger stands, signed."""
    return {
        "checkpoint": 1,
        "stream": head.stream,
        "sequence": head.sequence,
        "hash": head.hash,
        "key_id": key.key_id,
        "signature": key.sign(head.message()),
    }


def read_head(found: Any) -> tuple[Head, str]:
    """The head in a checkpoint, and its signature, not verified. Raises ValueError."""
    try:
        return Head(str(found["stream"]), int(found["sequence"]), str(found["hash"])), str(found["signature"])
    except (KeyError, TypeError, OverflowError) as problem:
        raise ValueError("this is no checkpoint") from problem
