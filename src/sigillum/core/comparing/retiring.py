"""Retiring: the outline that ends all that a charter made, in the right order, and what it leaves alone."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from typing import NamedTuple

from sigillum.core.charter.charter import CLIENT as CLIENT_KIND
from sigillum.core.charter.charter import TEAM as TEAM_KIND
from sigillum.core.charter.charter import Charter, Identity
from sigillum.core.facets.registry import words
from sigillum.core.kinds.changes import Change, End, Entry
from sigillum.core.kinds.identities import ACCOUNT, CLIENT, PRINCIPAL, TEAM
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.registry import KINDS
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.kinds.snapshot import Snapshot
from sigillum.core.records.history import AttemptOutcome, Generation, History, State
from sigillum.core.records.steps import HIDDEN, Ask, Outline, Step, StepKind
from sigillum.core.values.marks import Mark, StepId

from .compare import Comparison, by_its_maker, compare, ordered

IDENTITIES = {k.name: k for k in (PRINCIPAL, ACCOUNT, TEAM, CLIENT)}  # in the order in which they end


class Retiring(NamedTuple):
    """`outline`: the endings, the identity's last. `given_back`: what was adopted, and stays. `stays`: what else of it is left
    as it is. `stopped`: what somebody else switched off, which may be evidence.
    """

    outline: Outline
    given_back: tuple[Generation, ...] = ()
    stays: tuple[Generation, ...] = ()
    stopped: tuple[str, ...] = ()


def emptied(charter: Charter) -> Charter:
    """The same identity, asking for nothing."""
    return replace(
        charter,
        services=(),
        roles=(),
        member_of=(),
        members=(),
        grants=(),
        permissions=(),
        credentials=(),
        trusts=(),
        workload=None,
        signing=None,
        proofs=(),
        sign_ins=(),
        delegated=(),
        delegation=None,
        asked=(),
        sign_in=None,
        licence="",
        handover=None,
        like="",
        more={},
    )


def from_ledger(name: str, history: History, named: str = "") -> Charter:
    """What a charter was whose file is gone, as far as that is needed to end what it made. `named`: its identity's name."""
    made = [all_[-1] for all_ in history.generations.values() if all_[-1].kind in IDENTITIES and not all_[-1].value]
    kinds = {g.kind for g in made}
    kind = CLIENT_KIND if CLIENT.name in kinds else TEAM_KIND if TEAM.name in kinds else "service-account"
    home = made[0].mark.tenant if made else next((m.tenant for m in history.generations), "")
    return Charter(name, home, "", "", "", Identity(kind, named or name, named or name))


def retire(comparison: Comparison, *, adopted: bool = False) -> Retiring:
    """What ends, if nothing more is asked for; with `adopted` also what was taken over. Misses are noted as by `compare`."""
    history = replace(comparison.history, turns={})  # what is being rotated ends, both halves
    found = compare(replace(comparison, charter=emptied(comparison.charter), history=history))
    mine = [g for all_ in history.generations.values() for g in all_ if g.live]
    back = tuple(g for g in mine if g.adopted and not g.made_by and not adopted)
    left = {(g.mark, g.number) for g in back}
    kept = [
        replace(s, why="", about=f"{s.about}{which(history, s.mark, s.generation)}")
        for s in found.steps
        if _ends(s) and (s.mark, s.generation) not in left
    ]
    steps = tuple(ordered([*kept, *_identities(comparison, mine, left, kept)]))
    ending = {(s.mark, s.generation) for s in steps}
    stays = tuple(g for g in mine if (g.mark, g.number) not in ending and g not in back and g.state is State.MADE)
    asked = [s.about for s in found.steps if isinstance(s.action, Ask) and s.action.stopped]
    asked += [
        f"about {words(g.mark)}, which somebody else switched off"
        for g in mine
        if g.kind == CREDENTIAL.name
        and (g.mark, g.number) in ending
        and _stopped(comparison.snapshots.get(g.mark.tenant), g, history)
    ]
    notes = tuple(n for n in found.notes if n.code == HIDDEN)
    return Retiring(replace(found, steps=steps, mistakes=(), open=(), collisions=(), notes=notes), back, stays, tuple(asked))


def which(history: History, mark: Mark, number: int) -> str:
    """Which generation is meant, where several were made."""
    return f" (generation {number})" if len(history.generations.get(mark, ())) > 1 else ""


def _ends(step: Step) -> bool:
    """Does it take something away, or put something back?"""
    action = step.action.action if isinstance(step.action, Ask) else step.action
    return (
        isinstance(action, End)
        or (isinstance(action, Entry) and action.out)
        or (isinstance(action, Change) and action.result == AttemptOutcome.ENDED)
    )


def _stopped(snapshot: Snapshot | None, made: Generation, history: History) -> bool:
    """Is a credential off that we had switched on, and did not suspend? Facts that are missing are noted, as always."""
    if snapshot is None or not made.on_at or made.mark in history.holds or not made.id:
        return False
    record = snapshot.ask(Query(CREDENTIAL, "id", made.id)).first
    return record is not None and record.says(active=False) and made.off_in < made.on_in


def _identities(
    comparison: Comparison, mine: Iterable[Generation], left: set[tuple[Mark, int]], kept: list[Step]
) -> Iterator[Step]:
    """The identity itself, when all that hangs on it has ended: in the other tenants first, at home as the last."""
    charter = comparison.charter
    order, needs = list(IDENTITIES), tuple(s.id for s in kept)
    done = left | {(s.mark, s.generation) for s in kept}
    all_ = [g for g in mine if g.kind in IDENTITIES and g.id and not g.value and (g.mark, g.number) not in done]
    for made in sorted(all_, key=lambda g: (g.mark.tenant == charter.tenant, order.index(g.kind))):
        kind = KINDS[made.kind]
        away = f", in {made.mark.tenant}" if made.mark.tenant != charter.tenant else ""
        step = Step(
            StepId(made.mark, made.number, "retire"),
            StepKind.END,
            f"{kind.name} {charter.identity.name}{away}",
            End(kind, made.id),
            needs,
            kind.power,
        )
        needs = (*needs, step.id)
        yield by_its_maker(comparison, step)
