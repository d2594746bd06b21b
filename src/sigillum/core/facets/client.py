"""The facet *client*: an OAuth client registration, and the service principal that it is in its home tenant.

Two things with three identifiers: the registration's own id, the client id (what it presents), and the principal id
(to which roles are granted and permissions consented). They are kept apart here by their names.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from sigillum.core.kinds.facts import Query, Snapshot, Thing
from sigillum.core.records.steps import Adopt, Change, Collision, Create, Ref, Step, StepKind

from .common import Standing, View, await_step, differing, stand, unknown

NAME, POWER = "client", "clients"
REGISTRATION, PRINCIPAL = "registration", "principal"


def queries(view: View, snapshot: Snapshot) -> Iterator[Query]:
    """The registration by name, and our own by id; then its service principal; the APIs that it asks for."""
    if not view.charter.is_client:
        return
    yield Query(NAME, "name", view.charter.identity.name)
    there = PRINCIPAL in snapshot.profile.kinds
    for name, kind in ((REGISTRATION, NAME), *(((PRINCIPAL, PRINCIPAL),) if there else ())):
        generation = view.state.latest(NAME, name)
        if generation is not None and generation.state not in ("ended", "spent"):
            yield Query(kind, "id", generation.id) if generation.id else Query(kind, "external_id", generation.external_id)
    if isinstance(view.client_id, str) and there:
        yield Query(PRINCIPAL, "client_id", view.client_id)
    for want in view.charter.permissions:
        yield Query("api", "name", want.api)


def wanted(view: View) -> dict[str, Any]:
    """The registration's attributes. What is always there need not be requested."""
    identity = view.charter.identity
    asked = tuple(sorted((p.api, p.scope, p.acts) for p in view.charter.permissions if not always(view, p.api, p.scope)))
    about = view.charter.about() if NAME in view.snapshot.profile.kinds else {}
    return {"name": identity.name, "redirects": identity.redirects, "requests": asked, **about}


def always(view: View, api: str, scope: str) -> bool:
    """Does every client have this scope without asking?"""
    found = view.snapshot.fact("api", "name", api).first
    return found is not None and any(s["value"] == scope and s["always"] for s in found.get("scopes"))


def compare(view: View) -> None:
    """Make, change or leave both; sets `view.client`, `view.client_id` and `view.principal`."""
    if not view.charter.is_client:
        return
    named = view.snapshot.fact(NAME, "name", view.charter.identity.name)
    if not named.known:
        unknown(view, named, f"the client {view.charter.identity.name}")
        return
    standing = stand(view, NAME, REGISTRATION, _things(view, NAME))
    if standing.thing is not None:
        _registered(view, standing.thing, standing.number)
    elif standing.state == "recent" and standing.generation is not None:
        waited = view.add(await_step(view, NAME, REGISTRATION, NAME, standing, f"the client {view.charter.identity.name}"))
        view.client, view.client_id = standing.generation.id, Ref(waited, "client_id")
    elif named.first is not None:
        _taken(view, named.first, standing)
    else:
        _register(view, standing)
    if view.client is not None:
        _as_principal(view)


def _things(view: View, kind: str) -> list[Thing]:
    return [t for q, f in view.snapshot.facts.items() if q.kind == kind for t in f.things]


def _register(view: View, standing: Standing) -> None:
    identity, number = view.charter.identity, standing.number
    if standing.state == "gone":
        view.draft.note("gone", f"the client {identity.name} was registered once and is no longer there; it is made anew")
    fields = {**wanted(view), "audience": identity.audience, "confidential": identity.confidential}
    where = "usable in this tenant only" if identity.audience == "tenant" else "usable in any tenant"
    made = view.add(Step(
        "make-client", StepKind.MAKE, view.snapshot.tenant, NAME, REGISTRATION,
        f"client registration {identity.name}, {where}",
        Create(NAME, view.external_id(NAME, REGISTRATION, number), fields), number, power=POWER,
        why=standing.why(view.charter.purpose), after={**fields, "requests": _requests(fields["requests"])}))
    view.client, view.client_id = Ref(made, "id"), Ref(made, "client_id")


def _requests(asked: tuple[tuple[str, str, str], ...]) -> tuple[str, ...]:
    return tuple(f"{scope} of {api}, {acts}" for api, scope, acts in asked)


def _registered(view: View, found: Thing, number: int, needs: tuple[str, ...] = ()) -> None:
    view.client, view.client_id = found.id, str(found.get("client_id"))
    differences = differing(wanted(view), found)
    if not differences:
        return
    after = {name: new for name, (_, new) in differences.items()}
    shown = {n: _requests(v) if n == "requests" else v for n, v in after.items()}
    before = {n: _requests(v or ()) if n == "requests" else v for n, (v, _) in differences.items()}
    view.requested_step = view.add(Step(
        "change-client", StepKind.CHANGE, view.snapshot.tenant, NAME, REGISTRATION,
        f"client registration {view.charter.identity.name}", Change(NAME, found.id, after, found.version), number,
        needs=needs, power=POWER, why="the charter says so", before=before, after=shown))


def _taken(view: View, found: Thing, standing: Standing) -> None:
    """A client of that name stands there and Sigillum did not register it."""
    want = wanted(view)
    matches = not differing(want, found)
    view.client, view.client_id = found.id, str(found.get("client_id"))
    if not view.state.ledger and matches:
        return
    if view.adopt:
        number = standing.number if standing.state != "open" else standing.number + 1
        step = view.add(Step(
            "adopt-client", StepKind.KEEP, view.snapshot.tenant, NAME, REGISTRATION,
            f"in the ledger that the client {view.charter.identity.name} is ours from now on", Adopt(NAME, found.id),
            number, why="--adopt was given"))
        _registered(view, found, number, (step,))
        return
    rows = tuple((name, value, found.get(name)) for name, value in want.items())
    view.draft.collisions.append(Collision(NAME, view.charter.identity.name, found.id, rows, matches))


def _as_principal(view: View) -> None:
    """Its service principal: what it is in this tenant. Where there are none, the client acts as itself."""
    if PRINCIPAL not in view.snapshot.profile.kinds:
        view.principal = view.client_id
        return
    name = view.charter.identity.name
    standing = stand(view, NAME, PRINCIPAL, _things(view, PRINCIPAL))
    if isinstance(view.client, Ref) and standing.state in ("present", "recent"):
        standing = standing._replace(state="gone", thing=None)  # it went with the registration before
    known = next((t for t in _things(view, PRINCIPAL) if t.get("client_id") == view.client_id), None)
    if standing.thing is not None:
        view.principal = standing.thing.id
    elif known is not None and standing.state != "open":  # the tenant made it by itself, or somebody did
        view.principal = known.id
    elif standing.state == "recent" and standing.generation is not None:
        view.principal = standing.generation.id
        view.ready_step = view.add(await_step(view, NAME, PRINCIPAL, PRINCIPAL, standing, f"the service principal of {name}"))
    else:
        view.principal = Ref(view.add(Step(
            "make-principal", StepKind.MAKE, view.snapshot.tenant, NAME, PRINCIPAL,
            f"service principal of {name}: what it is in this tenant",
            Create(PRINCIPAL, view.external_id(NAME, PRINCIPAL, standing.number), {
                "client_id": view.client_id, "display": view.charter.identity.display, "active": True}),
            standing.number, needs=(view.client_id.step,) if isinstance(view.client_id, Ref) else (), power=POWER,
            why=standing.why("roles and consents go to the principal, never to the client"))), "id")
