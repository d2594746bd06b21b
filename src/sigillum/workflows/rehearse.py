"""Rehearse: ask the tenant what a charter touches, in rounds, and compare."""

from __future__ import annotations

from dataclasses import dataclass

from sigillum.core.charter.charter import Charter
from sigillum.core.comparing.compare import MOST_ROUNDS, compare, needs, view_of
from sigillum.core.facets.common import View
from sigillum.core.kinds.facts import Snapshot
from sigillum.core.records.steps import Outline
from sigillum.core.values.errors import Outcome

from .office import Office, Progress


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


def gather(office: Office, charter: Charter, *, adopt: bool = False, end_extra: bool = False) -> View:
    """Everything a comparison needs: undertakings, held keys, and facts asked for in rounds, of each tenant."""
    uid, state = office.state(charter.name)
    held = office.keys(uid).held() if uid else {}
    views = list[View]()
    left = [t for t in state.away() if t in office.workspace.file.tenants]  # what was asked for there once may have to end
    for name in dict.fromkeys((charter.tenant, *charter.elsewhere, *left)):
        tenant = office.tenant(name)
        snapshot = Snapshot(name, office.now(tenant), tenant.profile)
        view = view_of(charter, state, snapshot, office.workspace.rules, (office.workspace.file.workspace, uid), held,
                       adopt=adopt, end_extra=end_extra)
        view.lent, view.is_charter = office.lent(name), office.has_charter
        view.home = views[0] if views else None
        for _ in range(MOST_ROUNDS):
            queries = needs(view)
            if not queries:
                break
            snapshot.facts.update(tenant.facts(queries))
        views.append(view)
    views[0].guests = views[1:]
    return views[0]


def outline_of(office: Office, view: View) -> Outline:
    """Compare; and once more with the owners of what stands beside, where naming them is worth reading the ledger."""
    outline, parts = compare(view), (view, *view.guests)
    if any(p.asks_owners and p.owners is None for p in parts):
        for part in parts:
            part.owners = office.owners()
        outline = compare(view)
    return _by_whom(office, outline, parts)


def _by_whom(office: Office, outline: Outline, parts: tuple[View, ...]) -> Outline:
    """Where the usual administrator lacks a power, somebody else acts or is asked."""
    powers = {p.snapshot.tenant: p.snapshot.profile.powers for p in parts}
    wanting = dict.fromkeys(s.tenant for s in outline.steps if s.power and s.power not in (powers[s.tenant] or (s.power,)))
    if not wanting:
        return outline
    from sigillum.core.comparing.hands import assign
    return assign(outline, {t: office.hands(t) for t in wanting})


def rehearse(office: Office, charter: Charter, *, adopt: bool = False, end_extra: bool = False) -> Rehearsal:
    """Raises UnreachableError, RefusedError; what is wrong in the charter stands in the outline."""
    office.settings.progress(Progress(charter.name, "looking"))
    view = gather(office, charter, adopt=adopt, end_extra=end_extra)
    return Rehearsal(charter, outline_of(office, view), view.snapshot, view.charter_uid)
