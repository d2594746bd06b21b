"""The office: an opened workspace with its tenants, ledger and keys, made once a command and given to workflows."""

from __future__ import annotations

import getpass
import secrets
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from sigillum.charters import files
from sigillum.charters.workspace import Workspace, find, load
from sigillum.core.charter.charter import Charter
from sigillum.core.values.errors import FileError, MachineError, Mistake
from sigillum.core.values.secret import Secret

if TYPE_CHECKING:  # imported where they are used: a command loads what it needs and no more
    from sigillum.core.comparing.hands import Hand
    from sigillum.core.kinds.changes import Doing
    from sigillum.core.records.history import History
    from sigillum.core.records.steps import Step
    from sigillum.core.undertakings.loans import Loan
    from sigillum.keys.ledgerkey import LedgerKey
    from sigillum.keys.store import KeyStore
    from sigillum.ledger.port import Ledger
    from sigillum.tenants.by_hand.lines import Answer, Line
    from sigillum.tenants.port import Address, Tenant

    from .books import Books
    from .carrying.ports import Ports

MOST_SKEW_SECONDS = 300
CLAIM = "enacting"


class Header(NamedTuple):
    """What is said before a command touches a tenant."""

    tenant: str
    address: str
    stage: str
    administrator: str
    now: datetime
    skew_seconds: float


class Progress(NamedTuple):
    """Something to show while a workflow is at work."""

    charter: str
    text: str
    number: int = 0
    of: int = 0


@dataclass(eq=False)
class Settings:
    """How a command was asked to behave, resolved once."""

    workspace: Path | None = None
    timeout_seconds: float = 15.0
    patience_seconds: float = 60.0
    wait_seconds: float = 0.0  # how long a change that is on its way may be waited for
    log: Callable[[str], None] | None = None
    say: Callable[[str], None] = lambda text: None
    confirm: Callable[[Line], Answer | None] = lambda line: None  # of a tenant by hand: ask a person
    announce: Callable[[Header], None] = lambda header: None
    progress: Callable[[Progress], None] = lambda progress: None
    boundary: Callable[[str], None] = lambda name: None  # told at each journal boundary
    sleep: Callable[[float], None] = time.sleep


