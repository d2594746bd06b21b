"""The keys and secrets of one charter: a JWK (RFC 7517) or a secret beside its metadata, in a file a generation, or in a vault
that the file names.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from typing import Any

from sigillum.core.values.canonical import certificate_mark, public_half, thumbprint
from sigillum.core.values.errors import MachineError, SomebodyError
from sigillum.core.values.outside import json_of
from sigillum.core.values.secret import Secret

from .port import FILE, Maker, Vaults
from .private import left_behind, read_private, read_private_json, write_private

CURRENT = "current"  # the folder of the files that consumers read
_NAME = re.compile(r"(?P<name>.+)-(?P<number>\d+)\.json\Z")
SAME = ("tenant", "principal_id", "client_id", "account", "token_endpoint")  # whose it is: the same for each generation
_IN, _AT = "kept_in", "kept_at"  # in a file: which vault holds the rest, and under which name


class NotKeptError(MachineError):
    """What was kept in a vault is there no more, or another one's stands there: nobody can sign in with it, and it can end."""

    code = "not-kept"


class FileKeeping:
    """Files below one folder, one a generation; a held key is made once and never made anew. Consumers read the file of one
    name that stays, below `current/`: it holds what the generation that serves them holds. What is kept in a vault has a file,
    too: everything but what is secret, and where that is. The vault has it before the file stands, and as long as it does.
    """

    def __init__(self, folder: Path, maker: Maker, vaults: Vaults) -> None:
        self.folder, self._maker, self._vaults = folder, maker, vaults

    def path(self, credential: str, generation: int) -> Path:
        return self.folder / f"{credential}-{generation}.json"

    def current(self, credential: str) -> Path:
        """The file that consumers read, whichever generation serves."""
        return self.folder / CURRENT / f"{credential}.json"

    def beside(self, credential: str) -> Path:
        """The file of what takes the place of the one that serves, for consumers that try both."""
        return self.folder / CURRENT / f"{credential}.next.json"

    def lay_beside(self, credential: str, generation: int) -> Path:
        """Put a generation where consumers that try both find it."""
        path, content = self.beside(credential), read_private_json(self.path(credential, generation))
        current = self.current(credential)
        serving = read_private_json(current).get("credential") if current.exists() else None
        about = {n: serving[n] for n in SAME if n in serving} if isinstance(serving, dict) else {}
        self._write(path, {**content, "credential": {**about, **content["credential"]}})
        return path

    def reference(self, credential: str, generation: int, folder: Path) -> str:
        """Where a generation's secret is, as a reference; of the one that serves, the name that stays."""
        current = self.current(credential)
        path = current if current.exists() and self.serving(credential) == generation else self.path(credential, generation)
        content = read_private_json(path)
        if content.get(_IN):
            return f"{content[_IN]}:{content[_AT]}"
        return f"file:{path.relative_to(folder) if path.is_relative_to(folder) else path}"

    def serving(self, credential: str) -> int:
        """Which generation stands in the file that consumers read; 0: none. Raises MachineError."""
        path = self.current(credential)
        about = read_private_json(path).get("credential") if path.exists() else None
        number = about.get("generation") if isinstance(about, dict) else 0
        return number if isinstance(number, int) else 0

    def give(self, credential: str, generation: int, before: int) -> None:
        """Put a generation where consumers read, by one rename (or one entry of a vault), in the place of the one `before` it.

        Raises SomebodyError where something else stands there.
        """
        path, fresh, old = self.current(credential), self.path(credential, generation), self.path(credential, before)
        content, there = self._stable(credential, fresh), path.exists()
        found = read_private(path) if there else ""
        if there and self.serving(credential) != generation and not (old.exists() and found == self._stable(credential, old)):
            raise SomebodyError(
                "another hand changed the file that consumers read",
                where=str(path),
                mend=f"find out who; then remove it, and run this again: {fresh.name} takes its place",
            )
        raw = read_private_json(fresh)
        if raw.get(_IN):
            self._found(raw[_IN], credential, 0)
            self._put(raw[_IN], self._entry(credential), self._content(fresh))
        if found != content:
            write_private(path, content)
        self.beside(credential).unlink(missing_ok=True)

    def _stable(self, credential: str, path: Path) -> str:
        """What stands in the file that consumers read while this generation serves."""
        raw = read_private_json(path)
        return json.dumps({**raw, _AT: self._entry(credential)}, indent=1) + "\n" if raw.get(_IN) else read_private(path)

    def remove(self, credential: str, generation: int) -> None:
        """Remove a generation that is dead, with the token of it that was kept."""
        beside = self.beside(credential)
        about = read_private_json(beside).get("credential") if beside.exists() else None
        if isinstance(about, dict) and about.get("generation") == generation:
            beside.unlink()
        self._emptied(self.path(credential, generation))
        for path in (self.path(credential, generation), self.token(credential, generation)):
            path.unlink(missing_ok=True)

    def forget(self, credential: str, generation: int) -> None:
        """Remove a generation that somebody else has, also from where consumers would read it."""
        if self.serving(credential) == generation:
            self.current(credential).unlink(missing_ok=True)
        self.remove(credential, generation)

    def _emptied(self, path: Path) -> None:
        """What a vault holds for a file goes first."""
        raw = read_private_json(path) if path.exists() else {}
        if raw.get(_IN):
            self._vaults(raw[_IN]).remove(raw[_AT])

    def token(self, credential: str, generation: int) -> Path:
        """Where a token of a generation is kept until it is shown to be refused."""
        return self.folder / f"{credential}-{generation}.token"

    def names(self) -> list[str]:
        """The files that stand here."""
        return sorted(str(p.relative_to(self.folder)) for p in self.folder.rglob("*") if p.is_file())

    def clear_all(self) -> None:
        """Remove all of it, the folders too."""
        for path in sorted(self.folder.rglob("*"), reverse=True):
            if path.suffix == ".json":
                self._emptied(path)
            path.rmdir() if path.is_dir() else path.unlink(missing_ok=True)
        if self.folder.is_dir():
            self.folder.rmdir()

    def clear(self) -> None:
        """Remove what a kill left half written. Only under the ledger's lock, when nobody else can be writing."""
        for path in left_behind(self.folder):
            path.unlink(missing_ok=True)

    def held(self) -> dict[tuple[str, int], str]:
        """What is kept: (credential, generation) -> thumbprint of the key, or `secret`. Raises MachineError."""
        return {of: self._held(path) for of, path in self._files()}

    def _held(self, path: Path) -> str:
        raw = read_private_json(path)
        if raw.get(_IN):  # a vault is opened only where what it holds is used
            return str(raw.get("credential", {}).get("thumbprint") or "secret")
        return thumbprint(self._key(path)) if "key" in raw else "secret"

    def incomplete(self) -> frozenset[tuple[str, int]]:
        """What was kept, and not yet completed with whose it is, or not yet given to anybody: somebody was killed between."""
        return frozenset(
            of for of, _ in self._files() if not self.about(*of).get("credential_id") or not self.current(of[0]).exists()
        )

    def keep_key(self, credential: str, generation: int, algorithm: str, where: str = FILE) -> dict[str, Any]:
        """The public half of this generation's key, which is made and kept if it is not there yet."""
        path = self.path(credential, generation)
        if path.exists():
            return public_half(self._key(path))
        left = self._found(where, credential, generation)
        key = left["key"] if left is not None else self._maker.make_key(algorithm)
        about = {"name": credential, "generation": generation, "algorithm": algorithm}
        self._keep(path, {"credential": about, "key": key}, where)
        return public_half(key)

    def keep_found(self, credential: str, generation: int, key: Mapping[str, Any], algorithm: str, where: str = FILE) -> None:
        """Keep a private key that was made elsewhere. Raises SomebodyError where another one is kept of this generation."""
        path = self.path(credential, generation)
        if path.exists() and thumbprint(self._key(path)) != thumbprint(dict(key)):
            raise SomebodyError("another key is kept of that generation", where=str(path), mend="find out which is right")
        about = self.about(credential, generation) if path.exists() else {}
        self._keep(
            path,
            {"credential": {"name": credential, "generation": generation, "algorithm": algorithm, **about}, "key": dict(key)},
            where,
        )

    def keep_secret(
        self, credential: str, generation: int, secret: Secret, about: Mapping[str, Any], where: str = FILE
    ) -> None:
        """Keep a secret that a tenant made."""
        self._keep(
            self.path(credential, generation),
            {"credential": {"name": credential, "generation": generation, **about}, "secret": secret.reveal()},
            where,
        )

    def keep_password(
        self, credential: str, generation: int, chosen: Secret | None, about: Mapping[str, Any], where: str = FILE
    ) -> None:
        """Keep this generation's password. One that was chosen replaces what is kept; one that is made is made once."""
        path = self.path(credential, generation)
        if chosen is None and path.exists():
            return
        left = self._found(where, credential, generation)
        secret = chosen or (Secret(left["secret"]) if left is not None else self._maker.make_password())
        self.keep_secret(credential, generation, secret, about, where)

    def certify(self, credential: str, generation: int, subject: str, start: datetime, until: datetime, der: str) -> str:
        """The certificate beside a kept key: the one that is given, else a self-signed one, made once. Raises MachineError."""
        path = self.path(credential, generation)
        known = self.about(credential, generation)
        made = der or known.get("certificate") or self._maker.make_certificate(self._key(path), subject, start, until)
        if made != known.get("certificate"):
            self._write(
                path,
                {**read_private_json(path), "credential": {**known, "certificate": made, "x5t#S256": certificate_mark(made)}},
            )
        return str(made)

    def complete(self, credential: str, generation: int, about: Mapping[str, Any]) -> None:
        """Write what a consumer needs beside the key: tenant, principal id, end, token endpoint."""
        path = self.path(credential, generation)
        content, known = read_private_json(path), self.about(credential, generation)
        merged = {**known, **about}
        if merged != content.get("credential"):
            self._write(path, {**content, "credential": merged})
        beside = self.beside(credential)
        if beside.exists() and read_private_json(beside).get("credential", {}).get("generation") == generation:
            self.lay_beside(credential, generation)
        if self.serving(credential) in (0, generation):
            self.give(credential, generation, 0)

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
        value = self._content(path).get("secret")
        if not isinstance(value, str) or not value:
            raise MachineError("the file holds no secret", where=str(path), mend="restore it from a copy")
        return Secret(value)

    def contents(self) -> Iterator[tuple[Path, dict[str, Any]]]:
        """Everything that is kept, whole. Raises MachineError."""
        for _, path in self._files():
            yield path, self._content(path)

    def _files(self) -> Iterator[tuple[tuple[str, int], Path]]:
        for path in sorted(self.folder.glob("*.json")) if self.folder.is_dir() else ():
            found = _NAME.match(path.name)
            if found:
                yield (found["name"], int(found["number"])), path

    def _key(self, path: Path) -> dict[str, Any]:
        key = self._content(path).get("key")
        try:
            if isinstance(key, dict) and thumbprint(key):
                return key
        except (ValueError, KeyError, TypeError):
            pass
        raise MachineError("the file holds no key", where=str(path), mend="restore it from a copy")

    # --- vaults -----------------------------------------------------------------------------------------------------------
    def _entry(self, credential: str, generation: int = 0) -> str:
        """What it is called in a vault: a generation with its number, what consumers read without."""
        return f"{self.folder.name}/{credential}{f'.{generation}' if generation else ''}"

    def _found(self, where: str, credential: str, generation: int) -> dict[str, Any] | None:
        """What a kill left in a vault before the file was written. Raises SomebodyError where another one's stands there."""
        if where == FILE:
            return None
        kept = self._vaults(where).get(self._entry(credential, generation))
        if kept is None:
            return None
        content = json_of(kept)
        if not isinstance(content, dict) or content.get("of") != self._entry(credential, generation):
            raise SomebodyError(
                f"{where} is taken: another one's secret stands there",
                where=f"keep_in of {credential}",
                mend="choose a place of its own for each credential",
            )
        return content

    def _content(self, path: Path) -> dict[str, Any]:
        """A file with what its vault holds of it. Raises MachineError."""
        raw = read_private_json(path)
        if not raw.get(_IN):
            return raw
        kept = self._vaults(raw[_IN]).get(str(raw[_AT]))
        try:
            held = json_of(kept or "")
            whole = {**held, "credential": raw["credential"]}
        except (ValueError, KeyError, TypeError) as problem:
            raise NotKeptError(
                f"{raw[_IN]} holds nothing under {raw[_AT]} any more", where=str(path), mend="restore it there from a copy"
            ) from problem
        print_ = raw["credential"].get("thumbprint")
        if held.get("of") != raw[_AT] or (print_ and thumbprint(dict(held.get("key") or {})) != print_):
            raise NotKeptError(
                f"what {raw[_IN]} holds under {raw[_AT]} is another one's",
                where=str(path),
                mend="restore ours there from a copy",
            )
        return whole

    def _keep(self, path: Path, content: dict[str, Any], where: str) -> None:
        """Into the file; or into a vault, and what is not secret into the file."""
        if where == FILE:
            self._write(path, content)
            return
        public = dict(content["credential"])
        at = self._entry(public["name"], public["generation"])
        self._found(where, public["name"], public["generation"])
        if "key" in content:
            public["thumbprint"] = thumbprint(content["key"])
        self._put(where, at, content)
        self._write(path, {"credential": public, _IN: where, _AT: at})

    def _put(self, where: str, at: str, content: Mapping[str, Any]) -> None:
        """Into a vault, and read back before anything rests on it. Raises MachineError."""
        text, vault = json.dumps({**content, "of": at}), self._vaults(where)
        vault.put(at, text)
        if vault.get(at) != text:
            raise MachineError(
                f"{where} took what is kept under {at}, and does not give it back",
                where="keep_in",
                mend="ask its operator; nothing rests on it yet, so run this again when it keeps what it takes",
            )

    def swept(self, where: str, credential: str, generations: Iterable[int]) -> list[str]:
        """Remove from a vault what a kill left there of these generations before a file named it: what was removed."""
        gone = list[str]()
        for generation in generations if where != FILE else ():
            at = self._entry(credential, generation)
            with suppress(SomebodyError):  # another one's stays
                if not self.path(credential, generation).exists() and self._found(where, credential, generation) is not None:
                    self._vaults(where).remove(at)
                    gone.append(f"{where}: {at}")
        return gone

    def _write(self, path: Path, content: Mapping[str, Any]) -> None:
        write_private(path, json.dumps(content, indent=1) + "\n")
