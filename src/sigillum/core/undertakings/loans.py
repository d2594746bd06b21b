"""Loans: grants that always end and always have a reason. What may be lent, what the ledger says of a loan, what follows."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum
from typing import Any

from sigillum.core.charter.rules import HouseRules
from sigillum.core.deciding.objections import Objection
from sigillum.core.deciding.values import ALWAYS
from sigillum.core.kinds.access import GRANT, Grant
from sigillum.core.kinds.changes import End, Make, part_of
from sigillum.core.kinds.kind import Query
from sigillum.core.records.chain import LedgerEntry
from sigillum.core.records.folding import fold
from sigillum.core.records.history import CLOSED, LENT, RECALLED, Generation, State
from sigillum.core.records.steps import Step, StepKind
from sigillum.core.values.marks import Mark, StepId
from sigillum.core.values.times import (
    Window,
    format_duration,
    format_instant,
    parse_instant,
    rough_duration,
    whole_second,
    within_grain,
)

from .undertaking import Look, Next, Undertaking

POWER = "grants"


class Stage(StrEnum):
    """Where a loan stands. Ended: by its window, while the grant still stands; cleared: that is gone, too; ended elsewhere: by
    somebody else, before its end.
    """

    BEGUN = "begun"
    REFUSED = "refused"
    IN_FORCE = "in-force"
    LEAVING = "leaving"
    ENDED = "ended"
    RECALLED = "recalled"
    CLEARED = "cleared"
    ELSEWHERE = "ended-elsewhere"
    NEVER_MADE = "never-made"


OVER = (Stage.REFUSED, Stage.RECALLED, Stage.CLEARED, Stage.ELSEWHERE, Stage.NEVER_MADE)


@dataclass(frozen=True, slots=True)
class Loan:
    """One loan as it was written down; `generation` is what became of its grant."""

    uid: str
    began: int
    tenant: str
    grant: Grant
    until: datetime
    principal_name: str
    by: str
    external_id: str
    generation: Generation | None = None
    wanted_back: bool = False
    closed: str = ""
    at: str = ""  # the place as it was named
    by_itself: bool = True  # the tenant ends it; else it stands until it is swept

    @property
    def key(self) -> str:
        return self.uid

    @property
    def number(self) -> str:
        """As a person calls it."""
        return self.uid.removeprefix("loan-")

    @property
    def about(self) -> str:
        """What it is, in words."""
        return f"{self.grant.role} at {self.at} to {self.principal_name}"

    def stage(self, now: datetime) -> Stage:
        """By the tenant's time; an instant at which the window ends is outside it."""
        of = self.generation
        if self.closed in OVER:
            return Stage(self.closed)
        if of is not None and not of.live:
            early = of.ended_at and parse_instant(of.ended_at) < self.until
            return Stage.RECALLED if early else Stage.CLEARED
        if of is not None and of.state is State.OPEN and not of.unanswered:
            return Stage.REFUSED
        if Window(until=self.until).state(now) == "ended":
            return Stage.ENDED
        if self.wanted_back:
            return Stage.LEAVING
        return Stage.BEGUN if of is None or of.state is State.OPEN else Stage.IN_FORCE


def mark_of(tenant: str) -> Mark:
    """What a loan's one grant is called in its own stream of the ledger."""
    return Mark("loan", tenant)


def read(entries: Iterable[LedgerEntry], uid: str) -> list[Loan]:
    """The loan of a stream from its own entries, of which one says how it was lent."""
    all_ = list(entries)
    first, history = next(e for e in all_ if e.kind == LENT), fold(all_, uid)
    body = first.body
    grant, tenant = Grant(**part_of(GRANT, body["grant"])), str(body["tenant"])
    assert grant.until is not None
    return [
        Loan(
            uid,
            first.sequence,
            tenant,
            grant,
            grant.until,
            str(body["principal_name"]),
            str(body["by"]),
            str(body["external_id"]),
            history.latest(mark_of(tenant)),
            any(e.kind == RECALLED for e in all_),
            next((str(e.body["how"]) for e in all_ if e.kind == CLOSED), ""),
            str(body.get("at") or grant.place),
            body.get("by_itself", True) is True,
        )
    ]


