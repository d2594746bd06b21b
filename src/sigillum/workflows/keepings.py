"""Where this workspace keeps secrets: a keeping place for each charter, and references to what is kept elsewhere."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from sigillum.charters.workspace import Workspace
    from sigillum.core.values.secret import Secret
    from sigillum.keeping.files import FileKeeping


class Keepings:
    """Opens them."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace

    def of(self, uid: str) -> FileKeeping:
        """The keys and secrets of one stream of the ledger."""
        from sigillum.keeping.files import FileKeeping
        from sigillum.keys import material
        return FileKeeping(self._workspace.keys_of(uid or "none"), material)

    def resolve(self, reference: str) -> Secret:
        """The secret behind a reference. Raises UsageError, FileError, MachineError."""
        from sigillum.keeping.references import resolve
        return resolve(reference, self._workspace.folder)

    def known(self, value: str) -> str:
        """Which secret of this workspace a value is, in words; empty where it is none. It is compared here and sent nowhere."""
        from hmac import compare_digest

        from sigillum.core.values.errors import SigillumError
        from sigillum.keeping.private import read_private_json
        given = value.encode()
        for path in sorted((self._workspace.private / "keys").glob("*/*.json")):
            content = read_private_json(path)
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

    def thumbprints(self) -> set[str]:
        """The thumbprints of the keys that are kept here."""
        return {mark for folder in sorted((self._workspace.private / "keys").glob("*"))
                for mark in self.of(folder.name).held().values()}

    def registrations(self, tenant: str) -> list[dict[str, Any]]:
        """What is kept of the clients that a tenant registered dynamically: read anew, since a step may just have kept one."""
        from sigillum.keeping.private import read_private_json

        from .carrying.make import REGISTRATION
        found = []
        for path in sorted((self._workspace.private / "keys").glob(f"*/{REGISTRATION}-*.json")):
            content = read_private_json(path)
            if content.get("credential", {}).get("tenant") == tenant:
                found.append(json.loads(str(content["secret"])))
        return found
