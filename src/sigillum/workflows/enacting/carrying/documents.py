"""Whose an entry of a document is, where the answer to our write was lost, and how late such a write can still arrive.

A document has many writers. With each intent goes how it will look once ours has arrived; where it looks otherwise, and what we
wanted stands in it, another hand may have put it there: it is used, and never ended as ours.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime, timedelta
from typing import Any

from sigillum.core.kinds.changes import Make
from sigillum.core.kinds.kind import Kind
from sigillum.core.records.history import DOCUMENT, UNSURE
from sigillum.core.records.steps import Step
from sigillum.core.values.errors import SomebodyError
from sigillum.core.values.times import parse_instant
from sigillum.tenants.port import Foreseeing

from .attempt import Ready
from .work import Work


def ready(work: Work, make: Make, mark: str) -> Ready:
    """The request, and with its intent how the document will look that it is written into."""
    tenant = work.tenant
    looks = isinstance(tenant, Foreseeing) and make.kind.name in tenant.profile.unmarked
    found = tenant.foresee(make, mark) if looks and isinstance(tenant, Foreseeing) else None
    return Ready(lambda: tenant.make(make, mark)) if found is None else Ready(found.send, {DOCUMENT: found.digest})


def unsure(work: Work, kind: Kind[Any], identity: str, expected: Iterable[str]) -> bool:
    """May what stands there be another hand's? `expected`: how the document was to look after each of our writes."""
    digests, tenant = set(expected), work.tenant
    return bool(digests) and isinstance(tenant, Foreseeing) and tenant.looks(kind, identity) not in digests


def noted(work: Work, step: Step, kind: Kind[Any], identity: str, terms: Mapping[str, Any]) -> None:
    """Write down that it is not known whose it is. Raises SomebodyError where Sigillum itself would have to end it."""
    work.journal.write(UNSURE, step, id=identity, thing=kind.name)
    if terms.get("until"):
        raise SomebodyError(
            f"{step.about}: the answer was lost, and by now it stands there; whether we made it or another hand did cannot be "
            "told, so nothing here will end it",
            where=step.tenant,
            mend="look there; where nobody else wanted it, have it ended there and run the same command again",
        )


def arrives_until(work: Work, step: Step, kind: Kind[Any]) -> datetime | None:
    """Until when a write of ours may still bring it back, whose answer was lost: where its revision is made of its content."""
    late = work.tenant.profile.late_seconds.get(kind.name)
    generation = next((g for g in work.history.generations.get(step.mark, ()) if g.number == step.generation), None)
    if not late or generation is None or not generation.lost_at:
        return None
    return parse_instant(generation.lost_at) + timedelta(seconds=late)
