"""The facet *permission*: scopes of APIs that a client uses. Wanted, requested and consented are three states."""

from __future__ import annotations

from sigillum.core.charter.charter import WAYS, PermissionWant
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.provides import Bearer, Ready, Requested
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import Where, await_, hanging, principal, stand, unknown
from sigillum.core.kinds.access import API, CONSENT, PLACE, Consent
from sigillum.core.kinds.changes import End, Make
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.records.history import Generation, State
from sigillum.core.records.steps import Step, StepKind
from sigillum.core.values.marks import Mark, StepId
from sigillum.core.values.text import did_you_mean

NAME = "permission"


def mark_of(seen: Seen, api: str, scope: str, acts: str) -> Mark:
    return seen.mark(NAME, ("api", api), ("scope", scope), ("acts", acts))


def compare(seen: Seen, draft: Draft) -> None:
    """Ask for what is missing, and end our own consents that are wanted no more."""
    who = principal(seen, draft)
    if not seen.charter.is_client:
        return
    fact = hanging(seen, CONSENT, who.id if who is not None else None)
    possible = [want for want in seen.charter.permissions if _possible(seen, draft, want)]
    if not fact.known:
        if seen.charter.permissions:
            unknown(seen, draft, fact, f"the consents of {seen.charter.identity.name}")
        return
    for want in possible:
        _one(seen, draft, want, fact.records)
    _not_wanted(seen, draft, fact.records)


def _possible(seen: Seen, draft: Draft, want: PermissionWant) -> bool:
    """Does the tenant have it, in this way and this narrow? Adds the mistakes where it does not."""
    tenant, fact = seen.tenant, seen.ask(Query(API, "name", want.api))
    places = {path: seen.ask(Query(PLACE, "path", path)) for path in want.only}
    if not fact.known:
        unknown(seen, draft, fact, f"the API {want.api}")
        return False

    def wrong(code: str, what: str, mend: str) -> bool:
        draft.wrong(code, what, mend, want.position)
        return False

    if fact.first is None:
        known = [r.body.name for r in seen.ask(Query(API, "all")).records]
        return wrong(
            "api-unknown", f"{tenant} has no API {want.api!r}", did_you_mean(want.api, known) or f"it has {', '.join(known)}"
        )
    scope = next((s for s in fact.first.body.scopes if s.value == want.scope), None)
    if scope is None:
        known = [s.value for s in fact.first.body.scopes]
        return wrong(
            "scope-unknown",
            f"the API {want.api} has no scope {want.scope!r}",
            did_you_mean(want.scope, known) or f"it has {', '.join(known)}",
        )
    if want.acts not in scope.acts:
        ways = " or ".join(WAYS[a] for a in scope.acts)
        return wrong("acts", f"{want.scope} cannot be used {WAYS[want.acts]}", f"it is used {ways}: `acts: {scope.acts[0]}`")
    if scope.always:
        draft.note(
            "permission-always",
            f"{want.scope} is always there, without asking; it does not suffice for anything "
            "else: name the scopes of what the program really does",
            warning=False,
        )
        return False
    for path, place in places.items():
        if place.known and (place.first is None or place.first.denies(type=scope.narrowed_to)):
            kind = f"a {scope.narrowed_to}" if scope.narrowed_to else "nothing: it cannot be narrowed here"
            return wrong("only", f"{want.scope} cannot be narrowed to {path}", f"it can be narrowed to {kind}")
    if not want.only and scope.narrowed_to:
        draft.note(
            "permission-wide",
            f"{want.words()}: it holds for every {scope.narrowed_to} of {tenant}; `only:` narrows it",
            warning=want.acts == "alone",
        )
    return True


