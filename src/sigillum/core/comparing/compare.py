"""Comparing a charter with what is known: the steps in dependency order, and what speaks against them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import Any

from sigillum.core.charter.charter import PASSWORD, Charter
from sigillum.core.charter.rules import Rules
from sigillum.core.facets import account, credential, grant, membership, role, service
from sigillum.core.facets.common import View
from sigillum.core.kinds.facts import Query, Snapshot
from sigillum.core.records.history import AWAY, Undertakings
from sigillum.core.records.steps import Change, Create, Draft, Outline, Prove, Ref, Step, StepKind
from sigillum.core.values.canonical import digest
from sigillum.core.values.errors import Mistake

MOST_ROUNDS = 6


def facets_of(view: View) -> tuple[Any, ...]:
    """The facets that concern a charter, in the order in which they are compared; the rarer ones are loaded where they do."""
    charter, known = view.charter, {facet for facet, _ in view.state.generations}
    first: list[Any] = [account]
    middle: list[Any] = [role, service, membership]
    last: list[Any] = [grant, credential]
    if charter.is_client:
        from sigillum.core.facets import client, permission
        first.append(client)
        last.insert(0, permission)
    if charter.licence or "licence" in known:
        from sigillum.core.facets import licence
        middle.append(licence)
    if charter.sign_in is not None or "sign-in" in known or any(c.kind == PASSWORD for c in charter.credentials):
        from sigillum.core.facets import sign_in
        last.append(sign_in)
    return (*first, *middle, *last)


def view_of(charter: Charter, state: Undertakings, snapshot: Snapshot, rules: Rules, uids: tuple[str, str],
            held: Mapping[tuple[str, int], str], *, adopt: bool = False, end_extra: bool = False) -> View:
    """Gather what a comparison in one tenant looks at. `uids` are the workspace's and the charter's."""
    suffix = "" if snapshot.tenant == charter.tenant else AWAY + snapshot.tenant
    return View(charter.part(snapshot.tenant), state.part(suffix), snapshot, rules, uids[0], uids[1], held, adopt, end_extra,
                suffix=suffix, whole=charter)


def needs(view: View) -> list[Query]:
    """The queries still to be answered before `compare` can say anything; asked in rounds until none is left."""
    _find_principal(view)
    asked = [q for facet in facets_of(view) for q in facet.queries(view, view.snapshot)]
    for proof in view.charter.proofs:
        asked.append(Query("place", "path", proof.at))
    return view.snapshot.missing(asked)


def _find_principal(view: View) -> None:
    """Set `view.principal` as far as it is known by now, without keeping what the facet drafted."""
    draft, view.draft = view.draft, Draft()
    if view.snapshot.facts:
        account.compare(view)
        if view.charter.is_client:
            from sigillum.core.facets import client
            client.compare(view)
    view.draft, view.ready_step, view.requested_step = draft, "", ""


def proofs_digest(charter: Charter) -> str:
    """Changes when the proofs do."""
    return digest([p.words() for p in charter.proofs])


def compare(view: View) -> Outline:
    """Compare a charter with what is known, in its home tenant first. Unknown never yields `make`."""
    charter, steps = view.whole or view.charter, list[Step]()
    for part in (view, *view.guests):
        part.draft, part.ready_step, part.services, part.requested_step = Draft(), "", [], ""
        for text in part.snapshot.profile.warnings:
            part.draft.note("facts-old", text)
        for facet in facets_of(part):
            facet.compare(part)
        role.end_unwanted(part)
        steps += part.draft.steps if part is view else _away(part)
    changes = [s for s in steps if s.kind is not StepKind.WAIT]
    stale = view.state.proved_at < view.state.changed_at or view.state.proofs_digest != proofs_digest(charter) \
        or not view.state.proofs_held
    if charter.proofs and view.state.ledger and (changes or stale):
        steps.append(Step(
            "prove", StepKind.PROVE, view.snapshot.tenant, "proof", "all",
            f"{len(charter.proofs)} expectation{'s' if len(charter.proofs) != 1 else ''}, both ways",
            Prove(len(charter.proofs)), needs=(),
            why="nothing is proven before a probe proved it"))
    for part in (view, *view.guests):
        _stopped(part)
    drafts = [part.draft for part in (view, *view.guests)]
    return Outline(charter.name, tuple(ordered(steps)), tuple(dict.fromkeys(n for d in drafts for n in d.notes)),
                   tuple(m for d in drafts for m in d.mistakes), tuple(c for d in drafts for c in d.collisions))


def _stopped(view: View) -> None:
    """What stops everything is told first: a precondition of the tenant that is not met, for something that would be made."""
    making = {s.action.thing for s in view.draft.steps if isinstance(s.action, Create)}
    unmet = [p for p in view.snapshot.profile.preconditions if not p.met and (making & set(p.kinds) if p.kinds else making)]
    view.draft.mistakes[:0] = [Mistake(
        "precondition", f"{view.snapshot.tenant} asks for {p.what.replace('-', ' ')} first, and that is not so",
        p.about or "have it done by somebody who may, then run this again", view.charter.identity.position) for p in unmet]


def _away(view: View) -> Iterator[Step]:
    """The steps of another tenant than home, under names that differ from those at home."""
    ids = {s.id: f"{s.id} ({view.snapshot.tenant})" for s in view.draft.steps}

    def moved(value: Any) -> Any:
        return value._replace(step=ids.get(value.step, value.step)) if isinstance(value, Ref) else value
    for step in view.draft.steps:
        action: Any = step.action
        if isinstance(action, (Create, Change)):
            action = action._replace(fields={n: moved(v) for n, v in action.fields.items()})
        if not isinstance(action, Prove):
            action = action._replace(**{n: moved(getattr(action, n)) for n in action._fields if n in ("id", "value")})
        yield replace(step, id=ids[step.id], name=step.name + view.suffix, action=action,
                      needs=tuple(ids.get(n, n) for n in step.needs), about=f"{step.about}, in {view.snapshot.tenant}")


def ordered(steps: Iterable[Step]) -> list[Step]:
    """Steps so that each stands after what it needs; otherwise in the order given. Raises ValueError for a circle."""
    left, done, out = list(steps), set[str](), list[Step]()
    known = {s.id for s in left}
    while left:
        step = next((s for s in left if all(n in done or n not in known for n in s.needs)), None)
        if step is None:
            raise ValueError("steps need each other in a circle")
        left.remove(step)
        done.add(step.id)
        out.append(step)
    return out
