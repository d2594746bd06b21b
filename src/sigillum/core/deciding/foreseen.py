"""What expectations will say of a world that does not stand yet: the worst case counts."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any, NamedTuple

from sigillum.core.charter.charter import ProofWant
from sigillum.core.deciding.shown import neutral
from sigillum.core.deciding.values import Decision, Question
from sigillum.core.deciding.world import World, again
from sigillum.core.values.times import format_instant
from sigillum.core.values.worlds import Predicted

if TYPE_CHECKING:
    from sigillum.core.deciding.mends import Spoiled

NOBODY: Mapping[str, str] = {}


class Breach(NamedTuple):
    """An expectation that something stays refused, and the first time at which it would not be; `decision` says why.

    Where facts are missing, the verdict of `decision` is unknown, and so is whether it is a breach.
    """

    proof: ProofWant
    at: datetime
    decision: Decision[Predicted]


def worst(world: World[Any]) -> World[Predicted]:
    """The world in which all that was made is felt, services are on and locations fit; windows begin and end as they do."""
    open_ = neutral(world)
    starts = {r.id: r.start for r in world.rights}
    return again(open_, rights=[r._replace(start=starts[r.id]) for r in open_.rights])


def breaches(
    world: World[Any], principal: str, proofs: Iterable[ProofWant], now: datetime, people: Mapping[str, str] = NOBODY
) -> Iterator[Breach]:
    """The expectations `cannot` that would not hold, now or at an edge of a window from now on."""
    open_ = worst(world)
    for proof in proofs:
        if proof.allowed:
            continue
        question = Question(principal, proof.permission, proof.at, now, person=people.get(proof.person, proof.person))
        moments = [now, *(e for e in open_.edges(question) if e > now)]
        found = [(at, open_.decide(question._replace(at=at))) for at in moments]
        at, decision = next(((a, d) for a, d in found if d.allowed is True), found[0])
        if decision.allowed is not False:
            yield Breach(proof, at, decision)


def spoiling(
    world: World[Any], principal: str, proofs: Iterable[ProofWant], now: datetime, people: Mapping[str, str] = NOBODY
) -> Spoiled:
    """Tells of a changed world which expectation it breaks that this one does not."""
    wanted = [p for p in proofs if not p.allowed]
    broken = [b.proof for b in breaches(world, principal, wanted, now, people)]

    def one(changed: World[Any]) -> ProofWant | None:
        return next(
            (
                b.proof
                for b in breaches(changed, principal, [p for p in wanted if p not in broken], now, people)
                if b.decision.allowed
            ),
            None,
        )

    return one


def breach_words(world: World[Any], principal: str, breach: Breach, now: datetime) -> str:
    """What allows it, from when on, in words."""
    from sigillum.core.deciding.explanations import right_words  # for what breaks something only

    by = breach.decision.by
    what = right_words(world, by, principal) if by is not None else "a consent"
    return what if breach.at <= now else f"{what}, from {format_instant(breach.at)} on"


def refused(world: World[Any], principal: str, proof: ProofWant, now: datetime, people: Mapping[str, str]) -> tuple[str, str]:
    """Why what is wished to work will be refused, or what is not known of it; both empty where it will work."""
    decision = world.decide(Question(principal, proof.permission, proof.at, now, person=people.get(proof.person, proof.person)))
    if decision.allowed is None:
        return "", "; ".join(decision.hidden)
    return "" if decision.allowed else str((decision.needed or decision).cause), ""


def narrowed(limits: Sequence[Collection[str]], permission: str) -> bool:
    """Does every credential of these limits leave a permission out? One without limits leaves nothing out."""
    return bool(limits) and all(held and permission not in held for held in limits)
