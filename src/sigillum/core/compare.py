"""Comparing a charter with what is known: the steps in dependency order, and what speaks against them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from .canonical import digest
from .charter import Charter
from .facets import account, credential, grant, membership, role, service
from .facets.common import View
from .facts import Query, Snapshot
from .rules import Rules
from .steps import Draft, Outline, Prove, Step, StepKind
from .undertakings import Undertakings

FACETS = (account, role, service, membership, grant, credential)
MOST_ROUNDS = 6


def view_of(charter: Charter, state: Undertakings, snapshot: Snapshot, rules: Rules, uids: tuple[str, str],
            held: Mapping[tuple[str, int], str], *, adopt: bool = False, end_extra: bool = False) -> View:
    """Gather what a comparison looks at. `uids` are the workspace's and the charter's."""
    return View(charter, state, snapshot, rules, uids[0], uids[1], held, adopt, end_extra)


def needs(view: View) -> list[Query]:
    """The queries still to be answered before `compare` can say anything; asked in rounds until none is left."""
    _find_principal(view)
    asked = [q for facet in FACETS for q in facet.queries(view, view.snapshot)]
    for proof in view.charter.proofs:
        asked.append(Query("place", "path", proof.at))
    return view.snapshot.missing(asked)


def _find_principal(view: View) -> None:
    """Set `view.principal` as far as it is known by now, without keeping what the facet drafted."""
    draft, view.draft = view.draft, Draft()
    if view.snapshot.facts:
        account.compare(view)
    view.draft, view.ready_step = draft, ""


def proofs_digest(charter: Charter) -> str:
    """Changes when the proofs do."""
    return digest([p.words() for p in charter.proofs])


def compare(view: View) -> Outline:
    """Compare a charter with what is known. Unknown never yields `make`."""
    view.draft, view.ready_step, view.services = Draft(), "", []
    for facet in FACETS:
        facet.compare(view)
    role.end_unwanted(view)
    steps = list(view.draft.steps)
    changes = [s for s in steps if s.kind is not StepKind.WAIT]
    stale = view.state.proved_at < view.state.changed_at or view.state.proofs_digest != proofs_digest(view.charter) \
        or not view.state.proofs_held
    if view.charter.proofs and view.state.ledger and (changes or stale):
        steps.append(Step(
            "prove", StepKind.PROVE, view.snapshot.tenant, "proof", "all",
            f"{len(view.charter.proofs)} expectation{'s' if len(view.charter.proofs) != 1 else ''}, both ways",
            Prove(len(view.charter.proofs)), needs=(),
            why="nothing is proven before a probe proved it"))
    _powers(view, steps)
    return Outline(view.charter.name, tuple(ordered(steps)), tuple(dict.fromkeys(view.draft.notes)),
                   tuple(view.draft.mistakes), tuple(view.draft.collisions))


def _powers(view: View, steps: Iterable[Step]) -> None:
    """Warn of the powers that the acting administrator lacks."""
    have = view.snapshot.profile.powers
    if have is None:
        return
    for power in dict.fromkeys(s.power for s in steps if s.power and s.power not in have):
        who = view.snapshot.profile.administrator or "this administrator"
        view.draft.note("power-lacking", f"{who} lacks the power `{power}` at {view.snapshot.tenant}; "
                        "the tenant will refuse the steps that take it")


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
