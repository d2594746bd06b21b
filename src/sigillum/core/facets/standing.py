"""Where one wanted thing stands among what was seen, and the steps that follow alike for every kind of it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from enum import StrEnum
from typing import Any, NamedTuple

from sigillum.core.facets.draft import Draft
from sigillum.core.facets.provides import ItsPrincipal
from sigillum.core.facets.seen import Seen
from sigillum.core.kinds.changes import End, Entry, digest_of
from sigillum.core.kinds.identities import ACCOUNT, CLIENT, PRINCIPAL, TEAM
from sigillum.core.kinds.kind import Compared, Fact, Kind, Part, Query, Record
from sigillum.core.kinds.profile import PERSON
from sigillum.core.records.history import Generation, State
from sigillum.core.records.steps import DARK, HELD, HIDDEN, NEVER_HERE, NOT_OFF, Adopt, Ask, Await, Step, StepKind
from sigillum.core.values.marks import Id, Mark, Ref, StepId


class Where(StrEnum):
    """none: never begun · open: begun, nothing known of it · present: ours, and seen · recent: made, and look-ups may not
    show it yet · gone: made once, and no longer there (or its externalId cannot be used again).
    """

    NONE = "none"
    OPEN = "open"
    PRESENT = "present"
    RECENT = "recent"
    GONE = "gone"


class Standing(NamedTuple):
    """Where a wanted thing stands."""

    where: Where
    generation: Generation | None = None
    record: Record[Any] | None = None

    @property
    def number(self) -> int:
        """The generation to work on."""
        if self.generation is None:
            return 1
        return self.generation.number + (1 if self.where is Where.GONE else 0)

    def why(self, usual: str) -> str:
        """Why it is made: begun earlier without an answer that was caught, or the `usual` reason."""
        lost = self.where is Where.OPEN and self.generation is not None and self.generation.unanswered
        return "begun earlier, and the answer was not caught" if lost else usual


def stand(
    seen: Seen,
    draft: Draft,
    mark: Mark,
    records: Iterable[Record[Any]],
    words: str,
    carrier: Id | None = None,
    alike: Callable[[Record[Any]], bool] = lambda record: False,
) -> Standing:
    """Find out where the newest generation of a wanted thing stands among what was seen.

    `carrier`: what it hangs on; where that is still to be made, what hung on the one before went with it. `alike`: is it the
    same by name, where a tenant has no place for our mark?
    """
    generation = seen.history.latest(mark)
    if generation is None:
        return Standing(Where.NONE)
    if generation.state in (State.ENDED, State.SPENT):
        return Standing(Where.GONE, generation)

    def made(record: Record[Any]) -> bool:  # by its mark or name only where an attempt of ours was sent for it
        unmarked = record.kind.name in seen.profile.unmarked
        return alike(record) if unmarked else bool(generation.external_id) and record.mark == generation.external_id

    lost = not generation.id and generation.unanswered
    mine = next((r for r in records if r.id == generation.id or (lost and made(r))), None)
    if mine is not None:
        if not generation.id:
            found(draft, mark, generation.number, words, Adopt(mine.kind, mine.id, found=True))
        return Standing(Where.PRESENT, generation, mine)
    if not generation.id:
        return Standing(Where.OPEN, generation)
    if isinstance(carrier, Ref):
        return Standing(Where.GONE, generation)
    recent = seen.arriving(generation.made_at or generation.begun_at)
    return Standing(Where.RECENT if recent else Where.GONE, generation)


def on_its_way(seen: Seen, generation: Generation | None) -> bool:
    """Did we switch it on so short a time ago that look-ups may still show it off? Nothing is concluded from them then."""
    return generation is not None and generation.on_in >= generation.off_asked_in and seen.arriving(generation.on_at)


def untouched(seen: Seen, record: Record[Any], generation: Generation) -> bool:
    """Is it as our last write left it? Where a tenant shows no versions that cannot be known, nor before look-ups show it.

    Both count: off, on and off again gives the same version.
    """
    return not (record.state and generation.left) or record.state == generation.left or seen.arriving(generation.left_at)


def stopped(
    seen: Seen, draft: Draft, mark: Mark, record: Record[Any], generation: Generation | None, words: str
) -> tuple[StepId, ...]:
    """Did another hand switch it off? Then a person is asked, and what needs it waits. What we never switched on is a draft."""
    draft_of_ours = (
        generation is not None and not generation.adopted and not generation.on_at and untouched(seen, record, generation)
    )
    ours = draft_of_ours or (generation is not None and generation.said_ours)
    if record.value("active") is not False or ours or seen.choices.switch_on or on_its_way(seen, generation):
        return ()
    number = generation.number if generation is not None else 1
    perhaps = generation is not None and generation.perhaps_off
    what = "is off; perhaps it was us, since an answer was lost" if perhaps else "somebody else switched off"
    return (
        draft.add(
            Step(
                StepId(mark, number, "stopped"),
                StepKind.ASK,
                f"about the {words}, which {what}",
                Ask(stopped=True),
                why="what somebody else stopped stays stopped",
            )
        ),
    )


def suspended(
    seen: Seen, draft: Draft, mark: Mark, record: Record[Any], generation: Generation | None, words: str
) -> tuple[StepId, ...] | None:
    """Of something that we suspended: what others did with it meanwhile is asked about, and what needs it waits. None: it is
    not suspended.
    """
    hold = seen.history.holds.get(mark)
    if hold is None:
        return None
    until = f" until {hold.until}" if hold.until else ""
    number, off = generation.number if generation is not None else 1, record.value("active") is False
    arriving = generation is not None and seen.arriving(generation.left_at)
    answered = hold.found_off or (generation is not None and generation.off_in > hold.began)
    if off or (answered and arriving):
        draft.note(HELD, f"the {words} is suspended{until}: {hold.because}", warning=False)
    else:
        draft.note(NOT_OFF, f"the {words} is to be suspended{until}, and is on: {hold.because}")
    touched = generation is not None and bool(record.state) and bool(generation.left) and record.state != generation.left
    if arriving or (off and not hold.found_off and not touched) or not (off or answered):  # on, and our "off" is still to come
        return ()
    what = "somebody else switched off, too" if off else "somebody switched on although it is suspended"
    return (
        draft.add(
            Step(
                StepId(mark, number, "stopped"),
                StepKind.ASK,
                f"about the {words}, which {what}",
                Ask(stopped=True),
                why="what somebody else stopped stays stopped",
            )
        ),
    )


def found(draft: Draft, mark: Mark, number: int, words: str, adopt: Adopt) -> StepId:
    """What was begun earlier was seen to stand there."""
    return draft.add(
        Step(
            StepId(mark, number, "found"),
            StepKind.KEEP,
            f"in the ledger that the {words} was made",
            adopt,
            why="it was begun earlier, and the answer was not caught",
        )
    )


def adopt(draft: Draft, mark: Mark, number: int, words: str, taken: Adopt) -> StepId:
    """What somebody else made is ours from now on, since a person said so."""
    about = f"in the ledger that {words} is ours from now on"
    return draft.add(Step(StepId(mark, number, "adopt"), StepKind.KEEP, about, taken, why="--adopt was given"))


def await_(seen: Seen, draft: Draft, mark: Mark, kind: Kind[Any], standing: Standing, words: str) -> StepId:
    """Wait for something that was made and is not seen yet."""
    assert standing.generation is not None
    return draft.add(
        Step(
            StepId(mark, standing.generation.number, "wait"),
            StepKind.WAIT,
            f"until the tenant shows {words}",
            Await(kind, standing.generation.id, seen.arrival_seconds),
            why="it was made, and look-ups do not show it yet",
        )
    )


def slow(draft: Draft, mark: Mark, record: Record[Any], number: int, words: str) -> tuple[StepId, ...]:
    """Something that the tenant accepted and has not finished is waited for."""
    if record.progress != "accepted":
        return ()
    return (
        draft.add(
            Step(
                StepId(mark, number, "finish"),
                StepKind.WAIT,
                f"until the tenant has made {words}",
                Await(record.kind, record.id, 0, finished=True),
                why="the tenant accepted it, and finishes it later",
            )
        ),
    )


def end_extra(seen: Seen, draft: Draft, mark: Mark, action: End | Entry, about: str, verb: str = "end") -> None:
    """End what no charter asks for, where a person agreed to that."""
    if seen.choices.end_extra:
        draft.add(
            Step(
                StepId(mark, 1, verb),
                StepKind.END,
                about,
                action,
                power=action.kind.power,
                why="what is extra is to end",
                unasked=True,
            )
        )


def after(value: Id | None) -> tuple[StepId, ...]:
    """The step that will yield a value, where one has to."""
    return (value.step,) if isinstance(value, Ref) else ()


def hanging(seen: Seen, kind: Kind[Any], carrier: Id | None, *, there: bool = True) -> Fact[Any]:
    """What hangs on a carrier. One that is still to be made has nothing; of an unknown one nothing is known."""
    if seen.carried(kind) is None and there:
        return Fact(unknown=f"it has no resource type for a {kind.name}", never=seen.profile.confirmed_by != PERSON)
    if carrier is None:
        return Fact(unknown="its principal is not known")
    return seen.ask(Query(kind, "principal", carrier)) if isinstance(carrier, str) else Fact()


def unknown(seen: Seen, draft: Draft, fact: Fact[Any], about: str) -> None:
    """Say that nothing can be concluded, or that there can never be such a thing here; no step follows from it."""
    if fact.never:
        draft.note(
            NEVER_HERE,
            f"{about} can never stand at {seen.tenant}: {fact.unknown}; take it out of the charter, or ask for it where it can",
        )
    else:
        draft.note(
            HIDDEN, f"{about} cannot be looked up at {seen.tenant}: {fact.unknown}; nothing is made where it may exist already"
        )


def dark(seen: Seen, draft: Draft, held: Compared, about: str) -> None:
    """Say which fields of something that is there are not shown now: no step follows from that, and no sameness either."""
    for name, hidden in held.dark.items():
        draft.note(DARK, f"{name} of {about} is not shown at {seen.tenant} now ({hidden.why}): it may be as wanted, or not")


def again(seen: Seen, held: Compared, part: Part, generation: Generation | None) -> dict[str, Any]:
    """What is never shown there, and is wanted otherwise than we sent it last: it is sent, and not read back."""
    known = {n: v for n, v in part.items() if not isinstance(v, Ref)}
    return held.unread(known, generation.unread, digest_of) if generation is not None else {}


def so_says(silent: Mapping[str, Any]) -> str:
    """Why something is changed; and what of it will only be sent."""
    return f"the charter says so; {' and '.join(silent)}: sent, not read back" if silent else "the charter says so"


def principal(seen: Seen, draft: Draft) -> ItsPrincipal | None:
    """The identity's principal in this tenant, as far as it is known or will be made."""
    return draft.one(ItsPrincipal, seen.tenant)


