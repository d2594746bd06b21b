"""Vaults: keeping places outside of the workspace's folder that hold texts by name. A new one is one driver."""

from __future__ import annotations

from importlib import import_module
from typing import Any

from sigillum.core.values.errors import MachineError

SERVICE = "sigillum"  # under this name everything of ours stands in a keyring


class Keyring:
    """The keyring of whoever sits at this machine, by the library of that name."""

    def __init__(self) -> None:
        try:
            self._keyring: Any = import_module("keyring")
        except ImportError as problem:
            raise MachineError(
                "the keyring library is not installed", where="keyring", mend="run `pip install 'sigillum[keyring]'`"
            ) from problem

    def get(self, name: str) -> str | None:
        found = self._do("get_password", name)
        return str(found) if found is not None else None

    def put(self, name: str, content: str) -> None:
        self._do("set_password", name, content)

    def remove(self, name: str) -> None:
        if self.get(name) is not None:
            self._do("delete_password", name)

    def _do(self, what: str, name: str, *more: str) -> Any:
        try:
            return getattr(self._keyring, what)(SERVICE, name, *more)
        except Exception as problem:  # its backends raise what they like
            raise MachineError(
                f"the keyring cannot be used ({type(problem).__name__})",
                where=f"keyring:{name}",
                mend="unlock it, or choose a backend (`keyring diagnose`), then run this again",
            ) from problem


DRIVERS = {"keyring": Keyring}  # by what `keep_in` names
