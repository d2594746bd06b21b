"""The facet *client*: an OAuth client registration, and the service principal that it is in its home tenant.

Two things with three identifiers: the registration's own id, the client id (what it presents), and the principal id
(to which roles are granted and permissions consented). They are kept apart here by their names.
"""

from __future__ import annotations

from typing import Any

from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.provides import Bearer, ItsPrincipal, Presented, Ready, Requested
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import (
    Standing,
    Where,
    adopt,
    after,
    again,
    await_,
    dark,
    so_says,
    stand,
    stopped,
    suspended,
    unknown,
)
from sigillum.core.kinds.access import API
from sigillum.core.kinds.changes import Change, Make
from sigillum.core.kinds.identities import CLIENT, PRINCIPAL
from sigillum.core.kinds.identities import Client as ClientBody
from sigillum.core.kinds.identities import Principal as PrincipalBody
from sigillum.core.kinds.kind import Fact, Kind, Query, Record, compared, suits
from sigillum.core.records.steps import Adopt, Collision, Step, StepKind, Usual
from sigillum.core.values.marks import Id, Mark, Ref, StepId

NAME = "client"


def _mark(seen: Seen, part: str) -> Mark:
    return seen.mark(NAME, ("part", part))


def _registration(seen: Seen) -> Mark:
    return _mark(seen, "registration")


def wanted(seen: Seen) -> dict[str, Any]:
    """The registration's attributes. What is always there need not be requested."""
    identity = seen.charter.identity
    asked = tuple(sorted((p.api, p.scope, p.acts) for p in seen.charter.permissions if not always(seen, p.api, p.scope)))
    about = seen.charter.about() if seen.carried(CLIENT) is not None else {}
    return {"name": identity.name, "redirects": identity.redirects, "requests": asked, **about}


def always(seen: Seen, api: str, scope: str) -> bool:
    """Does every client have this scope without asking?"""
    found = seen.ask(Query(API, "name", api)).first
    return found is not None and any(s.value == scope and s.always for s in found.body.scopes)


def compare(seen: Seen, draft: Draft) -> None:
    """Make, change or leave both: the registration, and what it is in this tenant."""
    if not seen.charter.is_client:
        return
    want, mark = wanted(seen), _registration(seen)
    named, own = seen.ask(Query(CLIENT, "name", seen.charter.identity.name)), _own(seen, mark, CLIENT)
    principals = _own(seen, _mark(seen, "principal"), PRINCIPAL).records if seen.carried(PRINCIPAL) is not None else ()
    if not named.known or not own.known:  # of what is ours, too, unknown is not gone
        unknown(seen, draft, own if named.known else named, f"the client {seen.charter.identity.name}")
        return
    words = f"client {seen.charter.identity.name}"
    standing = stand(seen, draft, mark, (*named.records, *own.records), words)
    if standing.record is not None:
        _registered(seen, draft, want, standing.record, standing.number)
    elif standing.where is Where.RECENT and standing.generation is not None:
        waited = await_(seen, draft, mark, CLIENT, standing, f"the {words}")
        _provide(seen, draft, standing.generation.id, Ref(waited, "client_id"))
    elif named.first is not None:
        _taken(seen, draft, want, named.first, standing)
    else:
        _register(seen, draft, want, standing)
    presented = draft.one(Presented, seen.tenant)
    if presented is not None:
        _as_principal(seen, draft, presented.client_id, principals)


def _own(seen: Seen, mark: Mark, kind: Kind[Any]) -> Fact[Any]:
    """What we made of it, by its id or by the mark of what was begun."""
    generation = seen.history.latest(mark)
    if generation is None or not generation.live:
        return Fact()
    return seen.ask(Query(kind, "id", generation.id) if generation.id else Query(kind, "mark", generation.external_id))


def _provide(seen: Seen, draft: Draft, identity: Id, client_id: Id) -> None:
    draft.provide(Bearer(seen.tenant, identity, CLIENT, seen.carried(CLIENT) is None), *after(identity))
    draft.provide(Presented(seen.tenant, client_id, seen.profile.issuer), *after(client_id))


def _register(seen: Seen, draft: Draft, want: dict[str, Any], standing: Standing) -> None:
    identity, number = seen.charter.identity, standing.number
    if standing.where is Where.GONE:
        draft.note("gone", f"the client {identity.name} was registered once and is no longer there; it is made anew")
    part = {**want, "audience": identity.audience, "confidential": identity.confidential}
    where = "usable in this tenant only" if identity.audience == "tenant" else "usable in any tenant"
    made = draft.add(
        Step(
            StepId(_registration(seen), number, "make"),
            StepKind.MAKE,
            f"client registration {identity.name}, {where}",
            Make(CLIENT, part),
            power=CLIENT.power,
            why=standing.why(seen.charter.purpose),
            after={**part, "requests": _requests(part["requests"])},
        )
    )
    draft.provide(Requested(seen.tenant), made)
    _provide(seen, draft, Ref(made, "id"), Ref(made, "client_id"))


