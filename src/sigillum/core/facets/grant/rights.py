"""What speaks against a wanted grant: the tenant's own rules at once, and what it will mean once everything is drafted."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from sigillum.core.charter.charter import SELF, GrantWant
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.future import future
from sigillum.core.facets.provides import Wished
from sigillum.core.facets.seen import Seen
from sigillum.core.kinds.access import GRANT, PLACE
from sigillum.core.kinds.identities import TEAM
from sigillum.core.kinds.kind import Query, Record, inside
from sigillum.core.values.marks import Id
from sigillum.core.values.text import lines

if TYPE_CHECKING:  # deciding is loaded for grants that need it: with a window, or with something that may be missing
    from sigillum.core.deciding.objections import Objection
    from sigillum.core.deciding.values import Right
    from sigillum.core.deciding.world import World


def ask(seen: Seen, draft: Draft, wants: list[GrantWant], who: Id) -> None:
    """Where a window is wanted: what could make it pointless, teams, their grants, and the roles of all grants."""
    if any(w.windowed for w in wants):
        from sigillum.core.deciding.gathering import explore

        teams = [t.id for want in seen.charter.member_of for t in seen.ask(Query(TEAM, "name", want.name)).records]
        known = [who] if isinstance(who, str) else []
        explore(seen.snapshot, [*known, *teams], [w.at for w in wants if w.at != SELF])


def _demanding(seen: Seen, wished: Wished) -> bool:
    """Does a permission ask for something that may be missing at the place?"""

    def one(permission: str) -> bool:
        rule = seen.profile.operations.get(permission)
        if rule is None or wished.want.at == SELF:
            return False
        on = any(
            inside(r, "services", rule.service)
            for path in lines([wished.want.at])
            for r in seen.ask(Query(PLACE, "path", path)).records
        )
        if rule.service and not on:
            seen.ask(Query(PLACE, "under", wished.want.at))  # where a place below has it, the grant counts there
        return bool(rule.located or rule.needs or (rule.service and not on))

    return any(one(p) for p, _ in wished.role.body.permissions)


def _right(wished: Wished) -> Right:
    from sigillum.core.deciding.values import Right

    labels = tuple((n, frozenset(v)) for n, v in wished.want.where)
    return Right(
        wished.right,
        wished.carrier,
        wished.want.role,
        wished.place,
        wished.start,
        wished.until,
        labels,
        reach=wished.want.reach,
    )


def refused(seen: Seen, draft: Draft, wished: Wished, standing: Record[Any] | None, holder: Record[Any] | None) -> bool:
    """What the tenant's own rules say about role, window and place of one that does not stand yet; is it refused?"""
    want = wished.want
    if standing is not None or not (want.windowed or wished.role.body.grantable_at):
        return False
    from sigillum.core.deciding.gathering import world_of
    from sigillum.core.deciding.objections import against, misplaced

    everyone = holder is not None and holder.value("everyone") is True
    found = list(against(seen.profile, wished.role, _right(wished), seen.now, everyone=everyone))
    if wished.role.body.grantable_at:
        wrong = misplaced(world_of(seen.snapshot.known(), seen.profile, felt=False), wished.role, wished.place)
        found += [wrong] if wrong is not None else []
    return _tell(draft, want, found)


def _tell(draft: Draft, want: GrantWant, found: list[Objection]) -> bool:
    for objection in found:
        if objection.refuse:
            draft.wrong(objection.code, objection.what, objection.mend, want.position)
        else:
            mend = f"; {objection.mend}" if objection.mend else ""
            draft.note(objection.code, f"{objection.what}{mend}", warning=not objection.usual)
    return any(o.refuse for o in found)


def last(seen: Seen, draft: Draft) -> None:
    """Warnings about each wanted grant, with the tenant as it will be."""
    all_ = [(w, _demanding(seen, w)) for w in draft.find(Wished, seen.tenant)]
    looked_at = [(w, demanding) for w, demanding in all_ if w.want.windowed or demanding or w.role.body.grantable_at]
    if not looked_at:
        return
    world = future(seen, draft, draft.steps)
    for wished, demanding in looked_at:
        _tell(draft, wished.want, list(_warnings(seen, world, wished, demanding=demanding)))


def _warnings(seen: Seen, world: World[Any], wished: Wished, *, demanding: bool) -> Iterator[Objection]:
    from sigillum.core.deciding.objections import missing_rights, without_effect

    right = _right(wished)
    yield from without_effect(world, right, lambda identity: seen.books.owner(seen.tenant, GRANT, identity))
    if demanding:
        yield from missing_rights(world, right, seen.now, [p for p, _ in wished.role.body.permissions])
