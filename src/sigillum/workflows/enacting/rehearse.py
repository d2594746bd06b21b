"""Rehearse: ask the tenant what a charter touches, in rounds, and compare."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from functools import partial

from sigillum.core.charter.charter import Charter
from sigillum.core.comparing.compare import Comparison, compare, tenants_of
from sigillum.core.facets.seen import Choices
from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.identities import TEAM
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.kinds.snapshot import MOST_ROUNDS, Snapshot
from sigillum.core.records.steps import ADVICE, Outline
from sigillum.core.values.errors import Outcome, SigillumError
from sigillum.protocols.together import together
from sigillum.workflows.desk.office import Office
from sigillum.workflows.desk.settings import Progress
from sigillum.workflows.desk.several import several
from sigillum.workflows.handing.sent import noticed

NONE = Choices()


@dataclass(frozen=True, slots=True)
class Rehearsal:
    """What enacting one charter would do; or what went wrong while looking, and then nothing is known."""

    charter: Charter
    outline: Outline
    now: datetime | None = None  # of its home
    error: SigillumError | None = None

    @property
    def differs(self) -> bool:
        """Is anything not as the charter says, or not known to be?"""
        return bool(self.outline.changes) or any(n.warning and n.code not in ADVICE for n in self.outline.notes)

    @property
    def advised(self) -> bool:
        """Is there advice about how it is set up?"""
        return any(n.warning and n.code in ADVICE for n in self.outline.notes)

    @property
    def unchanged(self) -> bool:
        """Is there nothing to tell of it?"""
        return self.error is None and not (self.outline.steps or self.outline.notes or self.outline.blocked)

    def outcome(self, *, strict: bool = False, advice: bool = False) -> Outcome:
        """3 for mistakes, 6 where somebody must decide; 1 with `strict` where it differs, with `advice` where any is given."""
        if self.error is not None:
            return self.error.outcome
        if self.outline.blocked:
            return blocked_outcome(self.outline)
        return Outcome.NO if (strict and self.differs) or (advice and self.advised) else Outcome.DONE


def blocked_outcome(outline: Outline) -> Outcome:
    """How a charter ends that cannot be enacted as it stands."""
    return Outcome.FILE if outline.mistakes else Outcome.SOMEBODY


def compared(office: Office, charter: Charter, choices: Choices, *, noted: bool = False) -> tuple[Comparison, Outline, str]:
    """Compare, asking for facts in rounds until none is missing; with the charter's uid. `noted`: what came of its requests
    was looked up just now, and stands in the ledger.
    """
    uid, history = office.books.history(charter.name)
    if uid and not noted and (made := noticed(office, uid)):
        history = office.books.state_with(uid, made)
    keeping = office.keepings.of(uid)
    held, incomplete = (keeping.held(), keeping.incomplete()) if uid else ({}, frozenset[tuple[str, int]]())
    names = tenants_of(charter, history, office.workspace.file.tenants)
    reached = office.tenants.reach_all(names)
    snapshots = {name: office.tenants.unseen(tenant) for name, tenant in reached.items()}
    for name, snapshot in snapshots.items():
        _likely(snapshot, history.principal_id(name))
    comparison = Comparison(charter, history, snapshots, office.workspace.rules, held, office.books, choices, incomplete)
    for _ in range(MOST_ROUNDS):
        outline = compare(comparison)
        missed = {name: queries for name, snapshot in snapshots.items() if (queries := snapshot.asked())}
        if not missed:
            break
        for name, facts in zip(missed, together([partial(reached[n].facts, q) for n, q in missed.items()]), strict=True):
            snapshots[name].facts.update(facts)
    for snapshot in snapshots.values():
        office.tenants.learn(snapshot)
    return comparison, by_whom(office, outline, snapshots), uid


def _likely(snapshot: Snapshot, principal: str) -> None:
    """Ask at once what hangs on the principal that the ledger knows: it is asked anyway, once the tenant shows it."""
    for kind, field in ((GRANT, "principal"), (TEAM, "member"), (CREDENTIAL, "principal")):
        if principal and snapshot.profile.carried(kind) is not None:
            snapshot.ask(Query(kind, field, principal))


def by_whom(office: Office, outline: Outline, snapshots: Mapping[str, Snapshot]) -> Outline:
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
    comparison, outline, _ = compared(office, charter, choices)
    return Rehearsal(charter, outline, comparison.snapshots[charter.tenant].now)


def rehearse_all(office: Office, charters: list[Charter], choices: Callable[[Charter], Choices]) -> Iterator[Rehearsal]:
    """Several at a time, in order as they come; where one cannot be looked at, the others are. Raises MachineError."""

    def one(charter: Charter) -> Rehearsal:
        try:
            office.settings.go_on()
            return rehearse(office, charter, choices(charter))
        except SigillumError as problem:
            if len(charters) == 1 or problem.outcome is Outcome.MACHINE:
                raise
            return Rehearsal(charter, Outline(charter.name), error=problem)
        finally:
            office.settings.progress(Progress(charter.name))

    yield from several(office.settings, one, charters)
