"""The facet *role*: custom roles, names for exactly the permissions that are wanted."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from sigillum.core.charter.charter import RoleWant
from sigillum.core.charter.rules import CLASSES
from sigillum.core.kinds.facts import Query, Snapshot, Thing
from sigillum.core.records.steps import Change, Collision, Create, End, Step, StepKind
from sigillum.core.values.errors import Mistake
from sigillum.core.values.text import did_you_mean

from .common import Standing, View, await_step, stand, unknown

NAME, THING, POWER = "role", "role", "roles"


def queries(view: View, snapshot: Snapshot) -> Iterator[Query]:
    """The roles by name."""
    for want in view.charter.roles:
        yield Query(THING, "name", want.name)
    for (facet, _), generations in view.state.generations.items():
        if facet == NAME and generations[-1].state == "made":
            yield Query(THING, "id", generations[-1].id)


def permissions_of(view: View, want: RoleWant) -> tuple[tuple[str, str], ...]:
    """The wanted permissions with the classes that the tenant gives them."""
    known = view.snapshot.profile.operations
    return tuple((p, known[p].class_ if p in known else CLASSES[0]) for p in want.permissions)


def compare(view: View) -> None:
    """Make or change the wanted roles, and end our own that are wanted no more, after their grants."""
    for want in view.charter.roles:
        fact = view.snapshot.fact(THING, "name", want.name)
        known = view.snapshot.profile.operations
        strange = [p for p in want.permissions if known and p not in known]
        if not fact.known:
            unknown(view, fact, f"the role {want.name}")
            continue
        for permission in strange:
            view.draft.mistakes.append(Mistake(
                "permission-unknown", f"{view.snapshot.tenant} has no permission {permission!r}",
                did_you_mean(permission, known), want.position))
        if not strange:
            _one(view, want, fact.things)


def _one(view: View, want: RoleWant, things: tuple[Thing, ...]) -> None:
    standing = stand(view, NAME, want.name, things)
    fields: dict[str, Any] = {"name": want.name, "display": want.display, "permissions": permissions_of(view, want)}
    shown = {"allows": words(fields["permissions"])}
    if standing.thing is not None:
        _present(view, want, standing, fields)
    elif standing.state == "recent":
        view.add(await_step(view, NAME, want.name, THING, standing, f"the role {want.name}"))
    elif things:
        rows = (("display", want.display, things[0].get("display")),
                ("permissions", words(fields["permissions"]), words(things[0].get("permissions"))))
        same = {p for p, _ in fields["permissions"]} == {p for p, _ in things[0].get("permissions") or ()}
        if not same:
            view.draft.collisions.append(Collision(NAME, want.name, things[0].id, rows, False))
    else:
        view.add(Step(
            f"make-role-{want.name}", StepKind.MAKE, view.snapshot.tenant, NAME, want.name, f"role {want.name}",
            Create(THING, view.external_id(NAME, want.name, standing.number), fields), standing.number, power=POWER,
            why="no role of the tenant is as narrow as that", after=shown))


def _present(view: View, want: RoleWant, standing: Standing, fields: dict[str, Any]) -> None:
    assert standing.thing is not None
    have = standing.thing.get("permissions") or ()
    if {p for p, _ in have} == set(want.permissions) and standing.thing.get("display") == want.display:
        return
    view.add(Step(
        f"change-role-{want.name}", StepKind.CHANGE, view.snapshot.tenant, NAME, want.name, f"role {want.name}",
        Change(THING, standing.thing.id, {n: fields[n] for n in ("display", "permissions")}, standing.thing.version),
        standing.number, power=POWER, why="the charter says so",
        before={"display": standing.thing.get("display"), "permissions": words(have)},
        after={"display": want.display, "permissions": words(fields["permissions"])}))


def words(permissions: Any) -> str:
    """Permissions with their classes, for reading."""
    return ", ".join(f"{p} ({c.replace('-', ' ')})" for p, c in permissions or ())


def end_unwanted(view: View) -> None:
    """End our roles that the charter no longer asks for; called when the ending of their grants is known."""
    if not isinstance(view.principal, str):
        return
    wanted = {w.name for w in view.charter.roles}
    for (facet, name), generations in list(view.state.generations.items()):
        generation = generations[-1]
        if facet == NAME and name not in wanted and generation.state == "made" and \
                view.snapshot.fact(THING, "id", generation.id).first is not None:
            needs = tuple(s.id for s in view.draft.steps if s.kind is StepKind.END and s.facet == "grant")
            view.add(Step(
                f"end-role-{name}", StepKind.END, view.snapshot.tenant, NAME, name, f"role {name}", End(THING, generation.id),
                generation.number, needs=needs, power=POWER, why="the charter no longer asks for it"))
