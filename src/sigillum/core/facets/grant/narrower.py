"""A broad role where a narrow one holds all that the charter's proofs need: told, with what it would take away."""

from __future__ import annotations

from sigillum.core.charter.charter import SELF, GrantWant
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.seen import Seen
from sigillum.core.kinds.access import NOWHERE, ROLE, Role
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.values.text import is_within, some

ALL_ROLES = Query[Role](ROLE, "all")


def advise(seen: Seen, draft: Draft, want: GrantWant) -> None:
    """Only of broad roles is asked which others there are; without proofs nothing says what is needed."""
    broad = seen.ask(Query(ROLE, "name", want.role)).first
    if broad is None or not broad.says(breadth="broad") or want.at == SELF:
        return
    needed = {p.permission for p in seen.charter.proofs if p.allowed and not p.person and is_within(p.at, want.at)}
    held = _permissions(broad)
    if not needed or not needed <= held:
        return
    best = min(
        (r for r in seen.ask(ALL_ROLES).records if _serves(seen, r, needed, held)),
        key=lambda r: (len(r.body.permissions), r.body.name),
        default=None,
    )
    if best is not None:
        gone = sorted(held - _permissions(best))
        draft.note(
            "narrower-role",
            f"{want.role} at {want.at} is broad, and {best.body.name} holds all that the proofs need "
            f"({', '.join(sorted(needed))}); it would take away {some(gone, 'permission')}",
        )


def _permissions(role: Record[Role]) -> set[str]:
    return {p for p, _ in role.body.permissions}


def _serves(seen: Seen, role: Record[Role], needed: set[str], held: set[str]) -> bool:
    """Does it hold what is needed, less than the broad one, and does the house allow it?"""
    allowed = not any(role.says(name=n) for n in seen.rules.forbidden_roles) and not role.says(grantable_at=(NOWHERE,))
    return allowed and needed <= _permissions(role) < held
