"""What a server keeps instead of a password: a SCRAM-SHA-256 verifier (RFC 5802 §3, RFC 7677), computed here."""

from __future__ import annotations

import base64
import hashlib
import hmac
import secrets
import stringprep
import unicodedata

from sigillum.core.values.secret import Secret

ITERATIONS, SALT_BYTES = 4096, 16


def verifier(password: Secret, salt: bytes = b"", iterations: int = ITERATIONS) -> str:
    """As the server stores it, so that the password itself never travels."""
    salt = salt or secrets.token_bytes(SALT_BYTES)
    salted = hashlib.pbkdf2_hmac("sha256", prepared(password.reveal()).encode(), salt, iterations)
    stored = hashlib.sha256(hmac.digest(salted, b"Client Key", "sha256")).digest()
    server = hmac.digest(salted, b"Server Key", "sha256")
    return f"SCRAM-SHA-256${iterations}:{_b64(salt)}${_b64(stored)}:{_b64(server)}"


def prepared(text: str) -> str:
    """SASLprep (RFC 4013 §2); what it prohibits stays as it is, as servers do it."""
    mapped = "".join(" " if stringprep.in_table_c12(c) else c for c in text if not stringprep.in_table_b1(c))
    normal = unicodedata.normalize("NFKC", mapped)
    prohibited = any(
        test(c)
        for c in normal
        for test in (
            stringprep.in_table_c12,
            stringprep.in_table_c21_c22,
            stringprep.in_table_c3,
            stringprep.in_table_c4,
            stringprep.in_table_c5,
            stringprep.in_table_c6,
            stringprep.in_table_c7,
            stringprep.in_table_c8,
            stringprep.in_table_c9,
        )
    )
    right = [stringprep.in_table_d1(c) for c in normal]
    mixed = any(right) and (any(map(stringprep.in_table_d2, normal)) or not (right[0] and right[-1]))
    return text if prohibited or mixed or not normal else normal


def _b64(data: bytes) -> str:
    return base64.b64encode(data).decode()
