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
