"""Keys that somebody found, held against what charters registered."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any, NamedTuple

from sigillum.core.charter.charter import Charter
from sigillum.core.facets.generation import called
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.history import COPY, KEPT
from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.errors import SomebodyError
from sigillum.core.values.marks import Mark
from sigillum.core.values.times import format_instant
from sigillum.ledger.port import Fresh
from sigillum.workflows.desk.ledgers import keep_witness
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office
from sigillum.workflows.proving.trials import principal_of


class Belongs(NamedTuple):
    """A key is a generation of a credential; in words, how it stands now."""

    credential: str
    generation: int
    state: str
    alive: bool


def check(office: Office, charter: Charter, thumbprints: list[str]) -> list[Belongs]:
    """Which generations of a charter's credentials these keys are, and whether they can still be used.

    Raises UnreachableError, RefusedError.
    """
    uid, history = office.books.history(charter.name)
    found, kept = list[Belongs](), office.keepings.of(uid).held() if uid else {}
    tenant = office.tenants.reach(charter.tenant)
    for all_ in history.generations.values():
        for generation in all_:
            if generation.kind != CREDENTIAL.name:
                continue
            name = called(generation.mark)
            query = Query(CREDENTIAL, "id", generation.id)
            there = tenant.facts([query])[query] if generation.id else None
            record = there.first if there is not None else None
            marks = {
                generation.kept,
                kept.get((name, generation.number), ""),
                record.value("thumbprint") if record is not None else "",
            }
            if not marks & set(thumbprints):
                continue
            if there is not None and not there.known:
                state, alive = f"whether it is alive cannot be looked up: {there.unknown}", False
            elif record is None:
                state, alive = "it has ended, and nobody can use it any more", False
            elif record.value("active") is False:
                state, alive = "it is registered, and switched off", False
            else:
                state, alive = "it is registered, and alive", True
            found.append(Belongs(name, generation.number, state, alive))
    return found


class Taken(NamedTuple):
    """A found private key that is kept here now; `copies`: where else it lies, and is to be removed."""

    belongs: Belongs
    kept: str
    copies: list[str]


def take(
    office: Office, charter: Charter, key: Mapping[str, Any], algorithm: str, found_in: Path, look_in: list[Path]
) -> Taken:
    """Keep a private key that belongs to a registered public one. Raises SomebodyError where it belongs to none, or is dead."""
    mark = thumbprint(dict(key))
    belongs = [b for b in check(office, charter, [mark]) if b.alive] or check(office, charter, [mark])
    if not belongs:
        raise SomebodyError(
            f"the key belongs to nothing of {charter.name}",
            where=charter.tenant,
            mend="`sigillum enact --adopt` takes its credential over first, where the charter names it",
        )
    owner = belongs[0]
    if not owner.alive:
        raise SomebodyError(
            f"it is generation {owner.generation} of {owner.credential}: {owner.state}",
            where=charter.tenant,
            mend="a dead key is not kept: remove it",
        )
    uid, history = office.books.history(charter.name)
    keys = office.keepings.of(uid)
    with office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
        keys.keep_found(owner.credential, owner.generation, key, algorithm)
        office.settings.boundary("key taken")
        generation = next(g for g in history.generations[_mark(charter, owner)] if g.number == owner.generation)
        if not generation.kept:
            office.books.writable_ledger().append(
                [Fresh(KEPT, uid, {**generation.mark.body(), "generation": owner.generation, "what": mark, COPY: office.copy})]
            )
        tenant = office.tenants.reach(charter.tenant)
        record = tenant.read(CREDENTIAL, generation.id)
        until = record.body.until if record is not None else None
        about = {
            "principal_id": principal_of(office, charter, history),
            "account": charter.identity.name,
            "tenant": charter.tenant,
            "credential_id": generation.id,
            "token_endpoint": tenant.token_endpoint,
            "ends": format_instant(until) if until is not None else None,
        }
        keys.complete(owner.credential, owner.generation, about)
        keep_witness(office)
    path = keys.path(owner.credential, owner.generation)
    return Taken(owner, str(path.relative_to(office.workspace.folder)), _copies(office, mark, found_in, look_in))


def _mark(charter: Charter, owner: Belongs) -> Mark:
    return Mark("credential", charter.tenant, (("name", owner.credential),))


def _copies(office: Office, mark: str, found_in: Path, look_in: list[Path]) -> list[str]:
    """The file that it was taken from, and where else the same key lies in these folders, outside of this workspace's keys."""
    from .scan import Lying, look

    found = list[Lying]()
    look(office, look_in, found)
    same = [key.path for key in found if key.finding.mark == mark and Path(key.path).resolve() != found_in.resolve()]
    return list(dict.fromkeys([*([str(found_in)] if found_in.exists() else []), *same]))
