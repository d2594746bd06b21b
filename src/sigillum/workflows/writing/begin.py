"""Begin: make a workspace, and write tenants into its file."""

from __future__ import annotations

import io
import json
import os
import secrets
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.comments import CommentedMap

from sigillum.charters.names import FILE
from sigillum.charters.workspace import PRIVATE, load
from sigillum.core.kinds.identities import ACCOUNT, TEAM
from sigillum.core.kinds.kind import Query
from sigillum.core.values.errors import FileError, MachineError, RefusedError, SigillumError, UnreachableError, UsageError
from sigillum.core.values.text import CHARTER_NAME
from sigillum.keeping.private import private_folder, write_private
from sigillum.keeping.references import WAYS, is_reference
from sigillum.keys.ledgerkey import LedgerKey
from sigillum.ledger.port import Fresh
from sigillum.ledger.sqlite import SqliteLedger
from sigillum.protocols.addresses import origin_of
from sigillum.reading.document import read_text
from sigillum.tenants.port import Tenant
from sigillum.tenants.registry import driver_of
from sigillum.workflows.desk.books import writer_name
from sigillum.workflows.desk.office import Office
from sigillum.workflows.desk.settings import Header, Settings
from sigillum.workflows.desk.tenants import header_of

CONSUMERS = "consumers.yaml"  # of the example: it goes into sigillum.yaml
_TEMPLATE = """\
# The workspace of Sigillum: tenants, house rules and defaults. Keep it in version control; `.sigillum/` stays here.
workspace: {uid}          # never change it: it is part of the name of everything made from here
ledger_key: {key}   # public half of the key that signs the ledger

rules:
  longest_credential: 180d
  forbidden_roles: []
  named: [owner]
  because: [changes-data, manages, administers]   # classes of permissions that need a reason

defaults:
{owner}  credential_lasts: 90d
  renew_before: 14d
  review_after: 365d

tenants: {{}}
"""


@dataclass(frozen=True, slots=True)
class Begun:
    """What `init` made."""

    folder: Path
    workspace: str
    key_id: str


def init(folder: Path, owner: str = "") -> Begun:
    """Make a workspace in `folder`. Raises FileError where one is there, MachineError."""
    if (folder / FILE).exists():
        raise FileError(
            "there is a workspace already", where=str(folder / FILE), mend="work in it, or begin another one in another folder"
        )
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name in ("charters", "requests"):
            (folder / name).mkdir(exist_ok=True)
        private = private_folder(folder / PRIVATE)
        uid = f"ws-{secrets.token_hex(8)}"  # a prefix, so that YAML never takes it for a number
        key = LedgerKey.make()
        write_private(private / "ledger-key.json", json.dumps(key.private_jwk()) + "\n")
        ledger = SqliteLedger(private / "ledger.db", uid, writer_name(), key.key_id, key.sign)
        ledger.append([Fresh("begun", "", {"workspace": uid, "key": key.public["x"]})])
        ledger.close()
        line = f"  owner: {owner}\n" if owner else ""
        text = _TEMPLATE.format(uid=uid, key=key.public["x"], owner=line)
        written(folder / FILE, text)
        _ignore(folder / ".gitignore")
    except OSError as problem:
        raise MachineError(
            f"the workspace cannot be made: {problem.strerror}", where=str(folder), mend="choose a folder that you may write to"
        ) from problem
    return Begun(folder, uid, key.key_id)


# what stays out of version control: the private folder, and what is written with --out; public halves and requests go in
IGNORED = (f"{PRIVATE}/", "*.token", "*.jwt", "*.env", "*.sealed", "*.jwk", "*.pem", "*.p12", "!*.public.*", "!requests/*.pem")


def _ignore(path: Path) -> None:
    """Add the lines that are not there yet, in whatever character set the others are."""
    known = path.read_bytes() if path.exists() else b""
    missing = [line.encode() for line in IGNORED if line.encode() not in known.splitlines()]
    if missing:
        begin = known if not known or known.endswith(b"\n") else known + b"\n"
        written(path, begin + b"\n".join(missing) + b"\n")


def example(folder: Path) -> tuple[list[str], list[str]]:
    """Bring the example's files into a workspace: those that were brought, and those that are there already, which stay.

    Raises FileError where sigillum.yaml cannot be read, MachineError.
    """
    from datetime import UTC, datetime
    from importlib.resources import files

    brought, there, today = list[str](), list[str](), datetime.now(UTC).date().isoformat()
    source = Path(str(files("sigillum").joinpath("example")))
    try:
        for path in sorted(p for p in source.rglob("*") if p.is_file() and p.name != CONSUMERS):
            private = path.parent.name == "private"
            name = str(path.relative_to(source)).replace("private/", f"{PRIVATE}/")
            if (folder / name).exists():
                there.append(name)
                continue
            text = path.read_text(encoding="utf-8").replace("${today}", today)
            (folder / name).parent.mkdir(parents=True, exist_ok=True)
            (write_private if private else written)(folder / name, text)
            brought.append(name)
        text = (folder / FILE).read_text(encoding="utf-8")
        consumers = (source / CONSUMERS).read_text(encoding="utf-8")
        if not load(folder).consumers:
            written(folder / FILE, text.replace("\ntenants:", f"\n{consumers}\ntenants:", 1))
    except OSError as problem:
        raise MachineError(
            f"the example cannot be brought: {problem.strerror}",
            where=str(folder),
            mend="choose a folder that you may write to",
        ) from problem
    return brought, there


