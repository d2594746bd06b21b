"""Where a principal has one role at a place: what stands there already, and whether another one may take its place."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sigillum.core.facets.draft import Draft
from sigillum.core.facets.seen import Seen
from sigillum.core.kinds.access import Grant
from sigillum.core.kinds.kind import Record
from sigillum.core.records.history import State

if TYPE_CHECKING:
    from .wanted import WantedGrant


def refused(seen: Seen, draft: Draft, wanted: WantedGrant, records: tuple[Record[Grant], ...]) -> bool:
    """Would it take the place of what is not ours, or of what the charter wants as well? Adds the mistakes; else it is noted
    at `one` of which it takes the place.
    """
    if not seen.profile.levels:
        return False
    want, other = wanted.want, standing(wanted, records)
    twice = next((w for w in seen.charter.grants if (w.to, w.at) == (want.to, want.at) and w.role != want.role), None)
    if twice is not None:
        draft.wrong(
            "level-twice",
            f"{want.role} and {twice.role} at {want.at}: {seen.tenant} has one role a place for each",
            "keep the wider one",
            want.position,
        )
        return True
    if other is None:
        return False
    loan = seen.books.lends(seen.tenant, other.id)
    if loan:
        draft.note(
            "level-lent",
            f"{want.role} at {want.at} gave way to {other.body.role} (loan {loan}), and comes back after it",
            warning=False,
        )
        return True
    made = seen.history.owns("grant", seen.tenant, other.id, other.mark)
    if made is None or made.state is State.ENDED or made.mark == wanted.mark:  # under our id, and raised by somebody else
        draft.wrong(
            "level-taken",
            f"{other.body.role} stands at {want.at} already, and {want.role} would take its place; Sigillum did not make it",
            "end it there first, or write that role into the charter",
            want.position,
        )
        return True
    wanted.over = other.body.role
    return False


def standing(wanted: WantedGrant, records: tuple[Record[Grant], ...]) -> Record[Grant] | None:
    """Another role that the same one has at the same place."""
    here = (r for r in records if r.says(place=wanted.spot, principal=wanted.carrier))
    return next((r for r in here if r.denies(role=wanted.want.role)), None)
