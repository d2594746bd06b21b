"""The keys and secrets of one charter, in files: a JWK (RFC 7517) or a secret beside its metadata."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from sigillum.core.values.canonical import public_half, thumbprint
from sigillum.core.values.errors import MachineError
from sigillum.core.values.secret import Secret

from .port import Maker
from .private import left_behind, read_private_json, write_private

_NAME = re.compile(r"(?P<name>.+)-(?P<number>\d+)\.json\Z")

class FileKeeping:
    """Files below one folder, one a generation. A held key is made once and never made anew."""

    def __init__(self, folder: Path, maker: Maker) -> None:
        self.folder, self._maker = folder, maker

    def path(self, credential: str, generation: int) -> Path:
        return self.folder / f"{credential}-{generation}.json"

    def clear(self) -> None:
        """Remove what a kill left half written. Only under the ledger's lock, when nobody else can be writing."""
        for path in left_behind(self.folder):
            path.unlink(missing_ok=True)

    def held(self) -> dict[tuple[str, int], str]:
        """What is kept: (credential, generation) -> thumbprint of the key, or `secret`. Raises MachineError."""
        return {of: thumbprint(self._key(path)) if "key" in read_private_json(path) else "secret"
                for of, path in self._files()}

    def incomplete(self) -> frozenset[tuple[str, int]]:
        """What was kept, and not yet completed with whose it is: somebody was killed in between."""
        return frozenset(of for of, _ in self._files() if not self.about(*of).get("credential_id"))

    def keep_key(self, credential: str, generation: int, algorithm: str) -> dict[str, Any]:
        """The public half of this generation's key, which is made and kept if it is not there yet."""
        path = self.path(credential, generation)
        if path.exists():
            return public_half(self._key(path))
        key = self._maker.make_key(algorithm)
        self._write(path, {"credential": {"name": credential, "generation": generation, "algorithm": algorithm},
                           "key": key})
        return public_half(key)

    def keep_secret(self, credential: str, generation: int, secret: Secret, about: Mapping[str, Any]) -> None:
        """Keep a secret that a tenant made."""
        self._write(self.path(credential, generation), {
            "credential": {"name": credential, "generation": generation, **about}, "secret": secret.reveal()})

    def keep_password(self, credential: str, generation: int, chosen: Secret | None, about: Mapping[str, Any]) -> None:
        """Keep this generation's password. One that was chosen replaces what is kept; one that is made is made once."""
        if chosen is not None or not self.path(credential, generation).exists():
            self.keep_secret(credential, generation, chosen or self._maker.make_password(), about)

    def complete(self, credential: str, generation: int, about: Mapping[str, Any]) -> None:
        """Write what a consumer needs beside the key: tenant, principal id, end, token endpoint."""
        path = self.path(credential, generation)
        content, known = read_private_json(path), self.about(credential, generation)
        merged = {**known, **about}
        if merged != content.get("credential"):
            self._write(path, {**content, "credential": merged})

    def about(self, credential: str, generation: int) -> dict[str, Any]:
        """What stands beside the key or secret. Raises MachineError."""
        path = self.path(credential, generation)
        found = read_private_json(path).get("credential", {})
        if not isinstance(found, dict):
            raise MachineError("the file does not say whose it is", where=str(path), mend="restore it from a copy")
        return found

    def key(self, credential: str, generation: int) -> tuple[dict[str, Any], str]:
        """The private JWK and its signing algorithm. Raises MachineError."""
        path = self.path(credential, generation)
        algorithm = str(self.about(credential, generation).get("algorithm", "Ed25519"))
        return self._key(path), algorithm

    def secret(self, credential: str, generation: int) -> Secret:
        """Raises MachineError where no secret is kept."""
        path = self.path(credential, generation)
        value = read_private_json(path).get("secret")
        if not isinstance(value, str) or not value:
            raise MachineError("the file holds no secret", where=str(path), mend="restore it from a copy")
        return Secret(value)

    def _files(self) -> Iterator[tuple[tuple[str, int], Path]]:
        for path in sorted(self.folder.glob("*.json")) if self.folder.is_dir() else ():
            found = _NAME.match(path.name)
            if found:
                yield (found["name"], int(found["number"])), path

    def _key(self, path: Path) -> dict[str, Any]:
        key = read_private_json(path).get("key")
        try:
            if isinstance(key, dict) and thumbprint(key):
                return key
        except (ValueError, KeyError, TypeError):
            pass
        raise MachineError("the file holds no key", where=str(path), mend="restore it from a copy")

    def _write(self, path: Path, content: Mapping[str, Any]) -> None:
        write_private(path, json.dumps(content, indent=1) + "\n")
