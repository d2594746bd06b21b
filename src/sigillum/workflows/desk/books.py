"""What this workspace's ledger says: charters, what they made, and what is begun; looked up row by row, never read whole."""

from __future__ import annotations

import threading
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any, NamedTuple

from sigillum.charters import files
from sigillum.core.kinds.identities import ACCOUNT, PRINCIPAL, TEAM
from sigillum.core.values.errors import FileError, MachineError

from .settings import Settings
from .streams import Streams

if TYPE_CHECKING:
    from sigillum.charters.workspace import Workspace
    from sigillum.core.charter.charter import Charter
    from sigillum.core.facets.seen import Expected
    from sigillum.core.kinds.kind import Kind
    from sigillum.core.records.chain import Head, LedgerEntry
    from sigillum.core.records.history import History
    from sigillum.core.undertakings.undertaking import S, Undertaking
    from sigillum.keys.ledgerkey import LedgerKey
    from sigillum.ledger.port import Fresh, Ledger


class Orphan(NamedTuple):
    """A charter whose file is gone: what it made (tenant, in words, id), and the numbers of its open requests."""

    charter: str
    left: tuple[tuple[str, str, str], ...]
    requests: tuple[int, ...] = ()


def name_of(uid: int) -> str:
    """Of a user of this machine; the number where it has none."""
    import pwd

    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return str(uid)


