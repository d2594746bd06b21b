"""References to secrets: `env:NAME`, `file:PATH`, `keyring:NAME`; never the value itself."""

from __future__ import annotations

import os
import re
from pathlib import Path

from sigillum.core.values.errors import FileError, MachineError, UsageError
from sigillum.core.values.secret import Secret

from .private import read_private

_FORM = re.compile(r"(env|file|keyring):(.+)\Z", re.S)
WAYS = "env:NAME, file:PATH or keyring:NAME"


def is_reference(text: str) -> bool:
    return bool(_FORM.match(text))


def resolve(reference: str, folder: Path, where: str = "sigillum.yaml") -> Secret:
    """The secret behind a reference, which stands at `where`; `file:` is relative to `folder`.

    Raises UsageError (variable not set), MachineError (file missing or open to others), FileError (not a reference).
    """
    found = _FORM.match(reference)
    if not found:
        raise FileError(
            "a secret stands here itself instead of a reference to it",
            where=where,
            mend=f"write {WAYS}, and replace the secret, since it may have been seen",
        )
    way, name = found[1], found[2]
    if way == "env":
        value = os.environ.get(name, "")
        if not value:
            raise UsageError(
                f"the environment variable {name} is not set", where=reference, mend=f"run `export {name}=...` in this shell"
            )
    elif way == "file":
        value = read_private(folder / name).strip()
    else:
        value = _keyring(name)
    if not value:
        raise MachineError("the secret is empty", where=reference, mend="put the secret there")
    return Secret(value)


def _keyring(name: str) -> str:
    from .vaults import Keyring

    value = Keyring().get(name)
    if not value:
        raise MachineError(
            "the keyring holds no such entry", where=f"keyring:{name}", mend=f"run `keyring set sigillum {name}`"
        )
    return value
