"""Descriptions of tenants: which there are, and those that come with the tool, accepted by a person before they are used."""

from __future__ import annotations

import io
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from sigillum.charters.names import FILE
from sigillum.core.values.errors import FileError, UsageError
from sigillum.core.values.text import did_you_mean
from sigillum.reading.document import read_text
from sigillum.workflows.desk.office import Office

from .begin import round_trip, written

if TYPE_CHECKING:
    from sigillum.tenants.dialect.shipped import Description

DRIVER = "dialect"


class Listed(NamedTuple):
    """A description, and by which tenants it is used; `proved`: the day of its last proof at the real thing."""

    name: str
    about: str
    version: str
    proved: str
    where: str
    tenants: tuple[str, ...]


class Difference(NamedTuple):
    """One place where a description is different; empty where it has nothing there."""

    where: str
    before: str
    now: str


class Acceptance(NamedTuple):
    """What would be accepted for a tenant. `known` False: what was accepted before is not kept here."""

    tenant: str
    found: Description
    differences: tuple[Difference, ...]
    known: bool
    accepted: bool  # nothing is different, and nothing is to be accepted


def listed(office: Office) -> list[Listed]:
    """Those that come with the tool, and the workspace's own. Raises FileError."""
    from sigillum.tenants.dialect import shipped
    from sigillum.tenants.dialect.files import read

    folder = office.workspace.folder
    used = dict[str, list[str]]()
    for name, section in office.workspace.file.tenants.items():
        if section.driver == DRIVER:
            used.setdefault(shipped.described(folder, office.tenants.address(name)).where, []).append(name)
    out = [shipped.shipped(name) for name in shipped.names()]
    own = [(read(folder, n), n) for n in sorted(f"dialects/{p.name}" for p in (folder / "dialects").glob("*.yaml"))]
    all_ = [(d.dialect, d.where, "with Sigillum") for d in out] + [(d, where, where) for d, where in own]
    return [
        Listed(d.dialect, d.about, d.version, str(d.proved or ""), shown, tuple(used.get(where, ())))
        for d, where, shown in all_
    ]


def text_of(name: str) -> str:
    """One that comes with the tool, to be read or to be made one's own. Raises UsageError."""
    from sigillum.tenants.dialect import shipped

    if name not in shipped.names():
        raise UsageError(
            f"no description {name!r} comes with Sigillum",
            where="dialect show",
            mend=did_you_mean(name, shipped.names()) or f"there are {', '.join(shipped.names())}",
        )
    return shipped.shipped(name).text


def chosen(office: Office, tenant: str, name: str | None, driver: str | None) -> dict[str, Any]:
    """What the entry of a new tenant says of its description: one that comes with the tool is accepted by naming it.

    Raises UsageError where there is none of that name, FileError with every mistake in it.
    """
    from sigillum.tenants.dialect import shipped
    from sigillum.tenants.port import Address

    known = shipped.names()
    if name is not None and name not in known and driver in (None, DRIVER) and not (office.workspace.folder / name).exists():
        raise UsageError(
            f"there is no description {name!r}: none of that name comes with Sigillum, and there is no such file",
            where="--dialect",
            mend=did_you_mean(name, known) or f"name a file of the workspace, or one of {', '.join(known)}",
        )
    if name is None or name not in known or driver not in (None, DRIVER):
        return {"dialect": name, "driver": DRIVER if name is not None and driver is None else driver}
    found = shipped.described(office.workspace.folder, Address(tenant, "", dialect=name))
    _keep(office, tenant, found)
    return {"dialect": name, "driver": DRIVER, **({"dialect_digest": found.digest} if found.shipped else {})}


def _keep(office: Office, tenant: str, found: Description) -> None:
    if found.shipped:
        office.keepings.discover(f"accepted_{tenant}", {"digest": found.digest, "text": found.text})


def acceptance(office: Office, tenant: str) -> Acceptance:
    """What is different in a description since it was accepted. Raises UsageError where none comes with the tool."""
    from sigillum.tenants.dialect import shipped

    address = office.tenants.address(tenant)
    found = shipped.described(office.workspace.folder, address) if address.driver == DRIVER else None
    if found is None or not found.shipped:
        raise UsageError(
            f"{tenant} is not spoken to by a description that comes with Sigillum",
            where="dialect accept",
            mend="a file of your own needs no acceptance: `sigillum dialect check` checks it",
        )
    kept = office.keepings.discovered(f"accepted_{tenant}")
    before = kept.get("text") if isinstance(kept, dict) and kept.get("digest") == address.dialect_digest else None
    accepted = found.digest == address.dialect_digest
    return Acceptance(tenant, found, tuple(_differences(before, found.text)), isinstance(before, str), accepted)


def _differences(before: Any, now: str) -> list[Difference]:
    from sigillum.tenants.dialect.shipped import leaves

    if not isinstance(before, str):
        return []
    try:
        was, is_ = leaves(before), leaves(now)
    except FileError:
        return []
    spots = dict.fromkeys((*was, *is_))
    return [Difference(s, str(was.get(s, "")), str(is_.get(s, ""))) for s in spots if was.get(s) != is_.get(s)]


def accept(office: Office, given: Acceptance) -> None:
    """Write the digest into sigillum.yaml. Raises FileError, MachineError."""
    path: Path = office.workspace.folder / FILE
    yaml, out = round_trip(), io.StringIO()
    document = yaml.load(read_text(path, FILE))
    document["tenants"][given.tenant]["dialect_digest"] = given.found.digest
    yaml.dump(document, out)
    written(path, out.getvalue())
    _keep(office, given.tenant, given.found)
