"""The facet *licence*: what the account has to hold, whether one is free, and the mailbox that comes with it."""

from __future__ import annotations

from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.provides import ItsPrincipal, Ready
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import principal, unknown
from sigillum.core.kinds.changes import Change, Entry
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Query, Record, inside
from sigillum.core.kinds.signing import LICENCE, Licence
from sigillum.core.records.history import State
from sigillum.core.records.steps import Step, StepKind
from sigillum.core.values.marks import Id, Mark, StepId
from sigillum.core.values.text import did_you_mean

NAME = "licence"
ALL = Query(LICENCE, "all")


def mark_of(seen: Seen, name: str) -> Mark:
    return seen.mark(NAME, ("licence", name))


def compare(seen: Seen, draft: Draft) -> None:
    """Take a licence where one is free, give our own back, and ask for the mailbox."""
    want, fact, who = seen.charter.licence, seen.ask(ALL), principal(seen, draft)
    _not_wanted(seen, draft)
    if not want or who is None:
        return
    if not fact.known:
        unknown(seen, draft, fact, f"the licence {want}")
        return
    record = next((r for r in fact.records if r.says(name=want)), None)
    where = seen.charter.identity.position
    if record is None:
        known = [r.body.name for r in fact.records]
        draft.wrong(
            "licence-unknown",
            f"{seen.tenant} has no licence {want!r}",
            did_you_mean(want, known) or f"it has {', '.join(known) or 'none'}",
            where,
        )
    elif seen.charter.identity.mailbox and not record.body.mailbox:
        draft.wrong(
            "licence-mailbox", f"the licence {want} includes no mailbox", "name one that does, or leave `mailbox` out", where
        )
    else:
        needs = _hold(seen, draft, record, who.id)
        if needs is not None:
            _mailbox(seen, draft, who.id, needs)


def _hold(seen: Seen, draft: Draft, record: Record[Licence], who: Id) -> tuple[StepId, ...] | None:
    """The steps after which it is held; None where none is free."""
    want, total, needs = record.body.name, record.body.total, draft.by(seen.tenant, Ready)
    if record.says(type="capacity"):
        draft.note(
            "licence-capacity", f"{want} is held by the tenant as a whole: {total} in all, nothing is assigned", warning=False
        )
        return needs
    if isinstance(who, str) and inside(record, "holders", who):
        return needs
    free = total - len(record.body.holders)
    if free < 1:
        draft.wrong(
            "licence-none-free",
            f"no licence {want} is free: {total} of {total} are held",
            "free one, or have more bought",
            seen.charter.identity.position,
        )
        return None
    generation = seen.history.latest(mark_of(seen, want))
    number = 1 if generation is None else generation.number + (generation.state in (State.MADE, State.ENDED))
    return (
        draft.add(
            Step(
                StepId(mark_of(seen, want), number, "take"),
                StepKind.MAKE,
                f"licence {want} for {seen.charter.identity.name}",
                Entry(LICENCE, record.id, "holders", who),
                needs,
                LICENCE.power,
                f"{free} of {total} are free",
            )
        ),
    )


def _mailbox(seen: Seen, draft: Draft, who: Id, needs: tuple[StepId, ...]) -> None:
    account = seen.ask(Query(ACCOUNT, "name", seen.charter.identity.name)).first
    if seen.charter.identity.mailbox and (account is None or account.id != who or not account.body.mailbox):
        draft.add(
            Step(
                StepId(seen.mark(NAME, ("mailbox", "mailbox")), 1, "make"),
                StepKind.CHANGE,
                f"mailbox of {seen.charter.identity.name}",
                Change(ACCOUNT, who, {"mailbox": True}),
                needs,
                ACCOUNT.power,
                "the charter asks for one",
                {"mailbox": False},
                {"mailbox": True},
            )
        )


def _not_wanted(seen: Seen, draft: Draft) -> None:
    for generation in seen.history.of(NAME, seen.tenant):
        name = generation.mark.get("licence")
        if name and name != seen.charter.licence and generation.state is State.MADE:
            draft.add(
                Step(
                    StepId(generation.mark, generation.number, "give-back"),
                    StepKind.END,
                    f"licence {name} of {seen.charter.identity.name}",
                    Entry(LICENCE, generation.id, "holders", generation.value, out=True),
                    power=LICENCE.power,
                    why="the charter no longer asks for it",
                )
            )


def words(mark: Mark) -> str:
    return f"the licence {mark.get('licence')}" if mark.get("licence") else "the mailbox"


FACET = Facet(NAME, compare, takes=frozenset((ItsPrincipal, Ready)), words=words)
