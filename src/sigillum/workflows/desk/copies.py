"""Which copy of its workspace this is: a ledger can be copied without the keys, and both copies go on."""

from __future__ import annotations

import platform
import secrets
from pathlib import Path

from sigillum.core.values.errors import MachineError
from sigillum.keeping.private import read_private, write_private

FILE = "copy"


def copy_of(private: Path) -> str:
    """The name of this copy: made where it is used first, and made anew where its folder was copied with it.

    A folder is told by its machine, device and number, which a copy does not share and a renamed folder keeps. Raises
    MachineError.
    """
    path, found = private / FILE, private.stat()
    here = f"{platform.node()} {found.st_dev} {found.st_ino}"
    if path.exists():
        name, _, where = read_private(path).strip().partition(" in ")
        if where == here:
            return name
    name = f"{secrets.token_hex(3)} on {platform.node() or 'a machine'}"
    try:
        write_private(path, f"{name} in {here}\n")
    except MachineError:  # it can only be looked at: what is kept nowhere names nobody
        return ""
    return name
