"""The facet *account*: the user-shaped account of a program, in its home tenant."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from sigillum.core.facts import Fact, Query, Snapshot, Thing
from sigillum.core.steps import Adopt, Change, Collision, Create, Ref, Step, StepKind

from .common import Standing, View, await_step, differing, stand, unknown

NAME, THING, POWER = "account", "account", "accounts"
KEY = "identity"
MAKE = "make-account"


def queries(view: View, snapshot: Snapshot) -> Iterator[Query]:
    """By name, to see a stranger's; by externalId and id, to find our own."""
    yield Query(THING, "name", view.charter.identity.name)
    generation = view.state.latest(NAME, KEY)
    if generation is not None and generation.state not in ("ended", "spent"):
        if generation.id:
            yield Query(THING, "id", generation.id)
        else:
            yield Query(THING, "external_id", generation.external_id)


def wanted(view: View) -> dict[str, Any]:
    identity = view.charter.identity
    fields: dict[str, Any] = {"name": identity.name, "display": identity.display, "active": True}
    if "account-about" in view.snapshot.profile.kinds:
        fields |= view.charter.about()
    return fields


def compare(view: View) -> None:
    """Make, change or leave the account; sets `view.principal`."""
    named = view.snapshot.fact(THING, "name", view.charter.identity.name)
    if not named.known:
        unknown(view, named, f"the account {view.charter.identity.name}")
        return
    own = [f for q, f in view.snapshot.facts.items() if q.kind == THING and q.field in ("id", "external_id")]
    things = [t for fact in [named, *own] for t in fact.things]
    standing = stand(view, NAME, KEY, things)
    if standing.thing is not None:
        _present(view, standing.thing, standing.number)
    elif standing.state == "recent" and standing.generation is not None:
        view.principal = standing.generation.id
        view.add(await_step(view, NAME, KEY, THING, standing, f"the account {view.charter.identity.name}"))
    elif named.first is not None:
        _taken(view, named, standing)
    else:
        _make(view, standing)


def _make(view: View, standing: Standing) -> None:
    name, number = view.charter.identity.name, standing.number
    if standing.state == "gone":
        view.draft.note("gone", f"the account {name} was made once and is no longer there; it is made anew")
    why = view.charter.purpose
    if standing.state == "open":
        why = "begun earlier, and the answer was not caught"
    view.add(Step(
        MAKE, StepKind.MAKE, view.snapshot.tenant, NAME, KEY, f"account {name}",
        Create(THING, view.external_id(NAME, KEY, number), wanted(view)), number, power=POWER, why=why,
        after=wanted(view)))
    view.principal = Ref(MAKE, "id")


def _present(view: View, thing: Thing, number: int, needs: tuple[str, ...] = ()) -> None:
    view.principal = thing.id
    differences = differing(wanted(view), thing)
    if differences:
        after = {name: new for name, (_, new) in differences.items()}
        view.add(Step(
            "change-account", StepKind.CHANGE, view.snapshot.tenant, NAME, KEY,
            f"account {view.charter.identity.name}", Change(THING, thing.id, after, thing.version),
            number, needs=needs, power=POWER, why="the charter says so",
            before={name: old for name, (old, _) in differences.items()}, after=after))


def _taken(view: View, named: Fact, standing: Standing) -> None:
    """An account of that name stands there and Sigillum did not make it."""
    thing = named.things[0]
    want = wanted(view)
    rows = tuple((name, value, thing.get(name)) for name, value in want.items())
    matches = not differing(want, thing)
    if not view.state.ledger and matches:
        view.principal = thing.id
        return
    if view.adopt:
        number = standing.number if standing.state != "open" else standing.number + 1
        step = view.add(Step(
            "adopt-account", StepKind.KEEP, view.snapshot.tenant, NAME, KEY,
            f"in the ledger that account {view.charter.identity.name} is ours from now on", Adopt(THING, thing.id),
            number, why="--adopt was given"))
        _present(view, thing, number, (step,))
        return
    view.principal = thing.id
    view.draft.collisions.append(Collision(NAME, view.charter.identity.name, thing.id, rows, matches))