def _requests(asked: tuple[tuple[str, str, str], ...]) -> tuple[str, ...]:
    return tuple(f"{scope} of {api}, {acts}" for api, scope, acts in asked)


def _registered(
    seen: Seen, draft: Draft, want: dict[str, Any], record: Record[ClientBody], number: int, *needs: StepId
) -> None:
    _provide(seen, draft, record.id, record.body.client_id)
    held = compared(record, want, seen.carried(CLIENT))
    differences, silent = held.different, again(seen, held, want, seen.history.latest(_registration(seen)))
    dark(seen, draft, held, f"the client {seen.charter.identity.name}")
    if not differences and not silent:
        return
    part = {**{name: new for name, (_, new) in differences.items()}, **silent}
    shown = {n: _requests(v) if n == "requests" else v for n, v in part.items()}
    before = {n: _requests(v or ()) if n == "requests" else v for n, (v, _) in differences.items()}
    draft.provide(
        Requested(seen.tenant),
        draft.add(
            Step(
                StepId(_registration(seen), number, "change"),
                StepKind.CHANGE,
                f"client registration {seen.charter.identity.name}",
                Change(CLIENT, record.id, part, record.version),
                needs,
                CLIENT.power,
                so_says(silent),
                before,
                shown,
            )
        ),
    )


def _taken(seen: Seen, draft: Draft, want: dict[str, Any], record: Record[ClientBody], standing: Standing) -> None:
    """A client of that name stands there and Sigillum did not register it."""
    matches = suits(record, want, seen.carried(CLIENT))
    if not seen.history.ledger and matches:
        _provide(seen, draft, record.id, record.body.client_id)
    elif seen.choices.adopt:
        number = standing.number if standing.where is not Where.OPEN else standing.number + 1
        step = adopt(draft, _registration(seen), number, f"the client {seen.charter.identity.name}", Adopt(CLIENT, record.id))
        _registered(seen, draft, want, record, number, step)
    else:
        _provide(seen, draft, record.id, record.body.client_id)
        rows = tuple((name, value, record.value(name)) for name, value in want.items())
        draft.collide(Collision(CLIENT, seen.charter.identity.name, record.id, rows, matches))


def _as_principal(seen: Seen, draft: Draft, client_id: Id, own: tuple[Record[PrincipalBody], ...]) -> None:
    """Its service principal: what it is in this tenant. Where there are none, the client acts as itself."""
    if seen.carried(PRINCIPAL) is None:
        _acts_as(seen, draft, client_id)
        return
    name, mark, registered = seen.charter.identity.name, _mark(seen, "principal"), draft.one(Bearer, seen.tenant)
    known = seen.ask(Query(PRINCIPAL, "client_id", client_id)) if isinstance(client_id, str) else Fact[PrincipalBody]()
    standing = stand(seen, draft, mark, (*known.records, *own), f"service principal of {name}")
    if registered is not None and isinstance(registered.id, Ref) and standing.where in (Where.PRESENT, Where.RECENT):
        standing = standing._replace(where=Where.GONE, record=None)  # it went with the registration before
    there = standing.record or (known.first if standing.where is not Where.OPEN else None)
    if there is not None:  # made by us, by the tenant itself, or by somebody
        words = f"service principal of {name}"
        held = suspended(seen, draft, mark, there, standing.generation, words)
        off = stopped(seen, draft, mark, there, standing.generation, words) if held is None else held
        _acts_as(seen, draft, there.id, *off)
    elif standing.where is Where.RECENT and standing.generation is not None:
        waited = await_(seen, draft, mark, PRINCIPAL, standing, f"the service principal of {name}")
        _acts_as(seen, draft, standing.generation.id, waited)
    elif not known.known:
        unknown(seen, draft, known, f"the service principal of {name}")
    else:
        _acts_as(
            seen,
            draft,
            Ref(
                draft.add(
                    Step(
                        StepId(mark, standing.number, "make"),
                        StepKind.MAKE,
                        f"service principal of {name}: what it is in this tenant",
                        Make(PRINCIPAL, {"client_id": client_id, "display": seen.charter.identity.display, "active": True}),
                        after(client_id),
                        PRINCIPAL.power,
                        standing.why(Usual.PRINCIPAL),
                    )
                ),
                "id",
            ),
        )


def _acts_as(seen: Seen, draft: Draft, identity: Id, *ready: StepId) -> None:
    draft.provide(ItsPrincipal(seen.tenant, identity, PRINCIPAL), *after(identity))
    draft.provide(Ready(seen.tenant), *after(identity), *ready)


def words(mark: Mark) -> str:
    return f"the client's {mark.get('part')}"


FACET = Facet(NAME, compare, frozenset((ItsPrincipal, Ready, Bearer, Presented, Requested)), words=words)