@dataclass(eq=False)
class Office:
    """Opens things when they are first needed and closes them all."""

    settings: Settings
    workspace: Workspace
    _tenants: dict[tuple[str, str], Tenant] = field(default_factory=dict)
    _ledger: Ledger | None = None
    _books: Books | None = None
    _lock: threading.Lock = field(default_factory=threading.Lock)

    @classmethod
    def open(cls, settings: Settings) -> Office:
        """Raises FileError where there is no workspace, or its file is wrong."""
        folder = settings.workspace
        if folder is not None:
            from sigillum.charters.workspace import FILE
            if not (folder / FILE).is_file():
                raise FileError("there is no workspace there", where=str(folder),
                                mend="run `sigillum init` to begin one, or name another folder with `--workspace`")
        return cls(settings, load(folder if folder is not None else find(Path.cwd())))

    def close(self) -> None:
        if self._ledger is not None:
            self._ledger.close()

    def __enter__(self) -> Office:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    # --- tenants ------------------------------------------------------------------------------------------
    def address(self, name: str, admin: str = "") -> Address:
        from sigillum.tenants.port import Address
        section = self.workspace.tenant(name)
        return Address(name, section.address, section.stage or "", admin or section.admin.name, section.driver,
                       section.issuer or "", section.ca or "", section.clock == "tenant", section.facts or "")

    def tenant(self, name: str, admin: str = "") -> Tenant:
        """Reach a tenant, once a command, as its usual or another administrator; its header is announced then."""
        with self._lock:
            if (name, admin) not in self._tenants:
                from sigillum.keys.references import resolve
                from sigillum.tenants.port import Link
                from sigillum.tenants.registry import connect
                address, section = self.address(name, admin), self.workspace.tenant(name)
                reference = next((a.token for a in section.admins if a.name == admin and a.token), section.admin.token)
                if reference is None and address.driver != "by-hand":
                    raise FileError(f"it is not said where the token of {address.admin} is",
                                    where=f"tenant {name} in sigillum.yaml", mend="add `token: env:NAME` to `admin`")
                token = resolve(reference, self.workspace.folder) if reference is not None else Secret("none")
                link = Link(token, self.workspace.folder, self.settings.timeout_seconds, self.settings.log,
                            self.settings.say, self.registrations, self.settings.confirm)
                tenant = connect(address, link)
                self.settings.announce(header_of(tenant))
                check_clock(tenant)
                self._tenants[name, admin] = tenant
            return self._tenants[name, admin]

    def hands(self, name: str) -> list[Hand]:
        """The administrators of a tenant: the usual one first, then others whose tokens are here, then whom to ask."""
        from sigillum.core.comparing.hands import Hand
        profile, section = self.tenant(name).profile, self.workspace.tenant(name)
        found = [Hand(profile.administrator or section.admin.name, profile.powers)]
        for admin in section.admins:
            if admin.token is not None:
                found.append(Hand(admin.name, self.tenant(name, admin.name).profile.powers))
        return found + [Hand(a.name, frozenset(a.powers), False, a.contact or "") for a in section.admins if a.token is None]

    def acting(self, name: str, power: str) -> str:
        """Who acts where a power is needed: empty for the usual administrator, who acts too where nobody here has it."""
        powers = self.tenant(name).profile.powers
        if powers is None or power in powers or not self.workspace.tenant(name).admins:
            return ""
        return next((h.name for h in self.hands(name)[1:] if h.here and h.can(power)), "")

    def registrations(self, tenant: str) -> list[dict[str, Any]]:
        """What is kept of the clients that a tenant registered dynamically: read anew, since a step may just have kept one."""
        import json

        from sigillum.keys.files import read_private_json
        from sigillum.workflows.carrying.make import REGISTRATION
        found = []
        for path in sorted((self.workspace.private / "keys").glob(f"*/{REGISTRATION}-*.json")):
            content = read_private_json(path)
            if content.get("credential", {}).get("tenant") == tenant:
                found.append(json.loads(str(content["secret"])))
        return found

    def now(self, tenant: Tenant) -> datetime:
        """The tenant's time."""
        from sigillum.tenants.port import now_at
        return now_at(tenant, datetime.now(UTC))

    # --- charters -----------------------------------------------------------------------------------------
    def charters(self, wanted: list[str], *, all_: bool = False) -> list[Charter]:
        """Read the charters named, or all. Raises FileError with the mistakes of all of them at once."""
        known = files.names(self.workspace)
        if all_:
            wanted = sorted(known)
        mistakes, found, last = list[Mistake](), list[Charter](), None
        for name in wanted:
            try:
                found.append(files.load(self.workspace, files.path_of(self.workspace, name, known)))
            except FileError as problem:
                last = problem
                mistakes += problem.mistakes or [Mistake("file", problem.what, problem.mend)]
        if last is not None:
            if len(wanted) == 1 and not last.mistakes:
                raise last
            raise FileError("", mistakes=tuple(mistakes))
        return found

    def has_charter(self, name: str) -> bool:
        """Is there a charter of this name in the workspace?"""
        return name in files.names(self.workspace)

    # --- ledger and keys ------------------------------------------------------------------------------------
    def has_ledger(self) -> bool:
        return self.workspace.ledger.exists()

    def ledger(self, *, write: bool = False) -> Ledger:
        """The ledger; for writing, with its signing key. Raises MachineError."""
        with self._lock:
            if self._ledger is not None and write and not self._ledger.writable:
                self._ledger.close()
                self._ledger = None
            if self._ledger is None:
                from sigillum.ledger.sqlite import SqliteLedger
                if not self.has_ledger():
                    raise MachineError("there is no ledger here", where=str(self.workspace.ledger),
                                       mend="bring `.sigillum/` from where the workspace was begun; "
                                            "without it only looking is possible")
                key = self.signing_key() if write else None
                self._ledger = SqliteLedger(
                    self.workspace.ledger, self.workspace.file.workspace, writer_name(),
                    key.key_id if key else "", key.sign if key else None)
            return self._ledger

    def signing_key(self) -> LedgerKey:
        from sigillum.keys.ledgerkey import LedgerKey
        return LedgerKey.read(self.workspace.signing_key)

    def state(self, charter: str) -> tuple[str, History]:
        """The charter's uid (empty where it was never enacted) and what the ledger says of it."""
        from sigillum.core.records.history import History, fold
        if not self.has_ledger():
            return "", History(ledger=False)
        ledger = self.ledger()
        uid = ledger.uid_of(charter)
        return (uid, fold(ledger.entries(uid), uid)) if uid else ("", History())

    def books(self) -> Books:
        """What the ledger says beside one charter's history."""
        if self._books is None:
            from .books import Books
            self._books = Books(self)
        return self._books

    def ports(self, uid: str, prove: Callable[[Step], None], ask: Callable[[Step, Doing | None], None]) -> Ports:
        """What carrying out a stream's steps needs."""
        from sigillum.keys.references import resolve

        from .carrying.journal import LedgerJournal
        from .carrying.ports import Patience, Ports
        settings = self.settings
        journal = LedgerJournal(self.ledger(write=True), self.workspace.file.workspace, uid,
                                lambda name: self.now(self.tenant(name)), settings.boundary)
        patience = Patience(settings.patience_seconds, settings.wait_seconds, settings.sleep,
                            lambda text: settings.progress(Progress(uid, text)))
        return Ports(self.tenant, journal, self.keys(uid), patience, prove, ask,
                     lambda reference: resolve(reference, self.workspace.folder))

    def loans(self) -> list[tuple[Loan, History]]:
        """Every loan that the ledger knows, in the order in which they were lent."""
        from sigillum.core.records.history import LENT
        from sigillum.core.undertakings.loans import loan_of
        if not self.has_ledger():
            return []
        ledger = self.ledger()
        return [loan_of(ledger.entries(e.charter), e.charter) for e in list(ledger.entries(kind=LENT))]

    def names(self) -> dict[str, str]:
        """The charters' names of today, by their uid."""
        from sigillum.core.records.history import KNOWN, RENAMED
        ledger = self.ledger()
        return {e.charter: str(e.body["name"]) for kind in (KNOWN, RENAMED) for e in ledger.entries(kind=kind)}

    def make_known(self, charter: str) -> str:
        """Give a charter its uid in the ledger, once."""
        from sigillum.core.records.history import KNOWN
        from sigillum.ledger.port import Fresh
        ledger = self.ledger(write=True)
        uid = ledger.uid_of(charter)
        if uid is None:
            uid = secrets.token_hex(8)
            ledger.append([Fresh(KNOWN, uid, {"name": charter})])
            self.settings.boundary("charter known")
        return uid

    def keys(self, uid: str) -> KeyStore:
        from sigillum.keys.store import KeyStore
        return KeyStore(self.workspace.keys_of(uid or "none"))


def nothing(*given: object) -> None:
    """For a port that a workflow has no use for."""


def writer_name() -> str:
    """Who writes: the user's name on this machine."""
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return "unknown"


def header_of(tenant: Tenant) -> Header:
    from sigillum.tenants.port import now_at
    address, clock = tenant.address, tenant.clock
    return Header(address.name, address.address, address.stage or tenant.profile.stage or "no stage",
                  tenant.profile.administrator or address.admin, now_at(tenant, datetime.now(UTC)),
                  clock.skew_seconds if clock is not None else 0.0)


def check_clock(tenant: Tenant) -> None:
    """Raises MachineError where the clocks are too far apart and nobody said to follow the tenant's."""
    skew = tenant.clock.skew_seconds if tenant.clock is not None else 0.0
    if abs(skew) > MOST_SKEW_SECONDS and not tenant.address.follow_its_clock:
        from sigillum.core.values.times import rough_duration
        raise MachineError(
            f"the clock of {tenant.address.name} and of this machine differ by {rough_duration(skew)}",
            where=tenant.address.address,
            mend="set this machine's clock; if it is right, write `clock: tenant` at the tenant in sigillum.yaml")