def _one(seen: Seen, draft: Draft, want: PermissionWant, records: tuple[Record[Consent], ...]) -> None:
    mark, who = mark_of(seen, want.api, want.scope, want.acts), principal(seen, draft)
    standing = stand(seen, draft, mark, records, f"consent to {want.words()}", who.id if who is not None else None)
    mine = standing.record
    moved = mine is not None and mine.denies(api=want.api, scope=want.scope, acts=want.acts)
    if mine is not None and not moved and not mine.denies(only=want.only):
        return
    recent = standing.where is Where.RECENT
    if recent and standing.generation is not None and tuple(standing.generation.terms.get("only", ())) == want.only:
        await_(seen, draft, mark, CONSENT, standing, f"the consent to {want.words()}")
        return
    if mine is not None or recent:
        why = "it is a consent to something else there by now" if moved else "it is narrowed to other places in the charter"
        made = _make(seen, draft, want, standing.number + 1, why)
        assert standing.generation is not None
        _end(draft, standing.generation, why if moved else "it is narrowed differently now", made)
        return
    if not _beside(seen, draft, want, records):
        _make(seen, draft, want, standing.number, standing.why("wanted and requested; nothing works before it is consented"))


def _beside(seen: Seen, draft: Draft, want: PermissionWant, records: tuple[Record[Consent], ...]) -> bool:
    """Did somebody else consent to just this? What else of the scope stands is told."""
    beside = [
        r
        for r in records
        if r.says(api=want.api, scope=want.scope) and seen.history.owns(NAME, seen.tenant, r.id, r.mark) is None
    ]
    if any(r.says(acts=want.acts, only=want.only) for r in beside):
        who = next((r.body.by for r in beside if r.body.by), "somebody")
        draft.note(
            "consent-stands",
            f"{want.words()}: wanted, requested and consented; it was consented by {who}, and stays theirs",
            warning=False,
        )
        return True
    for record in beside:
        if record.denies(acts=want.acts):
            draft.note(
                "consent-other-way",
                f"{want.scope} is consented {WAYS.get(record.body.acts, 'otherwise')}; that does not help {WAYS[want.acts]}",
                warning=False,
            )
        else:
            there = "for everything" if not record.body.only else f"only for {', '.join(record.body.only)}"
            wider = bool(want.only) and (not record.body.only or bool(set(record.body.only) - set(want.only)))
            draft.note(
                "consent-extra" if wider else "consent-beside",
                f"{'extra: ' if wider else ''}{want.scope} is consented {there} as well, by somebody else",
            )
    return False


def _make(seen: Seen, draft: Draft, want: PermissionWant, number: int, why: str) -> StepId:
    who = principal(seen, draft)
    assert who is not None
    part = {"principal": who.id, "api": want.api, "scope": want.scope, "acts": want.acts, "only": want.only}
    return draft.add(
        Step(
            StepId(mark_of(seen, want.api, want.scope, want.acts), number, "consent"),
            StepKind.MAKE,
            f"consent to {want.words()}",
            Make(CONSENT, part, {"only": list(want.only)}),
            draft.by(seen.tenant, Bearer, Ready, Requested),
            CONSENT.power,
            why,
        )
    )


def _end(draft: Draft, generation: Generation, why: str, *needs: StepId) -> None:
    draft.add(
        Step(
            StepId(generation.mark, generation.number, "end"),
            StepKind.END,
            f"consent to {about(generation.mark)}",
            End(CONSENT, generation.id),
            needs,
            CONSENT.power,
            why,
        )
    )


def about(mark: Mark) -> str:
    """A scope of an API and the way of acting."""
    return f"{mark.get('api')}:{mark.get('scope')} {mark.get('acts')}"


def _not_wanted(seen: Seen, draft: Draft, records: tuple[Record[Consent], ...]) -> None:
    wanted = {mark_of(seen, w.api, w.scope, w.acts) for w in seen.charter.permissions}
    for record in records:
        generation = seen.history.owns(NAME, seen.tenant, record.id, record.mark)
        mark = mark_of(seen, record.body.api, record.body.scope, record.body.acts)
        if generation is None:
            if mark not in wanted:
                draft.note("consent-extra", f"extra: {about(mark)} is consented, and this charter does not ask for it")
        elif generation.state is State.MADE and generation.mark not in wanted:
            _end(draft, generation, "the charter no longer asks for it")
        elif generation.state is State.MADE and generation.number < (seen.history.latest(generation.mark) or generation).number:
            _end(draft, generation, "a newer one took its place")


def words(mark: Mark) -> str:
    return f"the consent to {about(mark)}"


FACET = Facet(NAME, compare, takes=frozenset((Bearer, Ready, Requested)), words=words)
