"""Where this workspace keeps secrets: a keeping place for each charter, and references to what is kept elsewhere."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sigillum.core.values.canonical import public_half
from sigillum.core.values.errors import MachineError
from sigillum.core.values.outside import json_of

if TYPE_CHECKING:
    from sigillum.charters.workspace import Workspace
    from sigillum.core.records.history import History
    from sigillum.core.values.secret import Secret
    from sigillum.keeping.files import FileKeeping
    from sigillum.keeping.port import Vault


MARKS = "marks.json"  # in the private folder: of secrets that were ours, so that they are known again
STORE = "store:"  # begins a reference to a secret of a tenant that is a store


class Keepings:
    """Opens them."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self.stores: Callable[[str, str], Vault] | None = None  # a secret of a tenant that is a store, by its path

    def of(self, uid: str) -> FileKeeping:
        """The keys and secrets of one stream of the ledger."""
        from sigillum.keeping.files import FileKeeping
        from sigillum.keys import material

        return FileKeeping(self._workspace.keys_of(uid or "none"), material, self._vault)

    def _vault(self, where: str) -> Vault:
        """The vault that `keep_in` names. Raises MachineError."""
        from sigillum.keeping.vaults import DRIVERS

        if where.startswith(STORE) and self.stores is not None:
            tenant, _, path = where.removeprefix(STORE).partition("/")
            return self.stores(tenant, path)
        if where not in DRIVERS:
            raise MachineError(f"there is no keeping place {where!r}", where="keep_in", mend=f"known: {', '.join(DRIVERS)}")
        return DRIVERS[where]()

    def resolve(self, reference: str, where: str = "sigillum.yaml") -> Secret:
        """The secret behind a reference, which stands at `where`. Raises UsageError, FileError, MachineError."""
        from sigillum.keeping.references import resolve

        if reference.startswith(STORE):
            return self.read(self._vault(reference), reference)
        return resolve(reference, self._workspace.folder, where)

    @staticmethod
    def read(vault: Vault, reference: str) -> Secret:
        """What a store keeps for its consumers. Raises MachineError where it has nothing there."""
        from sigillum.core.values.secret import Secret

        found = vault.get("")
        if not found:
            raise MachineError("the store has no such secret", where=reference, mend="put it there, or correct the reference")
        return Secret(found)

    def known(self, value: str) -> str:
        """Which secret of this workspace a value is, in words; empty where it is none. It is compared here and sent nowhere."""
        from hmac import compare_digest

        from sigillum.core.values.errors import SigillumError

        given = value.encode()
        folders = sorted((self._workspace.private / "keys").glob("*"))
        for path, content in (found for folder in folders for found in self.of(folder.name).contents()):
            key = content.get("key")
            held = [content.get("secret"), *(key.get(n) for n in ("d", "p", "q") if isinstance(key, dict))]
            if any(isinstance(h, str) and compare_digest(h.encode(), given) for h in held):
                return f"the secret of {path.stem} in {path.parent.name}"
        for name, section in self._workspace.file.tenants.items():
            for admin in (section.admin, *section.admins):
                try:
                    token = self.resolve(admin.token).reveal() if admin.token else ""
                except SigillumError:  # it is not at hand now
                    continue
                if token and compare_digest(token.encode(), given):
                    return f"the token of {admin.name} at {name}"
        return ""

    def remember(self, uid: str, history: History) -> None:
        """Keep the marks of a stream's secrets before they are removed, by which they are known again where they lie about. A
        password leaves none: where somebody chose it, it could be guessed by its mark. Raises MachineError.
        """
        from sigillum.core.charter.credential_kinds import CREDENTIAL_KINDS
        from sigillum.keeping.files import NotKeptError
        from sigillum.keeping.private import write_private
        from sigillum.keys.scan import mark_of

        known, keeping = self.remembered(), self.of(uid)
        every = [(m, g) for m, all_ in history.generations.items() for g in all_]
        made = {(m.get("name"), g.number): str(g.terms.get("kind") or "") for m, g in every}
        for (name, number), kept in keeping.held().items():
            kind = CREDENTIAL_KINDS.get(made.get((name, number), ""))
            if kept == "secret" and kind is not None and not kind.typed:
                with suppress(NotKeptError):
                    mark = mark_of(keeping.secret(name, number).reveal())
                    known[mark] = {"uid": uid, "credential": name, "generation": str(number)}
        write_private(self._workspace.private / MARKS, json.dumps(known, indent=1) + "\n")

    def remembered(self) -> dict[str, dict[str, str]]:
        """The marks of what was kept here once."""
        try:
            found = json_of((self._workspace.private / MARKS).read_bytes())
        except (OSError, ValueError):
            return {}
        return dict(found) if isinstance(found, dict) else {}

    def discovered(self, tenant: str) -> Any:
        """What was kept of a tenant's interface; None where nothing is, or it cannot be read."""
        try:
            return json_of((self._workspace.private / "discovered" / f"{tenant}.json").read_bytes())
        except (OSError, ValueError):
            return None

    def discover(self, tenant: str, content: dict[str, Any]) -> None:
        """Keep it; a workspace that cannot be written to goes without."""
        from sigillum.keeping.private import private_folder, write_private

        path = self._workspace.private / "discovered" / f"{tenant}.json"
        with suppress(OSError, MachineError):
            if self._workspace.private.is_dir():
                private_folder(path.parent)
                write_private(path, json.dumps(content, indent=1) + "\n")

    def thumbprints(self) -> set[str]:
        """The thumbprints of the keys that are kept here."""
        return {
            mark
            for folder in sorted((self._workspace.private / "keys").glob("*"))
            for mark in self.of(folder.name).held().values()
        }

    def public_keys(self) -> list[dict[str, str]]:
        """The public halves of the keys that are kept here, as JWK."""
        out = list[dict[str, str]]()
        for folder in sorted((self._workspace.private / "keys").glob("*")):
            keeping = self.of(folder.name)
            out += [public_half(keeping.key(*of)[0]) for of, held in keeping.held().items() if held != "secret"]
        return out

    def certificates(self, keys: set[str]) -> list[str]:
        """The `x5t#S256` of the certificates over these keys (by their RFC 7638 thumbprints) that are kept here."""
        out = list[str]()
        for folder in sorted((self._workspace.private / "keys").glob("*")):
            keeping = self.of(folder.name)
            marks = [str(keeping.about(*of).get("x5t#S256") or "") for of, held in keeping.held().items() if held in keys]
            out += [m for m in marks if m]
        return out

    def registrations(self, tenant: str) -> list[dict[str, Any]]:
        """What is kept of the clients that a tenant registered dynamically: read anew, since a step may just have kept one."""
        return [registration for _, _, registration in self._registrations(tenant)]

    def _registrations(self, tenant: str) -> Iterator[tuple[Path, dict[str, Any], dict[str, Any]]]:
        """Each file, what stands in it, and the registration in it. Raises MachineError."""
        from sigillum.keeping.private import read_private_json
        from sigillum.workflows.enacting.carrying.make import REGISTRATION

        for path in sorted((self._workspace.private / "keys").glob(f"*/{REGISTRATION}-*.json")):
            content = read_private_json(path)
            about = content.get("credential")
            try:
                kept = json_of(str(content.get("secret")))
                whole = isinstance(about, dict) and isinstance(kept["answer"], dict) and isinstance(kept["external_id"], str)
            except (ValueError, KeyError, TypeError):
                whole = False
            if not whole or not isinstance(about, dict):
                raise MachineError("the file holds no registration", where=str(path), mend="restore it from a copy")
            if about.get("tenant") == tenant:
                yield path, content, kept

    def register(self, tenant: str, fresh: dict[str, Any]) -> None:
        """Keep what a tenant says anew of a client that it registered: the registration's token, and the secret everywhere."""
        from sigillum.keeping.private import read_private_json, write_private

        client = fresh["answer"].get("client_id")
        for path, content, kept in list(self._registrations(tenant)):
            if kept["answer"].get("client_id") != client:
                continue
            write_private(path, json.dumps({**content, "secret": json.dumps(fresh)}, indent=1) + "\n")
            old, new = kept["answer"].get("client_secret"), fresh["answer"].get("client_secret")
            for other in sorted(path.parent.glob("*.json")) if old and new and old != new else ():
                beside = read_private_json(other)
                if beside.get("secret") == old:
                    write_private(other, json.dumps({**beside, "secret": new}, indent=1) + "\n")