class Books:
    """Opens the ledger when it is first needed. Safe for several threads."""

    def __init__(self, settings: Settings, workspace: Workspace) -> None:
        self._settings, self._workspace = settings, workspace
        self._ledger: Ledger | None = None
        self.letters = dict[tuple[str, str, str], tuple[str, str]]()  # files of requests that this run began, and their ends
        self._lock = threading.Lock()
        self._streams = Streams(lambda uid, after: self.ledger().entries(uid, after=after))
        self._checkpoint: Head | None = None  # up to where the ledger was verified by an earlier run

    def close(self) -> None:
        if self._ledger is None:
            return
        try:
            if self._ledger.writable:
                self._keep_checkpoint(self._ledger)
        except MachineError:  # the next one verifies from the checkpoint before
            pass
        finally:
            self._ledger.close()

    def _keep_checkpoint(self, ledger: Ledger) -> None:
        """What stands there by now is known to hold: the next one who writes verifies from here. Raises MachineError."""
        import json

        from sigillum.core.records.chain import signed_head
        from sigillum.keeping.private import write_private

        head = ledger.head()
        if head != self._checkpoint:
            write_private(self._workspace.checkpoint, json.dumps(signed_head(head, self.signing_key()), indent=1) + "\n")
            self._checkpoint = head

    @property
    def there(self) -> bool:
        """Is there a ledger in this workspace? Raises MachineError where somebody else keeps it to themselves."""
        try:
            self._workspace.ledger.stat()
        except FileNotFoundError:
            return False
        except PermissionError as problem:
            whose = self._workspace.private.stat().st_uid
            raise MachineError(
                f"the private folder belongs to the user {name_of(whose)}, and this one may not look into it",
                where=str(self._workspace.private),
                mend="look from a copy of your own (`rehearse`, `explain`); what changes a tenant is run as that user",
            ) from problem
        return True

    def ledger(self) -> Ledger:
        """The ledger, as long as nothing is written to it. Raises MachineError."""
        return self._opened(write=False)

    def writable_ledger(self) -> Ledger:
        """The ledger with its signing key. Raises MachineError where nothing may be written to it."""
        return self._opened(write=True)

    def _opened(self, *, write: bool) -> Ledger:
        with self._lock:
            if self._ledger is not None and write and not self._ledger.writable:
                self._ledger.close()
                self._ledger = None
            if self._ledger is None:
                from sigillum.ledger.sqlite import SqliteLedger

                if not self.there:
                    raise MachineError(
                        "there is no ledger here",
                        where=str(self._workspace.ledger),
                        mend="bring `.sigillum/` from where the workspace was begun; without it only looking is possible",
                    )
                key = self.signing_key() if write else None
                ledger = SqliteLedger(
                    self._workspace.ledger,
                    self._workspace.file.workspace,
                    writer_name(),
                    key.key_id if key else "",
                    key.sign if key else None,
                )
                if key is not None:
                    self._fit_to_write(ledger, key)
                self._ledger = ledger
            return self._ledger

    def _fit_to_write(self, ledger: Ledger, key: LedgerKey) -> None:
        """Nothing is added with a foreign key, to an emptied ledger, or beside something strange. Raises MachineError."""
        wrong = ""
        if key.public["x"] != self._workspace.file.ledger_key:
            wrong = "its signing key is not the one of sigillum.yaml"
        elif not ledger.head().sequence:
            wrong = "it is empty, and a ledger begins with an entry"
        elif strange := ledger.strange():
            wrong = f"it holds something that is not ours: {', '.join(strange)}"
        wrong = wrong or self._broken(ledger)
        if wrong:
            ledger.close()
            raise MachineError(
                f"nothing is written to the ledger: {wrong}",
                where=str(self._workspace.ledger),
                mend="run `sigillum ledger verify`; restore `.sigillum/` from a copy",
            )

    def _broken(self, ledger: Ledger) -> str:
        """What is wrong with the chain since its last checkpoint, in a few words; nothing where it holds."""
        from sigillum.core.records.chain import check, compare_heads, read_head
        from sigillum.core.values.outside import json_of
        from sigillum.keys.ledgerkey import Verifier

        verify, kept, path = Verifier(self._workspace.file.ledger_key), None, self._workspace.checkpoint
        if path.exists():
            try:
                kept, signature = read_head(json_of(path.read_text(encoding="utf-8")))
            except (OSError, ValueError):
                return f"{path.name} is no checkpoint"
            if not verify(kept.message(), signature):
                return f"the checkpoint {path.name} is not signed by its key"
        self._checkpoint = kept
        findings = compare_heads(ledger.head(), kept, ledger.hash_at) if kept is not None else []
        if not findings:
            _, findings = check(ledger.entries(after=kept.sequence if kept is not None else 0), ledger.stream, verify.all, kept)
        return f"entry {findings[0].sequence}: {findings[0].what}" if findings else ""

    def signing_key(self) -> LedgerKey:
        """The key that signs what this workspace writes. Raises MachineError where it is missing, open to others, or no key."""
        from sigillum.keeping.private import read_private_json
        from sigillum.keys.ledgerkey import LedgerKey

        path = self._workspace.signing_key
        return LedgerKey.of(read_private_json(path), str(path))

    # --- charters -----------------------------------------------------------------------------------------
    def history(self, charter: str) -> tuple[str, History]:
        """The charter's uid (empty where it was never enacted) and what the ledger says of it."""
        from sigillum.core.records.history import History

        if not self.there:
            return "", History(ledger=False)
        uid = self.ledger().uid_of(charter)
        return (uid, self.state(uid)) if uid else ("", History())

    def entries(self, uid: str) -> list[LedgerEntry]:
        """All of one stream, in order."""
        return self._streams.of(uid).entries

    def state(self, uid: str) -> History:
        """What the entries of one stream amount to."""
        return self._streams.of(uid).state

    def state_with(self, uid: str, fresh: Iterable[Fresh]) -> History:
        """The same, and what is about to be written."""
        from sigillum.core.records.chain import LedgerEntry
        from sigillum.core.records.folding import fold

        known = self.entries(uid)
        more = (LedgerEntry("", known[-1].sequence + n, "", "", "", "", f.kind, uid, f.body) for n, f in enumerate(fresh, 1))
        return fold([*known, *more], uid)

    def answers(self, charter: str) -> dict[str, str]:
        """What somebody else told for a charter: the newest answer to each question."""
        from sigillum.core.records.history import TOLD

        uid = self.ledger().uid_of(charter) if self.there else None
        return {str(e.body["name"]): str(e.body["value"]) for e in self.ledger().entries(uid, kind=TOLD)} if uid else {}

    def make_known(self, charter: str) -> str:
        """Give a charter its uid in the ledger, once."""
        import secrets

        from sigillum.core.records.history import KNOWN
        from sigillum.ledger.port import Fresh

        ledger = self.writable_ledger()
        uid = ledger.uid_of(charter)
        if uid is None:
            uid = secrets.token_hex(8)
            ledger.append([Fresh(KNOWN, uid, {"name": charter})])
            self._settings.boundary("charter known")
        return uid

    def names(self) -> dict[str, str]:
        """The charters' names of today, by their uid."""
        from sigillum.core.records.books import NAME

        return {uid: name for name, uid in self.ledger().rows(NAME).items()}

    def has_charter(self, name: str) -> bool:
        """Does the workspace have a charter of this name?"""
        return name in files.names(self._workspace)

    # --- tenants --------------------------------------------------------------------------------------------
    def where(self, tenant: str) -> tuple[str, str]:
        """At which address, and with which issuer, a tenant was met when the ids of this ledger were written; empty: never."""
        from sigillum.core.records.books import WHERE

        address, _, issuer = self._row(WHERE, tenant).partition(" ")
        return address, issuer

    def met(self, tenant: str, address: str, issuer: str, **more: str) -> list[Fresh]:
        """What is to be written of where a tenant is: nothing where it stands there already."""
        from sigillum.core.records.history import MET
        from sigillum.ledger.port import Fresh

        known = self.where(tenant)
        if known[0] and (known[1] or not issuer) and not more:
            return []
        return [Fresh(MET, "", {"tenant": tenant, "address": address, "issuer": issuer, **more})]

    # --- things ---------------------------------------------------------------------------------------------
    def owner(self, tenant: str, kind: Kind[Any], identity: str) -> str:
        """Which charter or loan made a thing, in words; empty where none did."""
        uid = self.stream_of(tenant, kind, identity)
        if not uid:
            return ""
        name = self.ledger().name_of(uid)
        return f"the charter {name}" if name is not None else f"the {uid.replace('-', ' ')}" if uid.startswith("loan-") else ""

    def stream_of(self, tenant: str, kind: Kind[Any], identity: str) -> str:
        """In whose stream the ledger says that a thing was made; empty where in none."""
        from sigillum.core.records.books import THING, thing

        return self._row(THING, thing(tenant, kind.name, identity))

    def _maker(self, tenant: str, identity: str) -> tuple[str, Charter | None]:
        """The charter that made a thing, and its name (none: nobody did, or its file is gone); None: its file has mistakes."""
        uid = next((u for k in (ACCOUNT, PRINCIPAL, TEAM) if (u := self.stream_of(tenant, k, identity))), "")
        name = self.ledger().name_of(uid) if uid else None
        if name is None or not self.has_charter(name):
            return "", None
        try:
            return name, files.load(self._workspace, files.path_of(self._workspace, name), answers=self.answers)
        except FileError:
            return name, None

    def joins(self, tenant: str, identity: str, team: str) -> bool:
        """Does the charter that made a principal ask for a place in this team? One that cannot be read may."""
        name, charter = self._maker(tenant, identity)
        return bool(name) and (charter is None or any(m.name == team for m in charter.member_of))

    def takes_in(self, tenant: str, team: str, member: str) -> bool:
        """Does the charter that made a team ask for this member? One that cannot be read may."""
        name, charter = self._maker(tenant, team)
        return bool(name) and (charter is None or any(m.name == member for m in charter.members))

    def expected(self, tenant: str, identity: str) -> Expected | None:
        """What the charter that made a principal says it cannot do in that principal's tenant; None where none did."""
        from sigillum.core.facets.seen import Expected

        name, charter = self._maker(tenant, identity)
        if not name:
            return None
        if charter is None:
            return Expected(name, unread="its file has mistakes")
        return Expected(
            name, tuple(p for p in charter.part(tenant).proofs if not p.allowed), tuple(c.limits for c in charter.credentials)
        )

    def orphans(self) -> list[Orphan]:
        """Charters whose file is gone, with what they made and nobody has ended, and what is still asked for them."""
        if not self.there:
            return []
        from sigillum.core.facets.registry import words
        from sigillum.core.records.history import State
        from sigillum.core.undertakings.requests import REQUESTS

        known, open_ = files.names(self._workspace), self.begun(REQUESTS)
        out = list[Orphan]()
        for uid, name in sorted(self.names().items(), key=lambda item: item[1]):
            if name in known:
                continue
            _, history = self.history(name)
            live = [all_[-1] for all_ in history.generations.values() if all_[-1].state is State.MADE]
            if history.retired_at:
                continue
            left = tuple((g.mark.tenant, words(g.mark), g.id) for g in live)
            asked = tuple(r.number for r in open_ if r.uid == uid)
            out += [Orphan(name, left, asked)] if left or asked else []
        return out

    def lent(self, mark: str) -> bool:
        """Is this the externalId of a loan's grant?"""
        from sigillum.core.records.books import LOAN

        return bool(mark) and bool(self._row(LOAN, mark))

    def lends(self, tenant: str, identity: str) -> str:
        """The number of the open loan whose grant has this id; empty where none has."""
        from sigillum.core.undertakings.loans import LOANS

        return next(
            (
                loan.number
                for loan in self.begun(LOANS)
                if loan.generation is not None and (loan.tenant, loan.generation.id) == (tenant, identity)
            ),
            "",
        )

    def _row(self, what: str, key: str) -> str:
        return (self.ledger().book(what, key) if self.there else None) or ""

    # --- undertakings ---------------------------------------------------------------------------------------
    def begun(self, sort: Undertaking[S], *, ended: bool = False) -> list[S]:
        """The undertakings of one sort that are open, as they were begun; with `ended` those that are not, too."""
        if not self.there:
            return []
        from sigillum.core.records.books import open_

        ledger = self.ledger()
        still = ledger.rows(open_(sort.name))
        streams = [e.charter for e in ledger.entries(kind=sort.begins)] if ended else still.values()
        return [undertaking for undertaking in self._read(sort, streams) if ended or undertaking.key in still]

    def about(self, sort: Undertaking[S], principal: str) -> list[S]:
        """The undertakings of one sort, open or ended, that are about a principal."""
        from sigillum.core.records.books import about

        return self._read(sort, self.ledger().rows(about(sort.name, principal)).values()) if self.there else []

    def again(self, sort: Undertaking[S], undertaking: S) -> S:
        """The same undertaking, read anew."""
        return next(found for found in self._read(sort, [undertaking.uid]) if found.key == undertaking.key)

    def _read(self, sort: Undertaking[S], streams: Iterable[str]) -> list[S]:
        found = [undertaking for uid in dict.fromkeys(streams) for undertaking in sort.read(self.entries(uid), uid)]
        return sorted(found, key=lambda one: one.began)


def writer_name() -> str:
    """Who writes: the user's name on this machine."""
    import getpass

    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return "unknown"
