"""Rehearse: ask the tenant what a charter touches, in rounds, and compare."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from sigillum.core.charter.charter import Charter
from sigillum.core.comparing.compare import Comparison, compare, tenants_of
from sigillum.core.facets.seen import Choices
from sigillum.core.kinds.snapshot import MOST_ROUNDS, Snapshot
from sigillum.core.records.steps import Outline
from sigillum.core.values.errors import Outcome

from .office import Office
from .settings import Progress
from .tenants import time_of

NONE = Choices()


@dataclass(frozen=True, slots=True)
class Rehearsal:
    """What enacting one charter would do."""

    charter: Charter
    outline: Outline
    snapshot: Snapshot
    uid: str

    def outcome(self, *, strict: bool = False) -> Outcome:
        """3 for mistakes, 6 where somebody must decide; with `strict` 1 where anything differs."""
        if self.outline.blocked:
            return blocked_outcome(self.outline)
        differs = bool(self.outline.changes) or any(n.warning for n in self.outline.notes)
        return Outcome.NO if strict and differs else Outcome.DONE


def blocked_outcome(outline: Outline) -> Outcome:
    """How a charter ends that cannot be enacted as it stands."""
    return Outcome.FILE if outline.mistakes else Outcome.SOMEBODY


def compared(office: Office, charter: Charter, choices: Choices) -> tuple[Comparison, Outline, str]:
    """Compare, asking for facts in rounds until none is missing; with the charter's uid."""
    uid, history = office.books.history(charter.name)
    keeping = office.keepings.of(uid)
    held, incomplete = (keeping.held(), keeping.incomplete()) if uid else ({}, frozenset[tuple[str, int]]())
    names = tenants_of(charter, history, office.workspace.file.tenants)
    reached = {name: office.tenants.reach(name) for name in names}
    snapshots = {name: Snapshot(name, time_of(tenant), tenant.profile) for name, tenant in reached.items()}
    comparison = Comparison(charter, history, snapshots, office.workspace.rules, held, office.books, choices,
                            incomplete)
    for _ in range(MOST_ROUNDS):
        outline = compare(comparison)
        missed = {name: queries for name, snapshot in snapshots.items() if (queries := snapshot.asked())}
        if not missed:
            break
        for name, queries in missed.items():
            snapshots[name].facts.update(reached[name].facts(queries))
    return comparison, _by_whom(office, outline, snapshots), uid


def _by_whom(office: Office, outline: Outline, snapshots: Mapping[str, Snapshot]) -> Outline:
    """Where the usual administrator lacks a power, somebody else acts or is asked."""
    powers = {name: snapshot.profile.powers for name, snapshot in snapshots.items()}
    wanting = dict.fromkeys(s.tenant for s in outline.steps if s.power and s.power not in (powers[s.tenant] or (s.power,)))
    if not wanting:
        return outline
    from sigillum.core.comparing.hands import assign
    return assign(outline, {t: office.tenants.hands(t) for t in wanting})


def rehearse(office: Office, charter: Charter, choices: Choices = NONE) -> Rehearsal:
    """Raises UnreachableError, RefusedError; what is wrong in the charter stands in the outline."""
    office.settings.progress(Progress(charter.name, "looking"))
    comparison, outline, uid = compared(office, charter, choices)
    return Rehearsal(charter, outline, comparison.snapshots[charter.tenant], uid)
