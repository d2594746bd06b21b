"""Waiting for a change to be felt: telling *not yet* from *never*, how long it usually takes, and when to look again."""

from __future__ import annotations

import statistics
from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta
from typing import NamedTuple

from sigillum.core.deciding.explanations import right_words
from sigillum.core.deciding.mends import Spoiled, mends, unspoiled
from sigillum.core.deciding.refusals import ABOUT, Cause
from sigillum.core.deciding.values import Question
from sigillum.core.deciding.world import World
from sigillum.core.kinds.access import Role
from sigillum.core.kinds.kind import Record
from sigillum.core.values.times import format_edge, format_instant
from sigillum.core.values.worlds import Observed

FIRST_PAUSE_SECONDS, LONGEST_PAUSE_SECONDS, GROWTH = 0.5, 15.0, 1.6
NOT_YET, NEVER, UNCLEAR = "not-yet", "never", "unclear"
UNFINISHED = frozenset({Cause.GRANT_UNFINISHED, Cause.PRINCIPAL_UNFINISHED})


class Outlook(NamedTuple):
    """What is to be expected of a proof that does not hold: not-yet, never, or unclear.

    `due`: when it will be as wished, by the tenant's clock; `since`: when the change was made. Both where they are known.
    """

    state: str
    cause: Cause
    text: str
    mend: str = ""
    due: datetime | None = None
    since: datetime | None = None


def outlook(
    world: World[Observed],
    question: Question,
    wanted: bool,
    patience: timedelta,
    roles: Sequence[Record[Role]] = (),
    spoiled: Spoiled = unspoiled,
) -> Outlook:
    """Will time alone bring the answer that is `wanted`, within this patience? No advice breaks what `spoiled` tells."""
    decision = world.decide(question)
    if decision.allowed == wanted:
        said = "allowed" if wanted else "refused"
        return Outlook(
            UNCLEAR,
            decision.cause,
            f"from the facts it is {said} by now, and the tenant says otherwise: it is late, or our facts are",
        )
    if decision.allowed is None:
        return Outlook(
            UNCLEAR,
            decision.cause,
            f"it cannot be told: {'; '.join(decision.hidden)}",
            "ask with an administrator who may look",
        )
    due = world.next_change(question)
    made = decision.by.made if decision.by is not None else None
    cause = decision.needed.cause if decision.needed is not None else decision.cause
    if due is not None and due <= question.at + max(patience, world.felt):
        why = _short(cause) if wanted else "what allowed it was ended, and is still felt"
        return Outlook(
            NOT_YET, cause, f"{why}; it will be {'allowed' if wanted else 'refused'} from {format_edge(due)} on", "", due, made
        )
    if cause in UNFINISHED:
        return Outlook(NOT_YET, cause, _short(cause), "", None, made)
    if not wanted and decision.by is not None:
        ends = f"; it ends at {format_instant(due)}" if due is not None else ""
        return Outlook(
            NEVER,
            cause,
            f"it is allowed by {right_words(world, decision.by, question.principal)}{ends}",
            "end that grant, or take the expectation out of the charter",
        )
    if not wanted:
        return Outlook(
            NEVER, cause, "it is allowed by a consent", "narrow the permission with `only:`, or take the expectation out"
        )
    found = [m.text for m in mends(world, question, roles, spoiled)]
    need = f" ({decision.need[0]} at {decision.need[1]}: {cause})" if decision.need is not None else ""
    return Outlook(NEVER, decision.cause, f"{decision.cause}: {_short(decision.cause)}{need}", "; then ".join(found))


def _short(cause: Cause) -> str:
    return ABOUT[cause].meaning.rstrip(".")[0].lower() + ABOUT[cause].meaning.rstrip(".")[1:]


def pauses(first: float = FIRST_PAUSE_SECONDS) -> Iterator[float]:
    """Growing pauses between looks, in seconds."""
    pause = first
    while True:
        yield pause
        pause = min(pause * GROWTH, LONGEST_PAUSE_SECONDS)


def usual_seconds(measured: Sequence[float], announced: int | None) -> float | None:
    """How long such changes usually take: what was measured here, else what the tenant announces."""
    return statistics.median(measured) if measured else announced
