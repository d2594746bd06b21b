"""Rehearse: ask the tenant what a charter touches, in rounds, and compare."""

from __future__ import annotations

from dataclasses import dataclass

from sigillum.core.charter import Charter
from sigillum.core.compare import MOST_ROUNDS, compare, needs, view_of
from sigillum.core.errors import Outcome
from sigillum.core.facets.common import View
from sigillum.core.facts import Snapshot
from sigillum.core.steps import Outline
from sigillum.tenants.port import Tenant

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


def gather(office: Office, charter: Charter, *, adopt: bool = False, end_extra: bool = False) -> tuple[View, Tenant]:
    """Everything a comparison needs: undertakings, held keys, and facts asked for in rounds."""
    uid, state = office.state(charter.name)
    tenant = office.tenant(charter.tenant)
    snapshot = Snapshot(charter.tenant, office.now(tenant), tenant.profile)
    held = office.keys(uid).held() if uid else {}
    view = view_of(charter, state, snapshot, office.workspace.rules, (office.workspace.file.workspace, uid), held,
                   adopt=adopt, end_extra=end_extra)
    view.lent, view.is_charter = office.lent(charter.tenant), office.has_charter
    for _ in range(MOST_ROUNDS):
        queries = needs(view)
        if not queries:
            break
        snapshot.facts.update(tenant.facts(queries))
    return view, tenant


def outline_of(office: Office, view: View) -> Outline:
    """Compare; and once more with the owners of what stands beside, where naming them is worth reading the ledger."""
    outline = compare(view)
    if view.asks_owners and view.owners is None:
        view.owners = office.owners()
        outline = compare(view)
    return outline


def rehearse(office: Office, charter: Charter, *, adopt: bool = False, end_extra: bool = False) -> Rehearsal:
    """Raises UnreachableError, RefusedError; what is wrong in the charter stands in the outline."""
    office.settings.progress(Progress(charter.name, "looking"))
    view, _ = gather(office, charter, adopt=adopt, end_extra=end_extra)
    return Rehearsal(charter, outline_of(office, view), view.snapshot, view.charter_uid)
