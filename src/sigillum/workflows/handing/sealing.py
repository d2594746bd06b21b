"""Sealing a sheet to its receiver's key, and opening one there."""

from __future__ import annotations

import hashlib
import secrets
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, NamedTuple

from sigillum.core.charter.sheet import KINDS, Sheet, Value
from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.errors import SomebodyError, UsageError
from sigillum.core.values.outside import json_of
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import unseen
from sigillum.core.values.times import whole_second
from sigillum.workflows.desk.office import Office


# --- sealing ------------------------------------------------------------------------------------------------------
class Sealed(NamedTuple):
    """A sealed sheet: its text, its id, its end, the thumbprint of the receiver's key, and the digest of the code inside."""

    text: str
    id: str
    ends: datetime
    receiver: str
    code: str


def code_mark(code: str) -> str:
    """What is kept of the code in a sealed sheet, by which its receipt is known."""
    return hashlib.sha256(code.encode()).hexdigest()


def seal(office: Office, sheet: Sheet, receiver: Path | None, lasts_seconds: int) -> Sealed:
    """Sign and encrypt a complete sheet to the receiver's key. Raises SomebodyError, UsageError, FileError."""
    from sigillum.charters.keyfiles import read_public_key
    from sigillum.core.values.errors import Position
    from sigillum.keys.seal import seal as seal_

    if not sheet.complete:
        raise SomebodyError(
            f"the sheet of {sheet.charter} is not complete",
            where=sheet.charter,
            mend=f"`sigillum handover {sheet.charter}` says what is missing",
        )
    described = office.workspace.consumers.get(sheet.consumer)
    if receiver is None and described is not None and described.key:
        receiver = office.workspace.folder / described.key.removeprefix("file:")
    if receiver is None:
        raise UsageError(
            "it is not said to whom it is sealed",
            where="--seal-to",
            mend="name the file with the receiver's public key, or write `key: file:PATH` at the consumer",
        )
    key = dict(read_public_key(receiver, Position(str(receiver))))
    now = whole_second(datetime.now(UTC))
    ends, identity, mark = now + timedelta(seconds=lasts_seconds), secrets.token_hex(8), thumbprint(key)
    code = secrets.token_urlsafe(24)  # only who opens the sheet has it
    claims = {
        "iss": office.workspace.file.workspace,
        "aud": mark,
        "iat": int(now.timestamp()),
        "exp": int(ends.timestamp()),
        "jti": identity,
        "code": code,
        "sheet": {
            "charter": sheet.charter,
            "consumer": sheet.consumer,
            "values": [{"value": v.value, "name": v.name, "kind": v.kind, "content": _plain(v.content)} for v in sheet.values],
        },
    }
    return Sealed(seal_(claims, office.books.signing_key(), key, str(receiver)), identity, ends, mark, code_mark(code))


def open_(office: Office | None, path: Path, key_reference: str, signers: list[str], folder: Path) -> Sheet:
    """Open a sheet that was sealed to us. Raises FileError; nothing of it is given where anything is wrong."""
    from sigillum.core.values.errors import FileError
    from sigillum.keeping.references import resolve
    from sigillum.keys.seal import unseal

    try:
        private = json_of(resolve(key_reference, folder, "--with-key").reveal())
        if not isinstance(private, dict):
            raise TypeError
    except (ValueError, TypeError) as problem:
        raise FileError(
            "the receiving key is no JWK", where=key_reference, mend="`sigillum handover key FILE` makes one"
        ) from problem
    known = office.trusted(signers, ours=True) if office is not None else frozenset(signers)
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as problem:
        raise FileError(
            f"the file cannot be read: {getattr(problem, 'strerror', None) or 'it is no text'}",
            where=str(path),
            mend="check its name",
        ) from problem
    opened = unseal(text, private, known, datetime.now(UTC), str(path))
    body = opened.claims.get("sheet")
    rows = body.get("values") if isinstance(body, dict) else None
    if not isinstance(rows, list) or not all(isinstance(r, dict) for r in rows):
        raise FileError("what is inside is no sheet", where=str(path), mend="ask the sender which version wrote it")
    assert isinstance(body, dict)
    strange = unseen({n: v for n, v in body.items() if n != "values"} | {"values": [{**r, "content": ""} for r in rows]})
    if strange:
        raise FileError(
            f"it holds characters that cannot be seen: {strange!a}",
            where=str(path),
            mend="do not use it; ask its sender on another way",
        )
    values = tuple(
        Value(
            str(r.get("value")),
            str(r.get("name")),
            KINDS.get(str(r.get("value")), (str(r.get("kind")), ""))[0],
            Secret(str(r.get("content"))) if r.get("kind") == "secret" else str(r.get("content")),
        )
        for r in rows
    )
    return Sheet(
        str(body.get("charter")),
        str(body.get("consumer")),
        values,
        sealed=str(opened.claims.get("jti") or ""),
        code=str(opened.claims.get("code") or ""),
    )


def _plain(content: Any) -> str:
    return content.reveal() if isinstance(content, Secret) else str(content)
