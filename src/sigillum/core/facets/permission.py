"""The facet *permission*: scopes of APIs that a client uses. Wanted, requested and consented are three states."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from sigillum.core.charter.charter import WAYS, PermissionWant
from sigillum.core.kinds.facts import Query, Snapshot, Thing
from sigillum.core.records.history import Generation
from sigillum.core.records.steps import Create, End, Step, StepKind
from sigillum.core.values.errors import Mistake
from sigillum.core.values.text import did_you_mean

from .common import View, await_step, existing, stand, unknown

NAME, THING, POWER = "permission", "consent", "consents"


def queries(view: View, snapshot: Snapshot) -> Iterator[Query]:
    """The places that scopes are narrowed to; all consents, once the principal is known; every API for a near miss."""
    if not view.charter.is_client:
        return
    for want in view.charter.permissions:
        for path in want.only:
            yield Query("place", "path", path)
        fact = snapshot.fact("api", "name", want.api)
        if fact.known and fact.first is None:
            yield Query("api", "all", "")
    if isinstance(view.principal, str):
        yield Query(THING, "principal", view.principal)


def scope_of(view: View, want: PermissionWant) -> dict[str, Any] | None:
    """The scope as its API describes it."""
    found = view.snapshot.fact("api", "name", want.api).first
    return next((dict(s) for s in found.get("scopes") if s["value"] == want.scope), None) if found is not None else None


def compare(view: View) -> None:
    """Ask for what is missing, and end our own consents that are wanted no more."""
    if not view.charter.is_client:
        return
    fact = existing(view, THING)
    if not fact.known:
        if view.charter.permissions:
            unknown(view, fact, f"the consents of {view.charter.identity.name}")
        return
    for want in view.charter.permissions:
        if _possible(view, want):
            _one(view, want, fact.things)
    _not_wanted(view, fact.things)


def _possible(view: View, want: PermissionWant) -> bool:
    """Does the tenant have it, in this way and this narrow? Adds the mistakes where it does not."""
    tenant, fact = view.snapshot.tenant, view.snapshot.fact("api", "name", want.api)
    if not fact.known:
        unknown(view, fact, f"the API {want.api}")
        return False
    scope = scope_of(view, want)

    def wrong(code: str, what: str, mend: str) -> bool:
        view.draft.mistakes.append(Mistake(code, what, mend, want.position))
        return False
    if fact.first is None:
        known = [str(t.get("name")) for t in view.snapshot.fact("api", "all", "").things]
        return wrong("api-unknown", f"{tenant} has no API {want.api!r}", did_you_mean(want.api, known) or
                     f"it has {', '.join(known)}")
    if scope is None:
        known = [s["value"] for s in fact.first.get("scopes")]
        return wrong("scope-unknown", f"the API {want.api} has no scope {want.scope!r}", did_you_mean(want.scope, known) or
                     f"it has {', '.join(known)}")
    if want.acts not in scope["acts"]:
        ways = " or ".join(WAYS[a] for a in scope["acts"])
        return wrong("acts", f"{want.scope} cannot be used {WAYS[want.acts]}", f"it is used {ways}: `acts: {scope['acts'][0]}`")
    if scope["always"]:
        view.draft.note("permission-always", f"{want.scope} is always there, without asking; it does not suffice for anything "
                        "else: name the scopes of what the program really does", warning=False)
        return False
    for path in want.only:
        place = view.snapshot.fact("place", "path", path)
        if place.known and (place.first is None or place.first.get("kind") != scope["narrowed_to"]):
            kind = f"a {scope['narrowed_to']}" if scope["narrowed_to"] else "nothing: it cannot be narrowed here"
            return wrong("only", f"{want.scope} cannot be narrowed to {path}", f"it can be narrowed to {kind}")
    if not want.only and scope["narrowed_to"]:
        view.draft.note("permission-wide", f"{want.words()}: it holds for every {scope['narrowed_to']} of {tenant}; `only:` "
                        "narrows it", warning=want.acts == "alone")
    return True


def _one(view: View, want: PermissionWant, things: tuple[Thing, ...]) -> None:
    standing = stand(view, NAME, want.key, things)
    mine = standing.thing
    if mine is not None and _only(mine) == want.only:
        return
    if standing.state == "recent" and standing.generation is not None and tuple(
            standing.generation.terms.get("only", ())) == want.only:
        view.add(await_step(view, NAME, want.key, THING, standing, f"the consent to {want.words()}"))
        return
    if mine is not None or standing.state == "recent":
        made = _make(view, want, standing.number + 1, "it is narrowed to other places in the charter")
        assert standing.generation is not None
        _end(view, want.key, standing.generation, "it is narrowed differently now", (made,))
        return
    beside = [t for t in things if t.get("api") == want.api and t.get("scope") == want.scope
              and view.state.owns(NAME, t.id, t.external_id) is None]
    if any(t.get("acts") == want.acts and _only(t) == want.only for t in beside):
        who = next((str(t.get("by")) for t in beside if t.get("by")), "somebody")
        view.draft.note("consent-stands", f"{want.words()}: wanted, requested and consented; it was consented by {who}, "
                        "and stays theirs", warning=False)
        return
    for thing in beside:
        if thing.get("acts") != want.acts:
            view.draft.note("consent-other-way", f"{want.scope} is consented {WAYS.get(str(thing.get('acts')), 'otherwise')}; "
                            f"that does not help {WAYS[want.acts]}", warning=False)
        else:
            wide = "for everything" if not _only(thing) else f"only for {', '.join(_only(thing))}"
            view.draft.note("consent-beside", f"{want.scope} is consented {wide} as well, by somebody else")
    _make(view, want, standing.number, standing.why("wanted and requested; nothing works before it is consented"))


def _only(thing: Thing) -> tuple[str, ...]:
    return tuple(sorted(thing.get("only") or ()))


def _make(view: View, want: PermissionWant, number: int, why: str) -> str:
    fields = {"principal": view.principal, "api": want.api, "scope": want.scope, "acts": want.acts, "only": want.only}
    requested = (view.requested_step,) if view.requested_step else ()
    return view.add(Step(
        f"consent-{want.key}", StepKind.MAKE, view.snapshot.tenant, NAME, want.key, f"consent to {want.words()}",
        Create(THING, view.external_id(NAME, want.key, number), fields, {"only": list(want.only)}), number,
        needs=(*view.step_of(view.client), *view.principal_step, *requested), power=POWER, why=why))


def _end(view: View, key: str, generation: Generation, why: str, needs: tuple[str, ...] = ()) -> None:
    view.add(Step(f"end-consent-{generation.id}", StepKind.END, view.snapshot.tenant, NAME, key, f"consent to {key}",
                  End(THING, generation.id), generation.number, needs=needs, power=POWER, why=why))


def _not_wanted(view: View, things: tuple[Thing, ...]) -> None:
    wanted = {w.key for w in view.charter.permissions}
    for thing in things:
        generation = view.state.owns(NAME, thing.id, thing.external_id)
        key = f"{thing.get('api')}:{thing.get('scope')} {thing.get('acts')}"
        if generation is None:
            if key not in wanted:
                view.draft.note("consent-extra", f"extra: {key} is consented, and this charter does not ask for it")
        elif generation.state == "made" and generation.name not in wanted:
            _end(view, generation.name, generation, "the charter no longer asks for it")
        elif generation.state == "made" and generation.number < (view.state.latest(NAME, generation.name) or generation).number:
            _end(view, generation.name, generation, "a newer one took its place")