def written(path: Path, text: str | bytes) -> None:
    """Whole or not at all; readable like any file of the administrator's."""
    write_private(path, text)
    path.chmod(0o644)


def write_new(path: Path, shown: str, text: str) -> None:
    """A file of the administrator's that is not there yet. Raises FileError where it is."""
    if os.path.lexists(path):
        raise FileError("the file is there already", where=shown, mend="change it, or choose another name")
    path.parent.mkdir(exist_ok=True)
    written(path, text)


def add_tenant(settings: Settings, folder: Path, name: str, section: dict[str, Any]) -> Header:
    """Reach a tenant and write it into sigillum.yaml. Raises UsageError, FileError, UnreachableError, RefusedError."""
    if not CHARTER_NAME.match(name):
        raise UsageError(f"{name!r} cannot be a tenant's name", where="tenant add", mend="use small letters, digits and dashes")
    driver = driver_of(section.get("driver", "open"), name)
    if driver.origin:
        origin_of(section["address"])
        if any(c in section["address"] for c in "?#"):
            raise UsageError(
                "a tenant's address has no query and no fragment",
                where=section["address"],
                mend="leave out what stands behind `?` or `#`; paths are added to it",
            )
    if "token" not in section["admin"] and driver.token:
        raise UsageError("it is not said where the administrator's token is", where="--token", mend=f"write {WAYS}")
    if "token" in section["admin"] and not is_reference(section["admin"]["token"]):
        raise UsageError(
            "the token must be a reference, never the secret itself",
            where="--token",
            mend=f"write {WAYS}, and replace the secret, since your shell may remember it",
        )
    if name in load(folder).file.tenants:
        raise FileError(
            f"the tenant {name} is there already", where=FILE, mend="change its entry in sigillum.yaml, or choose another name"
        )
    yaml = round_trip()
    document = yaml.load(read_text(folder / FILE, FILE))
    tenants = document.get("tenants")
    if not tenants:
        document["tenants"] = tenants = CommentedMap()
    tenants[name] = CommentedMap(section)

    def text() -> str:
        out = io.StringIO()
        yaml.dump(document, out)
        return out.getvalue()

    header, said = _reach(settings, folder, name, text())
    if "stage" not in section and said:
        tenants[name].insert(1, "stage", said)
    written(folder / FILE, text())
    return header


def follow_clocks(office: Office, address: str) -> tuple[list[str], list[str]]:
    """Write `clock: tenant` at the tenants at the origin of this address: those that did not say it, and all of them."""
    ours = [
        n
        for n, t in office.workspace.file.tenants.items()
        if address and driver_of(t.driver, n).has_clock and origin_of(t.address) == origin_of(address)
    ]
    fresh = [n for n in ours if office.workspace.file.tenants[n].clock != "tenant"]
    if fresh:
        path = office.workspace.folder / FILE
        yaml, out = round_trip(), io.StringIO()
        document = yaml.load(read_text(path, FILE))
        for name in fresh:
            document["tenants"][name]["clock"] = "tenant"
        yaml.dump(document, out)
        written(path, out.getvalue())
    return fresh, ours


def round_trip() -> YAML:
    """For a file that a person wrote: its comments and lines stay."""
    yaml = YAML()
    yaml.width = 4096
    return yaml


def _reach(settings: Settings, folder: Path, name: str, text: str) -> tuple[Header, str]:
    """Connect with the entry as it will be written; and the stage that the tenant says it is."""
    from sigillum.charters.workspace import Workspace, WorkspaceFile
    from sigillum.reading.document import parse
    from sigillum.reading.models import validate

    office = Office.of(settings, Workspace(folder, validate(WorkspaceFile, parse(text, FILE))))
    tenant = office.tenants.reach(name)
    if driver_of(tenant.address.driver).described:  # one look shows whether it answers, and knows the token
        tenant.facts([Query(ACCOUNT, "name", "nobody")])
    elif not driver_of(tenant.address.driver).by_person:
        _learn(office, tenant)
    return header_of(tenant), tenant.profile.stage


def _learn(office: Office, tenant: Tenant) -> None:
    """What the first command would have to ask before the rest: teams that hold everybody, and where one signs in."""
    seen, everyone = office.tenants.unseen(tenant), Query(TEAM, "everyone")
    with suppress(UnreachableError, RefusedError):
        seen.facts |= tenant.facts([everyone]) if tenant.profile.carried(TEAM) is not None else {}
        office.tenants.learn(seen)
    try:
        _ = tenant.token_endpoint
    except SigillumError as problem:
        tenant.say(f"Nobody can sign in there as it stands: {problem.what}")


def moved(office: Office, name: str, because: str) -> tuple[str, str]:
    """Write down that a tenant is the one that the ledger knows, at another address: the one before, and that of today.

    Its issuer is told anew with the next deed. Raises UsageError, FileError, MachineError.
    """
    if not because.strip():
        raise UsageError("it is not said how you know that", where="--because", mend="say it in a few words")
    before, now = office.books.where(name)[0], office.tenants.address(name).address
    by = office.tenants.address(name).admin
    ledger = office.books.writable_ledger()
    ledger.append(office.books.met(name, now, "", because=because.strip(), by=by))
    return before, now
