"""Judging proofs: which way an expectation may be tried without harm, and what an answer says about it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING, Any, Generic, NamedTuple, final

from sigillum.core.charter.charter import ProofWant
from sigillum.core.kinds.access import Place
from sigillum.core.kinds.kind import NotShown, Record
from sigillum.core.kinds.profile import Operation, Profile
from sigillum.core.values.text import PLACE_PATH
from sigillum.core.values.worlds import Observed, W

if TYPE_CHECKING:
    from sigillum.core.deciding.waiting import Outlook


class Manner(StrEnum):
    """How an expectation was put to the test."""

    TRIED = "tried"
    ASKED = "asked, not tried"
    DECIDED = "decided, not tried"  # by the conditions that the charter has
    NEITHER = "not possible"


class Trial(NamedTuple):
    """What came back: `allowed` None where no answer says either; items and caps for counting."""

    allowed: bool | None
    reason: str = ""
    total: int | None = None
    items: tuple[Any, ...] | None = None
    capped: bool = False
    unauthenticated: bool = False  # refused before it came to rights (401, RFC 9110 §15.5.2)
    otherwise: bool = False  # refused although it has the right: something else was missing


class Reading(NamedTuple, Generic[W]):
    """What follows from facts without a question to anybody: of observed ones it is evidence, of predicted ones it is not."""

    allowed: bool | None
    reason: str = ""


Evidence = Trial | Reading[Observed]  # what a tenant said or did in this run, or what follows from what it shows


@final
@dataclass(frozen=True, slots=True)
class Verdict:
    """What a view tells as *holds*, *does not hold* or *not known*. It is made of evidence, or says why there is none.

    There is no other way to one: nothing that is wished, recorded or predicted makes it.
    """

    held: bool | NotShown

    @classmethod
    def by(cls, evidence: Evidence, wanted: bool) -> Verdict:
        """Was what came as it was wanted?"""
        if evidence.allowed is None:
            return cls.dark(evidence.reason or "no answer that says either")
        return cls(evidence.allowed is wanted)

    @classmethod
    def counted(cls, evidence: Trial, as_wanted: bool) -> Verdict:
        """The same of something that was read: its number, or what stands in it."""
        return cls(as_wanted and evidence.allowed is True)

    @classmethod
    def dark(cls, why: str) -> Verdict:
        """Neither: nothing shows it."""
        return cls(NotShown(why))

    @classmethod
    def spoilt(cls) -> Verdict:
        """It is as wanted now, and by the facts it will not stay so: that alone is told as *does not hold*."""
        return cls(False)

    @property
    def known(self) -> bool | None:
        """Yes, no, or None where it is not shown."""
        return self.held if isinstance(self.held, bool) else None


class Result(NamedTuple):
    """One judged expectation. `held` None: it could not be judged."""

    proof: ProofWant
    manner: Manner
    verdict: Verdict
    said: str
    capped: bool = False
    allowed: bool | None = None  # what the tenant said or did
    outlook: Outlook | None = None  # of one that does not hold: not yet, or never

    @property
    def held(self) -> bool | None:
        return self.verdict.known

    def unshown(self, said: str, outlook: Outlook | None = None) -> Result:
        """The same, where something else than what was expected may have brought it about."""
        return self._replace(verdict=Verdict.dark(said), said=said, outlook=outlook or self.outlook)

    def spoilt(self, said: str, **more: Any) -> Result:
        """The same, where it holds now and will not hold from then on."""
        return self._replace(verdict=Verdict.spoilt(), said=said, **more)


def unjudged(proof: ProofWant, said: str, manner: Manner = Manner.NEITHER) -> Result:
    """An expectation of which nothing can be said, and why."""
    return Result(proof, manner, Verdict.dark(said), said)


def answered(allowed: bool, reason: str) -> Trial:
    """What several answers of this run say together: a token that was given or refused, and a call with it."""
    return Trial(allowed, reason)


def manner_of(proof: ProofWant, operation: Operation | None, place: Record[Place] | None, profile: Profile) -> Manner:
    """No proof can harm: what changes data is tried only at a place marked as a test object."""
    harmless = operation is not None and (
        operation.class_ == "looks" or (operation.class_ == "changes-data" and place is not None and place.body.test)
    )
    if operation is not None and profile.work and harmless:
        return Manner.TRIED
    return Manner.ASKED if profile.decisions else Manner.NEITHER


def judge(proof: ProofWant, manner: Manner, found: Evidence) -> Result:
    """Hold what came against the expectation."""
    verdict = Verdict.by(found, proof.allowed)
    if found.allowed is None:
        return unjudged(proof, found.reason or "no answer that says either", manner)
    if isinstance(found, Trial) and (found.unauthenticated or found.otherwise) and not proof.allowed:
        return unjudged(proof, f"not shown: {found.reason}, which says nothing about the right", manner)
    if found.allowed != proof.allowed:
        said = found.reason or ("it was allowed" if found.allowed else "it was refused")
        return Result(proof, manner, verdict, said, allowed=found.allowed)
    said = "allowed" if found.allowed else "refused"
    if not proof.allowed or (proof.count is None and proof.at_least is None and proof.value is None):
        return Result(proof, manner, verdict, found.reason or said, isinstance(found, Trial) and found.capped)
    return _expected(proof, manner, found if isinstance(found, Trial) else Trial(None))


def links_of(items: Iterable[Any], field: str) -> list[str]:
    """What a field of the items names, each once: a text, or a list of texts."""
    found: dict[str, None] = {}
    for item in items:
        value = item.get(field) if isinstance(item, dict) else None
        found |= dict.fromkeys(v for v in (value if isinstance(value, list) else [value]) if isinstance(v, str) and v)
    return list(found)


def target_of(profile: Profile, permission: str, link: str) -> tuple[Operation, str] | None:
    """How a link is read: a place by the same permission, an address of the working interface by the one that it stands for."""
    path = link.removeprefix(profile.work.rstrip("/")) if profile.work else link
    if not path.startswith("/"):
        operation = profile.operations.get(permission)
        return (operation, path) if operation is not None and PLACE_PATH.match(path) else None
    for operation in profile.operations.values():
        head, _, tail = operation.template.partition("{place}")
        if operation.class_ == "looks" and path.startswith(head) and path.endswith(tail):
            place = path[len(head) : len(path) - len(tail)]
            if PLACE_PATH.match(place):
                return operation, place
    return None


def worst_of(found: Iterable[tuple[str, Result]]) -> list[Result]:
    """One result for each expectation, where it was tried with several credentials: the worst, and with which."""
    by: dict[str, list[tuple[str, Result]]] = {}
    for shown, result in found:
        by.setdefault(result.proof.words(), []).append((shown, result))

    def one(group: list[tuple[str, Result]]) -> Result:
        shown, result = min(group, key=lambda g: (False, None, True).index(g[1].held))
        return result if len(group) == 1 else result._replace(said=f"with {shown}: {result.said}")

    return [one(group) for group in by.values()]


def control_for(result: Result, all_: Iterable[Result], operations: Mapping[str, Operation]) -> Result | None:
    """What shows a refusal where the facts cannot: what must work, and did, at the same place, by the same service."""
    service = _service(result, operations)
    return next(
        (
            r
            for r in all_
            if r.proof.allowed
            and r.held is True
            and r.manner in (Manner.TRIED, result.manner)
            and (r.proof.at, r.proof.person) == (result.proof.at, result.proof.person)
            and _service(r, operations) == service
        ),
        None,
    )


def _service(result: Result, operations: Mapping[str, Operation]) -> str:
    operation = operations.get(result.proof.permission)
    return operation.service or operation.api if operation is not None else ""


def _expected(proof: ProofWant, manner: Manner, trial: Trial) -> Result:
    if manner is not Manner.TRIED:
        return unjudged(proof, "it may, and how much it reads is not shown: nobody signed in as it", manner)
    if trial.total is None and trial.items is None:
        return unjudged(proof, "the answer holds nothing that can be counted or compared", manner)
    shown = len(trial.items or ())
    total = trial.total if trial.total is not None else shown
    cap = f"; the tenant capped the answer at {shown} of {total}" if trial.capped else ""
    if proof.count is not None:
        return Result(proof, manner, Verdict.counted(trial, total == proof.count), f"{total} counted{cap}", trial.capped)
    if proof.at_least is not None:
        return Result(proof, manner, Verdict.counted(trial, total >= proof.at_least), f"{total} counted{cap}", trial.capped)
    wanted = dict(proof.value or {})
    found = any(isinstance(i, dict) and all(i.get(k) == v for k, v in wanted.items()) for i in trial.items or ())
    if not found and trial.capped:
        return unjudged(proof, f"not among what was shown{cap}", manner)._replace(capped=True)
    return Result(proof, manner, Verdict.counted(trial, found), ("found" if found else "not found") + cap, trial.capped)
