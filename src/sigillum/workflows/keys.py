"""Keys that somebody found, held against what charters registered."""

from __future__ import annotations

from typing import NamedTuple

from sigillum.core.charter.charter import Charter
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.signing import CREDENTIAL

from .office import Office


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
        for one in all_:
            if one.kind != CREDENTIAL.name:
                continue
            name = one.mark.get("name")
            query = Query(CREDENTIAL, "id", one.id)
            there = tenant.facts([query])[query] if one.id else None
            record = there.first if there is not None else None
            marks = {one.kept, kept.get((name, one.number), ""), record.value("thumbprint") if record is not None else ""}
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
            found.append(Belongs(name, one.number, state, alive))
    return found