def somebody(seen: Seen, name: str) -> tuple[Record[Any] | None, Fact[Any], str]:
    """An account or team by its name; the fact that is not known, if one is; and what was written instead of a name."""
    account, team = seen.ask(Query(ACCOUNT, "name", name)), None
    if account.first is None and account.known:
        team = seen.ask(Query(TEAM, "name", name))
    hit = account.first or (team.first if team is not None else None)
    if hit is not None or not account.known:
        return hit, account, ""
    return None, team if team is not None and not team.known else account, _identified(seen, name)


_IDENTIFIERS = (
    (ACCOUNT, "id", "the principal id of the account"),
    (TEAM, "id", "the principal id of the team"),
    (PRINCIPAL, "id", "the principal id of the client"),
    (PRINCIPAL, "client_id", "the client id of"),
    (CLIENT, "id", "the registration id of the client"),
)


def _identified(seen: Seen, value: str) -> str:
    """Where a name is wanted and none is known: whose identifier it is, and what to write."""
    said = ""
    for kind, field, words in _IDENTIFIERS:
        hit = seen.ask(Query(kind, field, value)).first if seen.carried(kind) is not None else None
        if hit is not None and not said:
            said = f"that is {words} {hit.value('name')}: a charter names accounts and teams, write {hit.value('name')}"
    return said
