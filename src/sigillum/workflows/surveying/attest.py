"""Evidence for a reviewer that no private key of an identity exists: each place that was looked at, how, and what was found."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from sigillum.core.charter.charter import Charter
from sigillum.core.kinds.identities import CLIENT
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.history import History
from sigillum.core.values.errors import Outcome
from sigillum.core.values.times import whole_second
from sigillum.keys.scan import KEY
from sigillum.workflows.desk.office import Office
from sigillum.workflows.proving.trials import principal_of
from sigillum.workflows.proving.ways_in import others

from .scan import Lying, look

MOST_NAMED = 5  # on a page for people; `key scan` lists all


class Looked(NamedTuple):
    """One place. `found` None: it could not be looked at; empty: there is none. `how`: what was done to know it."""

    where: str
    found: tuple[str, ...] | None
    how: str


@dataclass(frozen=True, slots=True)
class Attested:
    """All of it, by the tenant's time; `instead`: how the identity is used without a key."""

    charter: Charter
    at: datetime
    looked: tuple[Looked, ...]
    instead: tuple[str, ...]

    def outcome(self) -> Outcome:
        if any(looked.found for looked in self.looked):
            return Outcome.NO
        return Outcome.SOMEBODY if any(looked.found is None for looked in self.looked) else Outcome.DONE


def attest(office: Office, charter_name: str, folders: Iterable[Path]) -> Attested:
    """Look everywhere where one could be; nothing is changed. Raises UsageError, FileError, UnreachableError."""
    charter = office.charters([charter_name])[0]
    tenant, (uid, state) = office.tenants.reach(charter.tenant), office.books.history(charter.name)
    principal = principal_of(office, charter, state)
    looked = [
        Looked("the charter", tuple(f"{c.name} ({c.kind})" for c in charter.credentials), "it asks for no credential"),
        Looked(
            "the ledger",
            tuple(
                f"generation {g.number} of {mark.get('name')}"
                for mark, all_ in state.generations.items()
                for g in all_
                if g.kind == CREDENTIAL.name and g.live
            ),
            "no credential that was begun for it has not ended; `ledger verify` shows that the record is whole",
        ),
        _shown(office, charter, state, principal),
        Looked(
            "this workspace's private folder",
            tuple(office.keepings.of(uid).names()) if uid else (),
            "nothing is kept there for it",
        ),
        *_lying(office, charter, [office.workspace.folder, *folders]),
    ]
    if charter.signing is not None:
        looked.append(
            Looked(
                f"the signing service of {charter.tenant}",
                (),
                "it signs, with keys that it gives to nobody: its interface has no call that would",
            )
        )
    instead = tuple(other.words for other in others(tenant, charter, state, principal)) if principal else ()
    return Attested(charter, whole_second(office.tenants.now(charter.tenant)), tuple(looked), instead)


def _shown(office: Office, charter: Charter, state: History, principal: str) -> Looked:
    """What the tenant shows now: of a client what its registration has, too."""
    where = f"the tenant {charter.tenant}"
    registered = state.find(CLIENT, charter.tenant) if charter.is_client else None
    bearers = [i for i in (principal, registered.id if registered is not None else "") if i]
    if not bearers:
        return Looked(where, (), "the identity does not stand there")
    queries = [Query(CREDENTIAL, "principal", bearer) for bearer in bearers]
    facts = office.tenants.reach(charter.tenant).facts(queries)
    unknown = next((f.unknown for f in facts.values() if not f.known), None)
    if unknown is not None:
        return Looked(where, None, f"its credentials are not shown: {unknown}")
    found = {r.id: r.body.name or r.id for f in facts.values() for r in f.records}
    return Looked(where, tuple(found.values()), "it was asked for every credential of the identity")


def _lying(office: Office, charter: Charter, folders: list[Path]) -> Iterator[Looked]:
    """Private keys in files: those of this charter; those of which nobody here knows whose they are; and what was not read."""
    found = list[Lying]()
    searched = look(office, folders, found)
    names = ", ".join(str(f) for f in folders[1:])
    mine = tuple(f"{key.path}: {key.ours.what}" for key in found if key.ours is not None and _is_of(key.ours.what, charter))
    yield Looked("files", mine, f"{searched.files} files of this workspace{f' and {names}' if names else ''} were read")
    strange = [key.path for key in found if key.ours is None and key.finding.what == KEY]
    if strange:
        yield Looked("keys of nobody knows whom", None, f"{_some(strange)}: private keys, and nobody here knows whose")
    if searched.left_out:
        told = _some([f"{path} ({why})" for path, why in searched.left_out])
        yield Looked("what was not read", None, f"{len(searched.left_out)} of them: {told}")


def _is_of(what: str, charter: Charter) -> bool:
    return what.endswith(f" of {charter.name}")


def _some(names: list[str]) -> str:
    """The first of many."""
    return ", ".join(names[:MOST_NAMED]) + (f" and {len(names) - MOST_NAMED} more" if len(names) > MOST_NAMED else "")
