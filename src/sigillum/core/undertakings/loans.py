"""Loans: grants that always end and always have a reason. What may be lent, and what the ledger says of a loan."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta

from sigillum.core.charter.rules import Rules
from sigillum.core.deciding.objections import Objection
from sigillum.core.records.chain import Entry
from sigillum.core.records.history import LENT, Generation, History, State, fold
from sigillum.core.values.marks import Mark
from sigillum.core.values.times import Window, format_duration, format_instant, parse_instant, rough_duration, whole_second

FACET = "loan"


@dataclass(frozen=True, slots=True)
class Loan:
    """One loan as it was written down; `generation` is what became of its grant."""

    uid: str
    tenant: str
    principal: str
    principal_name: str
    role: str
    at: str
    until: datetime
    because: str
    by: str
    external_id: str
    generation: Generation | None = None

    @property
    def refused(self) -> bool:
        """Did the tenant answer, and was the answer no?"""
        return self.generation is not None and self.generation.state is State.OPEN and not self.generation.unanswered

    @property
    def open(self) -> bool:
        """Was it begun, and is it not known whether its grant was made?"""
        return self.generation is None or (self.generation.state is State.OPEN and not self.refused)

    def state(self, now: datetime) -> str:
        """`begun`, `refused`, `in-force`, `ended` (by its end), `recalled` or `cleared`."""
        over = Window(until=self.until).state(now) == "ended"
        if self.generation is not None and not self.generation.live:
            early = self.generation.ended_at and parse_instant(self.generation.ended_at) < self.until
            return "recalled" if early else "cleared"
        if self.refused:
            return "refused"
        if over:
            return "ended"
        return "begun" if self.open else "in-force"


def mark_of(tenant: str) -> Mark:
    """What a loan's one grant is called in its own stream of the ledger."""
    return Mark(FACET, tenant)


def loan_of(entries: Iterable[Entry], uid: str) -> tuple[Loan, History]:
    """A loan from its own entries, of which one says how it was lent."""
    all_ = list(entries)
    body, history = next(e.body for e in all_ if e.kind == LENT), fold(all_, uid)
    return Loan(uid, str(body["tenant"]), str(body["principal"]), str(body["principal_name"]), str(body["role"]),
                str(body["at"]), parse_instant(str(body["until"])), str(body["because"]), str(body["by"]),
                str(body["external_id"]), history.latest(mark_of(str(body["tenant"])))), history


def end_of(now: datetime, lasts_seconds: int | None, until: datetime | None) -> datetime:
    """When a loan ends, in whole seconds of the tenant's clock. Raises ValueError where no end is said."""
    if lasts_seconds is not None:
        return whole_second(now) + timedelta(seconds=lasts_seconds)
    if until is None:
        raise ValueError("a loan always ends")
    return until


def may_be_lent(rules: Rules, role: str, until: datetime, because: str, now: datetime) -> list[Objection]:
    """What the house says to a loan."""
    out = []
    if not because.strip():
        out.append(Objection("because-missing", "a loan always has a reason", "say why with --because"))
    if role in rules.forbidden_roles:
        out.append(Objection("role-forbidden", f"a house rule forbids the role {role!r}", "choose a narrower role"))
    longest = rules.longest_loan_seconds
    if (until - whole_second(now)).total_seconds() > longest:
        out.append(Objection(
            "loan-too-long", f"it would last {rough_duration((until - now).total_seconds())}, the house lends for "
            f"{format_duration(longest)} at most", f"lend it for {format_duration(longest)} or less; what is needed for longer "
            "belongs in a charter"))
    if until <= now:
        out.append(Objection("window-past", f"it would end at {format_instant(until)}, which is over", "write a later end"))
    return out
