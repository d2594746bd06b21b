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

from .mending import mend
from .shapes import NoShapeError, Shape, read

KEY, TOKEN, SECRET = "private key", "token", "secret"
SHORTEST, LEAST_BITS = 16, 3.0  # characters of a secret, and how much each of them says
HINTS = (b"secret", b"token", b"passw", b"api", b"author")  # one of them stands before what is looked for by its name
_PEM = re.compile(r"-----BEGIN (?:[A-Z0-9]+ )*PRIVATE KEY-----.{20,20000}?-----END (?:[A-Z0-9]+ )*PRIVATE KEY-----", re.S)
_JWK = re.compile(r"\{[^{}]{20,8000}\}")
_JWT = re.compile(r"\beyJ[A-Za-z0-9_-]{8,}\.eyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}")
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


def scan(data: bytes, now: datetime | None = None) -> list[FoundKey]:
    """Everything that is found, in order of place."""
    if data[:1] == b"\x30":
        return [FoundKey(1, 1, KEY, s.thumbprint) for s in _shapes(data) if s.private and s.kind == KEY]
    if b"\0" in data and b"PRIVATE KEY-----" not in data:  # a program or a picture: what is written literally is text
        return []
    low = data.lower()
    hinted = any(h in low for h in HINTS)
    if not (hinted or b"eyJ" in data or b"PRIVATE KEY" in data or b'"kty"' in data):
        return []
    text, taken, out = data.decode("latin-1"), list[tuple[int, int]](), list[FoundKey]()  # a place is one of bytes
    for begin, end, what, mark, until in _found(text, _lines(data, low) if hinted else []):
        if not any(a < end and begin < b for a, b in taken):
            taken.append((begin, end))
            line = text.count("\n", 0, begin) + 1
            ended = bool(until) and until <= format_instant(now or datetime.now(UTC))
            out.append(FoundKey(line, begin - text.rfind("\n", 0, begin), what, mark, until, ended))
    return sorted(out)


def _shapes(data: bytes) -> list[Shape]:
    try:
        return read(data)
    except NoShapeError:
        return []


def _found(text: str, lines: list[tuple[int, int]]) -> Iterator[tuple[int, int, str, str, str]]:
    """Begin, end, what it is, its mark and its end; the surest first."""
    for found in _PEM.finditer(text) if "PRIVATE KEY-----" in text else ():
        try:
            shapes = read(mend(found[0].encode()).data)
        except NoShapeError:
            shapes = []
        yield found.start(), found.end(), KEY, next((s.thumbprint for s in shapes if s.thumbprint), mark_of(found[0])), ""
    for found in _JWK.finditer(text) if '"kty"' in text and '"d"' in text else ():
        shape = next((s for s in _shapes(found[0].encode()) if s.private and s.thumbprint), None)
        if shape is not None:
            yield found.start(), found.end(), KEY, shape.thumbprint, ""
    for found in _JWT.finditer(text) if "eyJ" in text else ():
        yield found.start(), found.end(), TOKEN, mark_of(found[0]), _end_of(found[0])
    for begin, end in lines:
        for pattern in (_BEARER, _GIVEN):
            for found in pattern.finditer(text, begin, end):
                if secret_like(found[1]):
                    yield found.start(1), found.end(1), SECRET, mark_of(found[1].strip("\"'")), ""


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
