"""The facet *account*: the identity in its home tenant, a user-shaped account of a program or a team."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from sigillum.core.charter.charter import FOREIGN
from sigillum.core.kinds.facts import Fact, Query, Snapshot, Thing
from sigillum.core.records.steps import Adopt, Change, Collision, Create, End, Ref, Step, StepKind
from sigillum.core.values.errors import Mistake

from .common import Standing, View, await_step, differing, slow_step, stand, unknown

NAME = "account"
KEY = "identity"
MAKE = "make-account"
POWERS = {"account": "accounts", "team": "teams"}


def thing(view: View) -> str:
    """The kind of thing that the identity is in its tenant."""
    return "team" if view.charter.is_team else "account"


def queries(view: View, snapshot: Snapshot) -> Iterator[Query]:
    """By name, to see a stranger's; by externalId and id, to find our own."""
    if view.charter.is_client:
        return
    kind = thing(view)
    yield Query(kind, "name", view.charter.identity.name)
    if view.charter.identity.area:
        yield Query("place", "path", view.charter.identity.area)
    generation = view.state.latest(NAME, KEY)
    if generation is not None and generation.state not in ("ended", "spent"):
        if generation.id:
            yield Query(kind, "id", generation.id)
        else:
            yield Query(kind, "external_id", generation.external_id)


def wanted(view: View) -> dict[str, Any]:
    """The identity's attributes, as far as the tenant has a place for them."""
    identity, kinds = view.charter.identity, view.snapshot.profile.kinds
    if view.charter.is_team:
        about = {**view.charter.about(), "reach": view.charter.reach} if "team-about" in kinds else {}
        return {"name": identity.name, **about}
    fields: dict[str, Any] = {"name": identity.name, "display": identity.display, "active": True}
    if "account-about" in kinds:
        fields |= view.charter.about() | ({"web_only": True} if identity.web_only else {})
    if identity.kind == FOREIGN and view.home is not None:  # known by its client id at the issuer of its home
        fields |= {"organisation": view.home.snapshot.profile.issuer, "subject": view.home.client_id}
    return fields


def _lives(view: View) -> bool:
    """Is it said where the account lives, as the tenant asks it? Adds the mistakes where it is not."""
    identity, kind = view.charter.identity, view.snapshot.profile.accounts_live_in
    if view.charter.is_team or identity.kind == FOREIGN or view.home is not None:
        return True

    def wrong(code: str, what: str, mend: str) -> bool:
        view.draft.mistakes.append(Mistake(code, what, mend, identity.position))
        return False
    if identity.area and not kind:
        return wrong("area", f"accounts live in no area at {view.snapshot.tenant}", "leave `area` out")
    if kind and not identity.area and not identity.wide:
        return wrong("area-missing", f"at {view.snapshot.tenant} an account lives in one {kind}, or it is installation-wide",
                     f"add `area: PATH` of a {kind} to `identity`, or `installation_wide: why`")
    place = view.snapshot.fact("place", "path", identity.area) if identity.area else None
    if place is not None and place.known and (place.first is None or place.first.get("kind") != kind):
        return wrong("area", f"{identity.area} is no {kind} of {view.snapshot.tenant}", f"name the path of a {kind}")
    if identity.wide:
        view.draft.note("account-wide", f"{identity.name} is installation-wide: {identity.wide}")
    return True


def compare(view: View) -> None:
    """Make, change or leave the account; sets `view.principal`. A client is made by the facet *client*."""
    if view.charter.is_client:
        return
    kind, words = thing(view), _words(view)
    if not _lives(view):
        return
    named = view.snapshot.fact(kind, "name", view.charter.identity.name)
    if not named.known:
        unknown(view, named, f"the {words}")
        return
    own = [f for q, f in view.snapshot.facts.items() if q.kind == kind and q.field in ("id", "external_id")]
    things = [t for fact in [named, *own] for t in fact.things]
    standing = stand(view, NAME, KEY, things)
    if standing.thing is not None:
        _present(view, standing.thing, standing.number)
    elif standing.state == "recent" and standing.generation is not None:
        view.principal = standing.generation.id
        view.add(await_step(view, NAME, KEY, kind, standing, f"the {words}"))
    elif named.first is not None:
        _taken(view, named, standing)
    else:
        _make(view, standing)


def _words(view: View) -> str:
    kind = "foreign principal" if view.charter.identity.kind == FOREIGN else thing(view)
    return f"{kind} {view.charter.identity.name}"


def _make(view: View, standing: Standing, needs: tuple[str, ...] = ()) -> None:
    number, words = standing.number, _words(view)
    if standing.state == "gone":
        view.draft.note("gone", f"the {words} was made once and is no longer there; it is made anew")
    if view.home is not None:
        needs = (*needs, *view.step_of(view.home.client_id))
    why = standing.why(view.charter.purpose)
    view.add(Step(
        MAKE, StepKind.MAKE, view.snapshot.tenant, NAME, KEY, words,
        Create(thing(view), view.external_id(NAME, KEY, number), wanted(view)), number, needs=needs,
        power=POWERS[thing(view)], why=why, after=wanted(view)))
    view.principal = Ref(MAKE, "id")
    if view.snapshot.profile.accounts_drafted and not view.charter.is_team:
        view.ready_step = view.add(Step(
            "save-account", StepKind.CHANGE, view.snapshot.tenant, NAME, KEY, f"{words}: switch it on",
            Change(thing(view), view.principal, {"active": True}), number, needs=(MAKE,), power=POWERS[thing(view)],
            why="it is born as a draft, and takes roles after that", before={"active": False}, after={"active": True}))


def _present(view: View, found: Thing, number: int, needs: tuple[str, ...] = ()) -> None:
    view.principal = found.id
    if found.get("progress") == "failed":
        ended = view.add(Step(
            "end-account-failed", StepKind.END, view.snapshot.tenant, NAME, KEY, f"{_words(view)}, whose making failed",
            End(found.kind, found.id), number, needs=needs, power=POWERS[found.kind], why="the tenant could not make it"))
        _make(view, Standing("gone", view.state.latest(NAME, KEY)), (ended,))
        return
    view.ready_step = slow_step(view, NAME, KEY, found, number, f"the {_words(view)}")
    differences = differing(wanted(view), found)
    if differences:
        after = {name: new for name, (_, new) in differences.items()}
        changed = view.add(Step(
            "change-account", StepKind.CHANGE, view.snapshot.tenant, NAME, KEY, _words(view),
            Change(found.kind, found.id, after, found.version),
            number, needs=needs, power=POWERS[found.kind], why="the charter says so",
            before={name: old for name, (old, _) in differences.items()}, after=after))
        if view.snapshot.profile.accounts_drafted and "active" in after:
            view.ready_step = changed


def _taken(view: View, named: Fact, standing: Standing) -> None:
    """One of that name stands there and Sigillum did not make it."""
    found = named.things[0]
    want = wanted(view)
    rows = tuple((name, value, found.get(name)) for name, value in want.items())
    matches = not differing(want, found)
    if not view.state.ledger and matches:
        view.principal = found.id
        return
    if view.adopt:
        number = standing.number if standing.state != "open" else standing.number + 1
        step = view.add(Step(
            "adopt-account", StepKind.KEEP, view.snapshot.tenant, NAME, KEY,
            f"in the ledger that {_words(view)} is ours from now on", Adopt(found.kind, found.id),
            number, why="--adopt was given"))
        _present(view, found, number, (step,))
        return
    view.principal = found.id
    view.draft.collisions.append(Collision(found.kind, view.charter.identity.name, found.id, rows, matches))
