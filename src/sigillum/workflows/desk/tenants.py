"""The tenants of a workspace: reached once a command, as their usual or another administrator."""

from __future__ import annotations

import threading
from collections.abc import Iterable
from datetime import UTC, datetime
from functools import partial
from typing import TYPE_CHECKING

from sigillum.core.kinds.identities import TEAM
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.snapshot import Snapshot
from sigillum.core.values.errors import FileError, MachineError
from sigillum.core.values.secret import Secret

from .asked import ABOUT
from .settings import Header, Progress, Settings

if TYPE_CHECKING:  # imported where they are used: a command loads what it needs and no more
    from sigillum.charters.workspace import Workspace
    from sigillum.core.comparing.hands import Hand
    from sigillum.keeping.port import Vault
    from sigillum.ledger.port import Fresh
    from sigillum.tenants.by_hand.lines import Answer, Line
    from sigillum.tenants.port import Address, SignedIn, Tenant

    from .books import Books
    from .keepings import Keepings

MOST_SKEW_SECONDS = 300
EVERYBODY = "everybody"  # in what is kept of a tenant: the teams that hold everybody


class Tenants:
    """Reaches them when they are first needed. Safe for several threads."""

    def __init__(self, settings: Settings, workspace: Workspace, keepings: Keepings, books: Books) -> None:
        self._settings, self._workspace, self._keepings, self._books = settings, workspace, keepings, books
        self._reached: dict[tuple[str, str], Tenant] = {}
        self._reaching: dict[tuple[str, str], threading.Lock] = {}
        self._everybody: dict[str, tuple[str, ...]] = {}
        self._lock, self._turns = threading.Lock(), threading.Lock()

    def address(self, name: str, admin: str = "") -> Address:
        """What sigillum.yaml says of a tenant. Raises FileError."""
        from sigillum.tenants.port import Address

        section = self._workspace.tenant(name)
        return Address(
            name,
            section.address,
            section.stage or "",
            admin or section.admin.name,
            section.driver,
            section.issuer or "",
            section.ca or "",
            section.clock == "tenant",
            section.facts or "",
            section.dialect or "",
            section.auth or "",
            section.dialect_digest or "",
            tuple(section.origins),
        )

    def reach(self, name: str, admin: str = "") -> Tenant:
        """A tenant, reached as its usual or another administrator; its header is announced the first time.

        Raises FileError, MachineError, UnreachableError, RefusedError, SomebodyError where it is not where it was met.
        """
        with self._lock:
            reaching = self._reaching.setdefault((name, admin), threading.Lock())
        with reaching:  # others may reach other tenants meanwhile
            if (name, admin) not in self._reached:
                self._unmoved(name, "address", self._workspace.tenant(name).address)
                tenant = self._connect(name, admin)
                self._unmoved(name, "issuer", tenant.profile.issuer)
                with self._lock:
                    self._settings.announce(header_of(tenant))
                check_clock(tenant)
                self._reached[name, admin] = tenant
            return self._reached[name, admin]

    def unseen(self, tenant: Tenant) -> Snapshot:
        """Nothing is known of it yet, but which teams held everybody when that was asked last."""
        name = tenant.address.name
        if name not in self._everybody:
            kept = self._keepings.discovered(name)
            ids = kept.get(EVERYBODY) if isinstance(kept, dict) else None
            self._everybody[name] = tuple(map(str, ids)) if isinstance(ids, list) else ()
        return Snapshot(name, time_of(tenant), tenant.profile, likely=self._everybody[name])

    def learn(self, snapshot: Snapshot) -> None:
        """Keep which teams hold everybody: next time they are asked about at once."""
        fact, name = snapshot.facts.get(Query(TEAM, "everyone")), snapshot.tenant
        if fact is None or not fact.known or self._everybody.get(name) == (ids := tuple(r.id for r in fact.records)):
            return
        self._everybody[name] = ids
        kept = self._keepings.discovered(name)
        if isinstance(kept, dict) or ids:
            self._keepings.discover(name, {**(kept if isinstance(kept, dict) else {}), EVERYBODY: list(ids)})

    def _unmoved(self, name: str, what: str, now: str) -> None:
        """Is it where the ids of the ledger were written? At another one they would name nothing, or something else."""
        from sigillum.core.values.errors import SomebodyError

        address, issuer = self._books.where(name)
        before = address if what == "address" else issuer
        if before and now and before.rstrip("/") != now.rstrip("/"):
            raise SomebodyError(
                f"the {what} of {name} was {before} when the ledger wrote down what was made there, and is {now} now; nothing "
                "was done",
                where=f"tenant {name} in sigillum.yaml",
                mend=f"if it is the same tenant, say `sigillum tenant moved {name} --because ...`; if it is "
                "another one, give that another name",
            )

    def met(self, name: str) -> list[Fresh]:
        """What the ledger is to say of where a tenant is, before the first deed there."""
        tenant = self.reach(name)
        return self._books.met(name, tenant.address.address, tenant.profile.issuer)

    def reach_all(self, names: Iterable[str]) -> dict[str, Tenant]:
        """Several tenants, reached at the same time. Raises as `reach`."""
        from sigillum.protocols.together import together

        wanted = list(names)
        return dict(zip(wanted, together([partial(self.reach, n) for n in wanted]), strict=True))

    def _connect(self, name: str, admin: str) -> Tenant:
        from sigillum.tenants.port import Link
        from sigillum.tenants.registry import connect, driver_of

        address, section = self.address(name, admin), self._workspace.tenant(name)
        settings, keepings = self._settings, self._keepings
        reference = next((a.token for a in section.admins if a.name == admin and a.token), section.admin.token)
        if reference is None and driver_of(address.driver, name).token:
            raise FileError(
                f"it is not said where the token of {address.admin} is",
                where=f"tenant {name} in sigillum.yaml",
                mend="add `token: env:NAME` to `admin`",
            )
        token = keepings.resolve(reference) if reference is not None else Secret("none")

        def pause(seconds: float, why: str) -> None:
            settings.progress(Progress(name, f"waiting {seconds:.0f} s: {why}"))
            settings.pause(seconds)

        return connect(
            address,
            Link(
                token,
                self._workspace.folder,
                settings.timeout_seconds,
                settings.log,
                settings.say,
                keepings.registrations,
                keepings.register,
                partial(self._confirm, name),
                pause,
                partial(keepings.discovered, name),
                partial(keepings.discover, name),
                keepings.public_keys,
            ),
        )

    def by_person(self, names: Iterable[str]) -> frozenset[str]:
        """Those of these tenants at which a person makes each change, and confirms it."""
        from sigillum.tenants.registry import driver_of

        sections = self._workspace.file.tenants
        return frozenset(n for n in names if driver_of(sections[n].driver, n).by_person)

    def store(self, name: str, path: str, by: SignedIn | None = None) -> Vault:
        """A secret of a tenant that is a store, as the administrator or as who signed in there.

        Raises SomebodyError where it is not a store, and as `reach`.
        """
        from sigillum.core.values.errors import SomebodyError

        found = self.reach(name).store(path, by)
        if found is None:
            raise SomebodyError(f"{name} is no secret store", where=name, mend="write another `keep_in`, or another tenant")
        return found

    def _confirm(self, name: str, line: Line) -> Answer | None:
        """A person gets one question at a time, whatever is under way beside it."""
        from sigillum.tenants.by_hand.lines import keyed

        with self._turns:
            self._settings.asking.set()
            try:
                return self._settings.confirm(keyed(line, name, ABOUT.get()))
            finally:
                self._settings.asking.clear()

    def hands(self, name: str) -> list[Hand]:
        """The administrators of a tenant: the usual one first, then others whose tokens are here, then whom to ask."""
        from sigillum.core.comparing.hands import Hand

        profile, section = self.reach(name).profile, self._workspace.tenant(name)
        found = [Hand(profile.administrator or section.admin.name, profile.powers)]
        for admin in section.admins:
            if admin.token is not None:
                found.append(Hand(admin.name, self.reach(name, admin.name).profile.powers))
        return found + [Hand(a.name, frozenset(a.powers), False, a.contact or "") for a in section.admins if a.token is None]

    def acting(self, name: str, power: str) -> str:
        """Who acts where a power is needed: empty for the usual administrator, who acts too where nobody here has it."""
        powers = self.reach(name).profile.powers
        if powers is None or power in powers or not self._workspace.tenant(name).admins:
            return ""
        return next((h.name for h in self.hands(name)[1:] if h.here and h.can(power)), "")

    def name_of(self, tenant: str, admin: str = "") -> str:
        """Who acts as the usual or another administrator, as the tenant calls them."""
        reached = self.reach(tenant, admin)
        return reached.profile.administrator or reached.address.admin

    def now(self, name: str) -> datetime:
        """A tenant's time."""
        return time_of(self.reach(name))


def time_of(tenant: Tenant) -> datetime:
    """The tenant's time, by its clock."""
    from sigillum.tenants.port import now_at

    return now_at(tenant, datetime.now(UTC))


def header_of(tenant: Tenant) -> Header:
    """What is said before a command touches it."""
    address, clock = tenant.address, tenant.clock
    return Header(
        address.name,
        address.address,
        address.stage or tenant.profile.stage or "no stage",
        tenant.profile.administrator or address.admin,
        time_of(tenant),
        clock.skew_seconds if clock is not None else 0.0,
        tenant.known_seconds,
    )


def check_clock(tenant: Tenant) -> None:
    """Raises MachineError where the clocks are too far apart and nobody said to follow the tenant's."""
    skew = tenant.clock.skew_seconds if tenant.clock is not None else 0.0
    if abs(skew) > MOST_SKEW_SECONDS and not tenant.address.follow_its_clock:
        from sigillum.core.values.times import rough_duration

        raise MachineError(
            f"the clock of {tenant.address.name} and of this machine differ by {rough_duration(skew)}",
            where=tenant.address.address,
            mend="set this machine's clock; if it is right, write `clock: tenant` at the tenant in sigillum.yaml",
        )
