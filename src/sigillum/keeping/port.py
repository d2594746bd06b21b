"""What every keeping place offers, and what it takes to make what is kept."""

from __future__ import annotations

from collections.abc import Mapping
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


class Keeping(Protocol):
    """Where keys and secrets of a charter are kept."""

    def path(self, credential: str, generation: int) -> Path: ...

    def keep_key(self, credential: str, generation: int, algorithm: str) -> dict[str, Any]:
        """The public half of this generation's key, which is made and kept if it is not there yet."""
        ...

    def keep_secret(self, credential: str, generation: int, secret: Secret, about: Mapping[str, Any]) -> None: ...

    def keep_password(self, credential: str, generation: int, chosen: Secret | None, about: Mapping[str, Any]) -> None: ...

    def complete(self, credential: str, generation: int, about: Mapping[str, Any]) -> None: ...

    def secret(self, credential: str, generation: int) -> Secret: ...
