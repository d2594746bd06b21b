"""Private keys, tokens and secrets that stand literally in a text: where, and a mark of each by which it is known again.

Nothing that is found is given out: of a key its thumbprint (RFC 7638), of everything else a digest.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import math
import re
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import NamedTuple

from sigillum.core.values.outside import json_of
from sigillum.core.values.times import format_instant

from .blocks import blocks
from .mending import mend
from .shapes import CONFIGURATION, CREDENTIAL, NoShapeError, Shape, read
from .shapes import TOKEN as SHAPE_TOKEN

KEY, TOKEN, SECRET = "private key", "token", "secret"
SHORTEST, LEAST_BITS = 16, 3.0  # characters of a secret, and how much each of them says
HINTS = (b"secret", b"token", b"passw", b"api", b"author")  # one of them stands before what is looked for by its name
CLOSED = (  # what begins so is not looked into
    (b"PK\x03\x04", "an archive (zip)"),
    (b"Rar!\x1a\x07", "an archive (rar)"),
    (b"7z\xbc\xaf\x27\x1c", "an archive (7z)"),
    (b"\x1f\x8b", "compressed (gzip)"),
    (b"BZh", "compressed (bzip2)"),
    (b"\xfd7zXZ\x00", "compressed (xz)"),
    (b"\x28\xb5\x2f\xfd", "compressed (zstd)"),
    (b"\xfe\xed\xfe\xed", "a key store (JKS)"),
    (b"\xce\xce\xce\xce", "a key store (JCEKS)"),
    (b"\x03\xd9\xa2\x9a", "an encrypted store of passwords"),
)
ANY_CLOSED = tuple(mark for mark, _ in CLOSED)
TAR = (257, b"ustar")  # its mark stands there; what is in it stands there as it is
MARKS = ((b"\xef\xbb\xbf", "utf-8"), (b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be"))  # of a text's character set
_JWK = re.compile(r"\{[^{}]{20,8000}\}")
_KTY = re.compile(r"""["']kty["']""")
_JWT = re.compile(r"\beyJ[A-Za-z0-9_-]{8,}\.eyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}")
# how base64 begins of a PEM block, of a JSON object, and of the DER of a private key (RFC 5958, RFC 8017, RFC 5915)
BEGINS = ("LS0tLS1CRUdJTi", "eyJ", "eyAi", "ewog", "ewok", "MII", "MIG", "MHcCAQ", "MC4CAQ", "ME4CAQ", "MEcCAQ", "MEYCAQ")
_CODED = re.compile(
    rf"(?<![A-Za-z0-9+/_-])(?:{'|'.join(BEGINS)})[A-Za-z0-9+/_-]{{30,20000}}={{0,2}}"
    r"(?:\s{1,20}[A-Za-z0-9+/]{40,80}={0,2})*(?:\s{1,20}[A-Za-z0-9+/]{1,80}={0,2})?"
)
# a secret is a word of at least so many of these characters, and so is a part of every key
_DRAWN = bytes(120 if chr(n).isascii() and (chr(n).isalnum() or chr(n) in "+/_.=!@$%^&*~-") else 32 for n in range(256))
_RUN = b"x" * SHORTEST
MARKED = (*(b.encode() for b in BEGINS), b"PRIVATE KEY", b"kty")
_BODY = re.compile(rb"[A-Za-z0-9+/]{16}")  # what has none of it is the name of a key's form, and no key
_DIGIT = re.compile(rb"[0-9]")
_BEARER = re.compile(r"(?i)author[\w\"' ]{0,30}[:=]?[\"' ]{0,3}(?:bearer|basic)\s+([A-Za-z0-9+/_.=-]{16,500})")
_GIVEN = re.compile(r"""(?ix)(?:secret|passw(?:or)?d|passwd|token|api[_-]?key)[\w-]{0,20}["']?(?:\s*[:=]\s*|\s+)["']?
    ([A-Za-z0-9+/_.=!@$%^&*~-]{16,500})""")
_REFERENCE = re.compile(r"(?:env|file|keyring|store|https?):|[$%<{]|.*\$\{|.*\.(?:json|ya?ml|pem|jwk|txt|py|token|secret)\Z")


class FoundKey(NamedTuple):
    """One of them. `mark`: a thumbprint or a digest; `until`: of a token that says when it ends."""

    line: int
    column: int
    what: str
    mark: str
    until: str = ""
    ended: bool = False


def mark_of(secret: str) -> str:
    """By what a secret is known again."""
    return hashlib.sha256(secret.encode()).hexdigest()


class Examined(NamedTuple):
    """What was found in a file, and why it cannot be told whether there is more; empty where it can."""

    found: list[FoundKey]
    untold: str = ""


def scan(data: bytes, now: datetime | None = None) -> list[FoundKey]:
    """Everything that is found, in order of place."""
    return examined(data, now).found


def examined(data: bytes, now: datetime | None = None) -> Examined:
    """Everything that is found, and whether that is all. What the reader of key files finds is found here as well."""
    if data.startswith(ANY_CLOSED):
        return Examined([], next(name for mark, name in CLOSED if data.startswith(mark)))
    for mark, name in MARKS if data.startswith((b"\xef", b"\xff", b"\xfe")) else ():
        if data.startswith(mark):
            data = data[len(mark) :].decode(name, "replace").encode()
    found = _literal(data, now or datetime.now(UTC))
    shapes = _shapes(data) if _may_be_read(data) else []
    if not found:  # a file that is one thing as a whole, in whatever form
        found = [_whole(data, s) for s in shapes if s.private or s.kind == SHAPE_TOKEN]
    locked = next((f"it is locked ({s.form})" for s in shapes if s.private is None), "")
    return Examined(found, locked or ("an archive (tar)" if data[TAR[0] :].startswith(TAR[1]) else ""))


WHAT = {SHAPE_TOKEN: TOKEN, CONFIGURATION: SECRET, CREDENTIAL: SECRET}  # as the reader of key files calls them


def _whole(data: bytes, shape: Shape) -> FoundKey:
    """What a file is, at its beginning; of settings the member that holds something."""
    at = max(data.find(f'"{dict(shape.about).get("holds", "")}"'.encode()), 0)
    place = (data.count(b"\n", 0, at) + 1, at - data.rfind(b"\n", 0, at))
    return FoundKey(*place, WHAT.get(shape.kind, KEY), shape.thumbprint or hashlib.sha256(data).hexdigest(), shape.until)


def _may_be_read(data: bytes) -> bool:
    """Is it worth the reader's time? Its forms begin like these."""
    begin = data[:400].lstrip()
    if begin[:1] in (b"{", b"["):
        return b'"kty"' in data or any(h in data.lower() for h in NAMED)
    return begin.startswith((b"\x30", b"PuTTY-User-Key-File-")) or (begin[:3] in (b"eyA", b"ewo", b"eyJ") and b"." in data)


NAMED = (b"secret", b"passw", b"token", b"key", b"credential")  # in the names of members that hold one


def _literal(data: bytes, now: datetime) -> list[FoundKey]:
    """What stands literally in a text, or in a program, or in a picture."""
    if _RUN not in data.translate(_DRAWN):  # the quickest look there is: nothing in it is long enough
        return []
    low = data.lower()
    hinted = b"\0" not in data and any(h in low for h in HINTS)
    if not hinted and not any(m in data for m in MARKED):
        return []
    text, taken = data.decode("latin-1"), bytearray(len(data))  # a place is one of bytes
    kept = list[tuple[int, str, str, str]]()
    for begin, end, what, mark, until in _found(data, text, _lines(data, low) if hinted else []):
        if taken.find(1, begin, end) < 0:
            taken[begin:end] = b"\1" * (end - begin)
            kept.append((begin, what, mark, until))
    out, line, counted = list[FoundKey](), 1, 0
    for begin, what, mark, until in sorted(kept):
        line, counted = line + text.count("\n", counted, begin), begin
        ended = bool(until) and until <= format_instant(now)
        out.append(FoundKey(line, begin - text.rfind("\n", 0, begin), what, mark, until, ended))
    return out


def _shapes(data: bytes) -> list[Shape]:
    try:
        return read(data)
    except NoShapeError:
        return []


def _found(data: bytes, text: str, lines: list[tuple[int, int]]) -> Iterator[tuple[int, int, str, str, str]]:
    """Begin, end, what it is, its mark and its end; the surest first."""
    for block in blocks(data) if b"PRIVATE KEY" in data else ():
        if block.private and _BODY.search(data, block.begin + len(block.label) + 16, block.end):
            yield block.begin, block.end, KEY, _mark(data[block.begin : block.end]), ""
    for found in _JWK.finditer(text) if "kty" in text and _KTY.search(text) else ():
        shape = (
            next((s for s in _shapes(found[0].replace("'", '"').encode()) if s.private), None) if "kty" in found[0] else None
        )
        if shape is not None:
            yield found.start(), found.end(), KEY, shape.thumbprint or mark_of(found[0]), ""
    for found in _JWT.finditer(text) if "eyJ" in text else ():
        yield found.start(), found.end(), TOKEN, mark_of(found[0]), _end_of(found[0])
    for found in _CODED.finditer(text) if any(b in text for b in BEGINS) else ():
        if mark := _coded(found[0]):
            yield found.start(), found.end(), KEY, mark, ""
    for begin, end in lines:
        for pattern in (_BEARER, _GIVEN):
            for found in pattern.finditer(text, begin, end):
                if secret_like(found[1]):
                    yield found.start(1), found.end(1), SECRET, mark_of(found[1].strip("\"'")), ""


def _mark(block: bytes) -> str:
    """Of a private key in PEM: its thumbprint, where it can be read or mended, else a digest."""
    try:
        shapes = read(mend(block).data)
    except NoShapeError:
        shapes = []
    return next((s.thumbprint for s in shapes if s.thumbprint), hashlib.sha256(block).hexdigest())


def _coded(text: str) -> str:
    """The mark of a private key that stands there in base64; empty where there is none."""
    whole = "".join(text.split()).rstrip("=").replace("-", "+").replace("_", "/")
    try:
        data = base64.b64decode(whole + "=" * (-len(whole) % 4))
    except (ValueError, binascii.Error):
        return ""
    if data.startswith(b"-----BEGIN"):
        return next((_mark(data[b.begin : b.end]) for b in blocks(data) if b.private), "")
    if data[:1] == b"{" and b'"kty"' in data:
        return next((s.thumbprint or mark_of(text) for s in _shapes(data) if s.private), "")
    if data[:1] == b"\x30":
        return next((s.thumbprint or mark_of(text) for s in _shapes(_sequence(data)) if s.private), "")
    return ""


def _sequence(data: bytes) -> bytes:
    """The DER sequence (X.690 §8.1.3) with which the data begin; nothing where they end before it does."""
    size = data[1] & 0x7F if len(data) > 1 and data[1] & 0x80 else 0
    length = int.from_bytes(data[2 : 2 + size], "big") if size else data[1] if len(data) > 1 else 0
    whole = data[: 2 + size + length]
    return whole if len(whole) == 2 + size + length else b""


def _lines(data: bytes, low: bytes) -> list[tuple[int, int]]:
    """Where the lines begin and end that have a word for a secret in them, and something that may be one."""
    found, seen = dict[int, int](), set[int]()
    for hint in HINTS:
        at = low.find(hint)
        while at >= 0:
            begin, end = data.rfind(b"\n", 0, at) + 1, data.find(b"\n", at)
            end = len(data) if end < 0 else end
            if begin not in seen and _drawn(data[begin:end]):
                found[begin] = end
            seen.add(begin)
            at = low.find(hint, end)
    return sorted(found.items())


def _drawn(data: bytes) -> bool:
    """Is there a word in it that is long enough for a secret, and has a digit? The quickest look there is."""
    return any(len(w) >= SHORTEST and not w.isalpha() and _DIGIT.search(w) for w in data.split())


def secret_like(value: str) -> bool:
    """Is it written literally, and does it look drawn by lot: letters and digits, each of which says something?"""
    if len(value) < SHORTEST or _REFERENCE.match(value) or not (re.search(r"[0-9]", value) and re.search(r"[A-Za-z]", value)):
        return False
    bits = -sum(n / len(value) * math.log2(n / len(value)) for n in Counter(value).values())
    return bits >= LEAST_BITS


def _end_of(token: str) -> str:
    part = token.split(".")[1]
    try:
        claims = json_of(base64.urlsafe_b64decode(part + "=" * (-len(part) % 4)))
        return format_instant(datetime.fromtimestamp(int(claims["exp"]), UTC))
    except (ValueError, TypeError, LookupError, OverflowError, OSError, binascii.Error):
        return ""
