"""The office: an opened workspace with its tenants, books and keeping places, made once a command and given to workflows."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from sigillum.charters import files
from sigillum.charters.workspace import Workspace, find, load
from sigillum.core.charter.charter import Charter
from sigillum.core.values.errors import FileError, Mistake
from sigillum.keeping.private import guard
from sigillum.tenants.registry import driver_of

from .asked import asking_about
from .books import Books
from .keepings import Keepings
from .settings import Progress, Settings
from .tenants import Tenants

if TYPE_CHECKING:
    from sigillum.core.records.steps import Step
    from sigillum.workflows.enacting.carrying.ports import Asking, Ports

CLAIM = "enacting"
BRIEFLY_SECONDS = 10.0  # so long a short command waits for another one


@dataclass(frozen=True, eq=False, slots=True)
class Office:
    """Everything that a workflow works with."""

    settings: Settings
    workspace: Workspace
    tenants: Tenants
    books: Books
    keepings: Keepings

    @classmethod
    def of(cls, settings: Settings, workspace: Workspace) -> Office:
        """The office of a workspace that was read; nothing else is opened yet."""
        keepings, books = Keepings(workspace), Books(settings, workspace)
        tenants = Tenants(settings, workspace, keepings, books)
        keepings.stores = tenants.store
        return cls(settings, workspace, tenants, books, keepings)

    @classmethod
    def open(cls, settings: Settings) -> Office:
        """Raises FileError where there is no workspace, or its file is wrong."""
        folder = settings.workspace
        if folder is not None:
            from sigillum.charters.names import FILE

            if not (folder / FILE).is_file():
                raise FileError(
                    "there is no workspace there",
                    where=str(folder),
                    mend="run `sigillum init` to begin one, or name another folder with `--workspace`",
                )
        workspace = load(folder if folder is not None else find(Path.cwd()))
        if mended := guard(workspace.private):
            settings.say(mended)
        return cls.of(settings, workspace)

    def trusted(self, more: Iterable[str] = (), *, ours: bool = False) -> frozenset[str]:
        """The keys whose signatures are taken: those of `signers`, `more`, and `ours`, where that may be one of them."""
        own = [self.books.signing_key().key_id] if ours else []
        return frozenset([*self.workspace.file.signers.values(), *more, *own])

    @property
    def copy(self) -> str:
        """The name of this copy of the workspace. Raises MachineError."""
        from .copies import copy_of

        return copy_of(self.workspace.private)

    def close(self) -> None:
        self.books.close()

    def __enter__(self) -> Office:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def charters(self, wanted: list[str], *, all_: bool = False) -> list[Charter]:
        """Read the charters named, or all. Raises FileError with the mistakes of all of them at once."""
        known = files.names(self.workspace)
        read = self.readable(sorted(known) if all_ else wanted, known)
        wrong = [c for c in read if isinstance(c, FileError)]
        if len(wrong) == len(read) == 1 and not wrong[0].mistakes:
            raise wrong[0]
        if wrong:
            raise FileError("", mistakes=tuple(m for p in wrong for m in p.mistakes or [Mistake("file", p.what, p.mend)]))
        return [c for c in read if isinstance(c, Charter)]

    def readable(self, wanted: Iterable[str], known: Mapping[str, list[Path]]) -> list[Charter | FileError]:
        """Each charter, or what is wrong with it. `known`: the names that the files have, and which those are."""

        def one(name: str) -> Charter | FileError:
            try:
                found = files.load(
                    self.workspace, files.path_of(self.workspace, name, known), answers=self.books.answers, known=known
                )
                if reserved := self._reserved(found):
                    raise FileError("", mistakes=reserved)
            except FileError as problem:
                return problem
            return found

        return [one(name) for name in wanted]

    def _reserved(self, charter: Charter) -> tuple[Mistake, ...]:
        """A name that the tenant's driver keeps for itself."""
        who, driver = charter.identity, driver_of(self.workspace.file.tenants[charter.tenant].driver, charter.tenant)
        if not driver.reserves(who.name):
            return ()
        what = f"{charter.tenant} keeps the name {who.name!r} for itself"
        return (Mistake("name-reserved", what, "choose another `name`", who.position),)

    def ports(
        self,
        uid: str,
        about: str,
        prove: Callable[[Step], None],
        ask: Asking,
        turn: Callable[[Step], None],
        external_id: str = "",
    ) -> Ports:
        """What carrying out a stream's steps needs; `about` names it while it is under way. `external_id`: the mark of what is
        made, where somebody else knows it by another one than ours.
        """
        from sigillum.workflows.enacting.carrying.journal import LedgerJournal
        from sigillum.workflows.enacting.carrying.ports import Patience, Ports

        settings, keeping = self.settings, self.keepings.of(uid)
        keeping.clear()
        journal = LedgerJournal(
            self.books.writable_ledger(),
            self.workspace.file.workspace,
            uid,
            self.tenants.now,
            settings.boundary,
            self.tenants.name_of,
            self.tenants.met,
            lambda: self.copy,
            external_id,
        )
        patience = Patience(
            settings.timeout_seconds,
            settings.wait_seconds,
            settings.pause,
            lambda text: settings.progress(Progress(about, text)),
            settings.go_on,
        )

        def asked(step: Step) -> AbstractContextManager[None]:
            return asking_about(f"{about}/{step.id.generation}")

        return Ports(
            self.tenants.reach, journal, keeping, patience, prove, ask, self.keepings.resolve, turn, asked, settings.gone
        )


def nothing(*given: object) -> None:
    """For a port that a workflow has no use for."""
