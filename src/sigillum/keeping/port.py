"""What every keeping place offers, and what it takes to make what is kept."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import datetime
from pathlib import Path
from typing import Any, Protocol

from sigillum.core.values.secret import Secret


class Maker(Protocol):
    """Makes what is kept (`sigillum.keys.material`)."""

    def make_key(self, algorithm: str) -> dict[str, Any]:
        """A new private JWK."""
        ...

    def make_password(self) -> Secret:
        """A new password."""
        ...

    def make_certificate(self, key: Mapping[str, Any], subject: str, start: datetime, until: datetime) -> str:
        """A self-signed certificate: base64 of its DER."""
        ...


FILE = "file"  # where a key or secret is kept: in its own file; else the name of a vault


class Vault(Protocol):
    """A keeping place outside of the workspace's folder that holds texts by name. Every method raises MachineError."""

    def get(self, name: str) -> str | None:
        """What it holds under a name; None: nothing."""
        ...

    def put(self, name: str, content: str) -> None:
        """Hold it, whole, in the place of what stood there."""
        ...

    def remove(self, name: str) -> None:
        """Hold it no more; where there is nothing, that is fine."""
        ...


Vaults = Callable[[str], Vault]  # by what `keep_in` names


class Keeping(Protocol):
    """Where keys and secrets of a charter are kept."""

    def path(self, credential: str, generation: int) -> Path: ...

    def keep_key(self, credential: str, generation: int, algorithm: str, where: str) -> dict[str, Any]:
        """The public half of this generation's key, which is made and kept if it is not there yet."""
        ...

    def keep_secret(
        self, credential: str, generation: int, secret: Secret, about: Mapping[str, Any], where: str = FILE
    ) -> None: ...

    def keep_password(
        self, credential: str, generation: int, chosen: Secret | None, about: Mapping[str, Any], where: str
    ) -> None: ...

    def certify(self, credential: str, generation: int, subject: str, start: datetime, until: datetime, der: str) -> str:
        """The certificate beside a kept key (base64 of DER): the one that is given, else a self-signed one, made once."""
        ...

    def complete(self, credential: str, generation: int, about: Mapping[str, Any]) -> None: ...

    def secret(self, credential: str, generation: int) -> Secret: ...
