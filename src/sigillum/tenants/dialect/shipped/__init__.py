"""The descriptions that come with the tool, and which one is used for a tenant: a house's own of that name, or one of these."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

from sigillum.core.values.errors import SomebodyError
from sigillum.reading.document import parse, read_text
from sigillum.tenants.dialect.files import read_from
from sigillum.tenants.dialect.model import DialectFile
from sigillum.tenants.port import Address

HERE = Path(__file__).parent


class Description(NamedTuple):
    """A description that is used: its text, where it is, and whether it came with the tool."""

    dialect: DialectFile
    text: str
    where: str
    shipped: bool
    beside: str = ""  # a house's own: the one of that name that came with the tool, and is not used

    @property
    def digest(self) -> str:
        """SHA-256 of its text."""
        return hashlib.sha256(self.text.encode()).hexdigest()


class ChangedError(SomebodyError):
    """A description that came with the tool is not the one that was agreed to."""

    code = "description-changed"


def names() -> list[str]:
    """Those that come with the tool."""
    return sorted(p.stem for p in HERE.glob("*.yaml"))


def shipped(name: str) -> Description:
    """One of them."""
    where = f"{name} (it comes with Sigillum)"
    text = (HERE / f"{name}.yaml").read_text(encoding="utf-8")
    return Description(read_from(text, where), text, where, shipped=True)


def described(folder: Path, address: Address) -> Description:
    """That of a tenant. Raises FileError with every mistake in it."""
    name = address.dialect or f"dialects/{address.name}.yaml"
    own = f"dialects/{name}.yaml" if name in names() else name
    if own == name or (folder / own).exists():
        text = read_text(folder / own, own)
        return Description(read_from(text, own), text, own, shipped=False, beside=name if own != name else "")
    return shipped(name)


def agreed(found: Description, address: Address) -> Description:
    """The same, where a person agreed to it. Raises ChangedError for another one that came with the tool."""
    if found.shipped and found.digest != address.dialect_digest:
        version = found.dialect.version
        raise ChangedError(
            f"the description {found.dialect.dialect} that comes with Sigillum (version {version}) is not the one that was "
            f"agreed to for {address.name}",
            where=f"dialect_digest of {address.name} in sigillum.yaml",
            mend=f"`sigillum dialect accept {address.name}` shows what is different, and accepts it",
        )
    return found


def leaves(text: str) -> dict[str, Any]:
    """Everything that a description says, by pointers."""

    def inner(value: Any, spot: str) -> Iterator[tuple[str, Any]]:
        if isinstance(value, (dict, list)) and value:
            for key, below in value.items() if isinstance(value, dict) else enumerate(value):
                yield from inner(below, f"{spot}/{key}")
        else:
            yield spot, value

    return dict(inner(parse(text, "").data, ""))
