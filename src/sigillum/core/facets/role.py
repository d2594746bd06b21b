"""The facet *role*: custom roles, names for exactly the permissions that are wanted."""

from __future__ import annotations

from typing import Any

from sigillum.core.charter.charter import RoleWant
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.provides import ItsPrincipal, OwnRole, RightEnds
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import Standing, Where, adopt, await_, dark, principal, stand, unknown
from sigillum.core.kinds.access import GRANT, ROLE, Role, permission_words
from sigillum.core.kinds.changes import Change, End, Make
from sigillum.core.kinds.kind import Fact, Query, Record, compared
from sigillum.core.records.history import State
from sigillum.core.records.steps import Adopt, Collision, Need, Step, StepKind
from sigillum.core.values.marks import Id, Mark, Ref, StepId
from sigillum.core.values.text import CLASSES, did_you_mean

NAME = "role"


def mark_of(seen: Seen, name: str) -> Mark:
    return seen.mark(NAME, ("role", name))


def compare(seen: Seen, draft: Draft) -> None:
    """Make or change the wanted roles, and end our own that are wanted no more, after their grants."""
    for want in seen.charter.roles:
        fact = seen.ask(Query(ROLE, "name", want.name))
        known = seen.profile.operations
        if want.like:
            base = seen.ask(Query(ROLE, "name", want.like))
            want, fact = _like(seen, draft, want, base), fact if base.known else base
        strange = [p for p in want.permissions if known and p not in known]
        if not fact.known:
            unknown(seen, draft, fact, f"the role {want.name}")
            continue
        for permission in strange:
            draft.wrong(
                "permission-unknown",
                f"{seen.tenant} has no permission {permission!r}",
                did_you_mean(permission, known),
                want.position,
            )
        if not strange:
            _one(seen, draft, want, fact.records)
    _not_wanted(seen, draft)


def _like(seen: Seen, draft: Draft, want: RoleWant, base: Fact[Role]) -> RoleWant:
    """With the permissions of the role that it is like, but for those that it is to be without."""
    if not base.known:
        return want
    has = {r.body.name: frozenset(p for p, _ in r.body.permissions) for r in base.records}
    if want.like not in has:
        known = [r.body.name for r in seen.ask(Query(ROLE, "all")).records]
        draft.wrong("role-unknown", f"{seen.tenant} has no role {want.like!r}", did_you_mean(want.like, known), want.position)
    for permission in sorted(set(want.without) - has.get(want.like, frozenset(want.without))):
        draft.wrong(
            "permission-unknown",
            f"{want.like} has no permission {permission!r} that could be left out",
            did_you_mean(permission, has[want.like]),
            want.position,
        )
    return want._replace(permissions=tuple(sorted(want.of(has))))


def _one(seen: Seen, draft: Draft, want: RoleWant, records: tuple[Record[Role], ...]) -> None:
    known, mark = seen.profile.operations, mark_of(seen, want.name)
    permissions = tuple((p, known[p].class_ if p in known else CLASSES[0]) for p in want.permissions)
    part: dict[str, Any] = {"name": want.name, "display": want.display, "permissions": permissions}
    standing = stand(seen, draft, mark, records, f"role {want.name}")
    identity: Id = standing.record.id if standing.record is not None else records[0].id if records else ""
    if standing.record is not None:
        _present(seen, draft, standing, part)
    elif standing.where is Where.RECENT and standing.generation is not None:
        await_(seen, draft, mark, ROLE, standing, f"the role {want.name}")
        identity = standing.generation.id
    elif records and seen.choices.adopt and records[0].body.custom:
        number = standing.number if standing.where is not Where.OPEN else standing.number + 1
        adopt(draft, mark, number, f"the role {want.name}", Adopt(ROLE, records[0].id))
        _present(seen, draft, Standing(Where.PRESENT, standing.generation, records[0]), part)
    elif records:
        if not ROLE.same("permissions", records[0].body.permissions, permissions):
            rows = (
                ("display", want.display, records[0].body.display),
                ("permissions", permission_words(permissions), permission_words(records[0].body.permissions)),
            )
            draft.collide(Collision(ROLE, want.name, records[0].id, rows, False))
    else:
        identity = Ref(
            draft.add(
                Step(
                    StepId(mark, standing.number, "make"),
                    StepKind.MAKE,
                    f"role {want.name}",
                    Make(ROLE, part),
                    power=ROLE.power,
                    why="no role of the tenant is as narrow as that",
                    after={"permissions": permission_words(permissions)},
                )
            ),
            "id",
        )
    record = Record(ROLE, identity if isinstance(identity, str) else "", Role(want.name, want.display, "curated", permissions))
    draft.provide(OwnRole(seen.tenant, record, identity), *([identity.step] if isinstance(identity, Ref) else []))


def _present(seen: Seen, draft: Draft, standing: Standing, part: dict[str, Any]) -> None:
    assert standing.record is not None
    have, held = standing.record.body, compared(standing.record, part, seen.carried(ROLE))
    dark(seen, draft, held, f"the role {part['name']}")
    if not held.different:
        return
    draft.add(
        Step(
            StepId(mark_of(seen, part["name"]), standing.number, "change"),
            StepKind.CHANGE,
            f"role {part['name']}",
            Change(ROLE, standing.record.id, {n: part[n] for n in ("display", "permissions")}, standing.record.version),
            power=ROLE.power,
            why="the charter says so",
            before={"display": have.display, "permissions": permission_words(have.permissions)},
            after={"display": part["display"], "permissions": permission_words(part["permissions"])},
        )
    )


def _not_wanted(seen: Seen, draft: Draft) -> None:
    """End our roles that the charter no longer asks for, once their grants have ended; not where those are not known."""
    who = principal(seen, draft)
    if who is None or not isinstance(who.id, str) or not seen.ask(Query(GRANT, "principal", who.id)).known:
        return
    wanted = {mark_of(seen, w.name) for w in seen.charter.roles}
    for generation in seen.history.of(NAME, seen.tenant):
        if generation.state is not State.MADE or generation.mark in wanted:
            continue
        if seen.ask(Query(ROLE, "id", generation.id)).first is not None:
            name = generation.mark.get("role")
            draft.add(
                Step(
                    StepId(generation.mark, generation.number, "end"),
                    StepKind.END,
                    f"role {name}",
                    End(ROLE, generation.id),
                    power=ROLE.power,
                    why="the charter no longer asks for it",
                ),
                late=[Need(RightEnds)],
            )


def words(mark: Mark) -> str:
    return f"the role {mark.get('role')}"


FACET = Facet(NAME, compare, frozenset((OwnRole,)), frozenset((ItsPrincipal,)), words=words)