def gone(loan: Loan, seen: Look, now: datetime) -> bool:
    """Does the tenant say that its grant is another one by now, or long enough after it was made that it stands no more?"""
    made = loan.generation
    if made is None or not made.id or not made.live:
        return False
    fact, lent = seen.ask(Query(GRANT, "id", made.id)), loan.grant
    if fact.first is not None:  # what look-ups show late is old, and never another one
        return fact.first.denies(role=lent.role, place=lent.place, principal=lent.principal)
    return fact.known and now >= _shown_by(made, seen)


def _shown_by(generation: Generation, seen: Look) -> datetime:
    """When look-ups show what was made, at the latest."""
    at = generation.made_at or generation.begun_at
    return parse_instant(at) + timedelta(seconds=seen.arrival_seconds) if at else ALWAYS


def next_(loan: Loan, seen: Look, now: datetime) -> Next:
    """What follows for a loan."""
    stage = loan.stage(now)
    if stage in OVER:
        return Next(closed=str(stage))
    if stage is Stage.BEGUN:
        return Next((_make(loan),))
    if gone(loan, seen, now):
        return Next(closed=Stage.CLEARED if stage is Stage.ENDED else Stage.ELSEWHERE)
    if stage is Stage.IN_FORCE:
        return Next()
    identity = loan.generation.id if loan.generation is not None else ""
    if not identity:  # begun, and the answer was not caught
        fact = seen.ask(Query(GRANT, "mark", loan.external_id))
        if not fact.known:
            return Next(waits=f"it cannot be looked up whether it was made: {fact.unknown}")
        if fact.first is None and loan.generation is not None and now < _shown_by(loan.generation, seen):
            return Next(waits="it is not known yet whether it was made: look-ups may show it later", early=True)
        if fact.first is None:
            return Next(closed=Stage.NEVER_MADE)
        identity = fact.first.id
    verb, why = (
        ("recall", "it was recalled") if loan.wanted_back else ("sweep", f"its window ended at {format_instant(loan.until)}")
    )
    back = {"back": loan.grant.over} if loan.grant.over else {}
    return Next(
        (
            Step(
                StepId(mark_of(loan.tenant), 1, verb),
                StepKind.END,
                f"loan of {loan.about}",
                End(GRANT, identity, back),
                power=POWER,
                why=why,
            ),
        )
    )


def _make(loan: Loan) -> Step:
    """The making of its grant, always with the end that it was lent with."""
    until = {"until": format_instant(loan.until)}
    return Step(
        StepId(mark_of(loan.tenant), 1, "lend"),
        StepKind.MAKE,
        f"loan of {loan.about}",
        Make(GRANT, loan_terms(loan.grant), until),
        power=POWER,
        why=loan.grant.reason,
        after=until,
    )


def loan_terms(grant: Grant) -> dict[str, Any]:
    """What is said of a grant: all but what is empty."""
    return {n: v for n, v in grant._asdict().items() if v not in (None, "", ())}


LOANS = Undertaking("loan", LENT, read, next_)


def end_of(now: datetime, lasts_seconds: int | None, until: datetime | None, grain: int = 1) -> datetime:
    """When a loan ends, in whole seconds of the tenant's clock, and on a whole one of `grain` seconds. Raises ValueError where
    no end is said.
    """
    if lasts_seconds is not None:
        until = whole_second(now) + timedelta(seconds=lasts_seconds)
    if until is None:
        raise ValueError("a loan always ends")
    return within_grain(until, grain)


def may_be_lent(rules: HouseRules, role: str, until: datetime, because: str, now: datetime) -> list[Objection]:
    """What the house says to a loan."""
    out = []
    if not because.strip():
        out.append(Objection("because-missing", "a loan always has a reason", "say why with --because"))
    if role in rules.forbidden_roles:
        out.append(Objection("role-forbidden", f"a house rule forbids the role {role!r}", "choose a narrower role"))
    longest = rules.longest_loan_seconds
    if (until - whole_second(now)).total_seconds() > longest:
        out.append(
            Objection(
                "loan-too-long",
                f"it would last {rough_duration((until - now).total_seconds())}, the house lends for "
                f"{format_duration(longest)} at most",
                f"lend it for {format_duration(longest)} or less; what is needed for longer belongs in a charter",
            )
        )
    if until <= now:
        out.append(Objection("window-past", f"it would end at {format_instant(until)}, which is over", "write a later end"))
    return out
