"""Making one thing by the creation protocol: found again after a lost answer, read back, and compared with what was sent."""

from __future__ import annotations

from contextlib import suppress
from typing import Any

from sigillum.core.kinds.changes import End, Make, plain
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import NotShown, Query, Record, compared
from sigillum.core.kinds.profile import Profile
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.history import SWITCHES, AttemptOutcome, State, Verb
from sigillum.core.records.steps import Collision, Step
from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.errors import NotYetError, RefusedError, SomebodyError
from sigillum.tenants.port import OWN, Reply, Result

from .attempt import Ready, attempt, finished, left, unread, until
from .documents import noted, ready, unsure
from .end import ended
from .files import complete
from .ports import AgainError, Settle
from .work import Work, Yields

REGISTRATION = "registration"  # the name under which a dynamic registration is kept among a charter's keys


class TakenError(SomebodyError):
    """Something of that name is there, or is said to be; wanted and existing side by side in `collision`."""

    def __init__(self, what: str, collision: Collision, *, where: str, mend: str) -> None:
        super().__init__(what, where=where, mend=mend)
        self.collision = collision

    @classmethod
    def of(cls, what: str, step: Step, make: Make, found: Record[Any] | None, mend: str) -> TakenError:
        """`found` None: look-ups show nothing."""
        rows = tuple(
            (name, value, found.value(name) if found is not None else "not shown")
            for name, value in make.kind.shown(make.part).items()
            if value
        )
        name = str(make.part.get("name", step.mark))
        return cls(
            what, Collision(make.kind, name, found.id if found is not None else "", rows, False), where=step.tenant, mend=mend
        )


def carry(work: Work, step: Step, action: Make) -> Yields:
    """Make it, or find what an earlier attempt of ours made."""
    make, mark = work.resolved(action), work.tenant.profile.marked(work.journal.external_id(step))
    assert isinstance(make, Make)
    known = work.history.latest(step.mark)
    sent = [known is not None and known.unanswered and known.number == step.generation]  # an earlier attempt of this ledger
    looks = list(known.foreseen) if sent[0] and known is not None else []
    if sent[0] and (found := _before_another(work, step, make, mark)) is not None:
        if unsure(work, make.kind, found.id, looks):
            noted(work, step, make.kind, found.id, make.terms)
        return _made(work, step, make, found)

    def request() -> Ready:
        made = ready(work, make, mark)
        looks.extend(made.about.values())
        return made

    def done(reply: Reply, settle: Settle) -> Record[Any] | None:
        if reply.result is Result.DONE and reply.record is not None:
            if reply.secret is not None:  # a dynamic registration: what it answered is shown once
                work.keeping.keep_secret(REGISTRATION, step.generation, reply.secret, {"tenant": step.tenant})
                work.journal.boundary(f"{step.id} kept here")
            settle(AttemptOutcome.MADE, id=reply.record.id, **left(reply.record))
            return reply.record
        if reply.result is Result.EXISTS:
            there = _after_conflict(work, step, make, mark, settle, reply.detail, mine=sent[0])
            if not sent[0] or _of_another_copy(work, step, make, there):
                settle(AttemptOutcome.REFUSED, why="another copy of this workspace made it")
                raise _ahead(step)
            settle(AttemptOutcome.MADE, id=there.id)
            return there
        sent[0] = True  # what is tried again was sent once
        return None

    def lost(settle: Settle) -> Record[Any] | None:
        ours = _before_another(work, step, make, mark)
        if ours is not None and unsure(work, make.kind, ours.id, looks):
            noted(work, step, make.kind, ours.id, make.terms)
        elif ours is not None:
            settle(AttemptOutcome.MADE, id=ours.id)
        return ours

    record = attempt(
        work,
        step,
        Verb.MAKE,
        make.part,
        request,
        done,
        lost=lost,
        thing=make.kind.name,
        external_id=mark,
        terms=plain(make.terms),
        **_switches(work, make),
        **unread(work.tenant, make.kind, make.part),
    )
    return _made(work, step, make, record)


def _ahead(step: Step) -> SomebodyError:
    return SomebodyError(
        f"{step.about}: {step.tenant} holds a newer generation than this ledger knows: another copy of this workspace made it",
        where=step.tenant,
        mend="go on in the copy that made it, or bring its `.sigillum/` here; nothing was written",
    )


def _of_another_copy(work: Work, step: Step, make: Make, there: Record[Any]) -> bool:
    """Is a credential at work whose secret is not here, though an attempt of this ledger was sent, too?"""
    if make.kind is not CREDENTIAL:
        return False
    key = make.part.get("public_key")
    if key:
        return bool(there.value("thumbprint")) and there.value("thumbprint") != thumbprint(key)
    held = work.keeping.path(str(step.mark.get("name")), step.generation).exists()
    return there.value("active") is True and not held and work.tenant.profile.born_inactive is True


_SORT = ("type", "area")  # beside the natural key: another sort of the same kind, or one that lives elsewhere, is another


def _marked(work: Work, make: Make) -> bool:
    return make.kind.name not in work.tenant.profile.unmarked


def _ours(work: Work, make: Make, mark: str) -> Record[Any] | None:
    """By our mark; where the tenant has no place for it, by its natural key, as far as that is shown."""
    kind, profile = make.kind, work.tenant.profile
    if _marked(work, make):
        query: Query[Any] = Query(kind, "mark", mark)
        return work.tenant.facts([query])[query].first
    part, carried = kind.shown(make.part), profile.carried(kind) or frozenset()
    key = {n: part.get(n) for n in (*kind.key, *_SORT) if n in kind.key or n in part}
    query = Query(kind, kind.key[0], str(key[kind.key[0]]))

    def alike(record: Record[Any]) -> bool:
        shown = ((n, record.get(n, carried), wanted) for n, wanted in key.items())
        return all(isinstance(have, NotShown) or kind.same(n, have, wanted) for n, have, wanted in shown)

    return next(filter(alike, work.tenant.facts([query])[query].records), None)


def _before_another(work: Work, step: Step, make: Make, mark: str) -> Record[Any] | None:
    """What an earlier attempt of this ledger made. Raises SomebodyError where another copy of this workspace made it."""
    found = _arrived(work, step, make, mark)
    if found is not None and _of_another_copy(work, step, make, found):
        raise _ahead(step)
    return found


def _arrived(work: Work, step: Step, make: Make, mark: str) -> Record[Any] | None:
    """Where externalIds are not known to be unique, wait the arrival time out and look before sending again."""
    profile = work.tenant.profile
    if profile.external_id_unique or work.send_again or (make.instead_of and not _marked(work, make)):
        return None
    if profile.arrival_seconds is None:
        found = _ours(work, make, mark)
        if found is not None:
            return found
        raise SomebodyError(
            f"{step.about}: an earlier request may or may not have arrived, and {step.tenant} does not say how "
            "long changes take",
            where=step.tenant,
            mend=f"look there for externalId {mark}; if it is there, run this again; if it surely "
            "is not, run `sigillum enact` with --send-again",
        )
    try:
        return until(work, lambda: _ours(work, make, mark), step.about)
    except NotYetError:
        return None


def _after_conflict(work: Work, step: Step, make: Make, mark: str, settle: Settle, said: str, *, mine: bool) -> Record[Any]:
    """409: it was made by an earlier attempt of ours, or the name is a stranger's. Raises in the second case. `mine`: an
    attempt of ours was sent; without our mark nothing else tells whose it is.
    """
    if mine or _marked(work, make):
        with suppress(NotYetError):
            return until(work, lambda: _ours(work, make, mark), step.about)
    key = make.kind.key[0]
    if len(make.kind.key) == 1 and key in make.kind.finders:
        query: Query[Any] = Query(make.kind, key, str(make.part.get(key)))
        found = work.tenant.facts([query])[query].first
        if found is not None:
            settle(AttemptOutcome.REFUSED, why="the name is taken")
            raise TakenError.of(
                f"the {make.kind.name} {query.value} exists, and Sigillum did not make it",
                step,
                make,
                found,
                "keep it, change it or choose another name",
            )
    before = work.history.generations.get(step.mark, [])
    if any(g.state is State.SPENT and g.number == step.generation - 1 for g in before):
        # a fresh externalId is refused as well, so it is the thing itself that is said to be there
        settle(AttemptOutcome.REFUSED, why="it is said to be there, and is not shown")
        raise TakenError.of(
            f"{step.about}: the answers disagree. Making it says: {said}. Looking it up shows: nothing of that name",
            step,
            make,
            None,
            "run it again later, if it was removed or made there a moment ago; otherwise ask "
            "somebody who may see it, or choose another name",
        )
    settle(AttemptOutcome.SPENT)
    raise AgainError(f"{step.about}: its externalId was used before and cannot be used again")


def _made(work: Work, step: Step, make: Make, record: Record[Any]) -> Yields:
    """Read it back, and compare with everything that was sent. Raises NotYetError, RefusedError."""
    back = until(work, lambda: work.tenant.read(make.kind, record.id), step.about)
    work.journal.seen(step)
    work.journal.boundary(f"{step.id} read-back")
    if back.progress:
        finished(work, step, make.kind, record.id)
    sent = {n: v for n, v in make.part.items() if n not in _later(work.tenant.profile, make)}
    held = compared(back, sent, work.tenant.profile.carried(make.kind))
    if held.different:
        _undo(work, step, make, record.id, held.different)
    ends = not record.id.startswith(OWN) or "until" in (back.carried or ())  # one that never ends there is not told to end
    yields = {
        "id": record.id,
        "until": make.part.get("until") if ends else None,
        "client_id": back.value("client_id"),
        "address": back.value("address"),
    }
    if make.kind is CREDENTIAL:
        complete(work, step, {**yields, **{n: v for n, v in make.about.items() if v}}, record.id)
    return yields


def _switches(work: Work, make: Make) -> dict[str, Any]:
    """Is it switched on by being made? Whoever finds it switched off later knows that another hand did that."""
    on = make.part.get("active") is True and "active" not in _later(work.tenant.profile, make)
    return {SWITCHES: "on"} if on else {}


def _later(profile: Profile, make: Make) -> tuple[str, ...]:
    """What a creation does not decide: whether a credential or account is active, where the tenant has its own way."""
    own = (make.kind is CREDENTIAL and profile.born_inactive is not True) or (make.kind is ACCOUNT and profile.accounts_drafted)
    return ("active",) if own else ()


def _undo(work: Work, step: Step, make: Make, identity: str, wrong: dict[str, tuple[Any, Any]]) -> None:
    """It is not what was sent: it is ended again, and told. Raises RefusedError."""

    def done(reply: Reply, settle: Settle) -> bool | None:
        if reply.result not in (Result.DONE, Result.MISSING):
            return None
        ended(work, step, End(make.kind, identity), reply, settle)
        return True

    told = ", ".join(f"{name} {have if have not in (None, '') else 'nothing'}" for name, (have, _) in wrong.items())
    attempt(
        work,
        step,
        Verb.END,
        {"id": identity},
        Ready(lambda: work.tenant.end(End(make.kind, identity))),
        done,
        thing=make.kind.name,
        id=identity,
    )
    raise RefusedError(
        f"{step.about}: the tenant made it with another {', '.join(wrong)} ({told}); it was ended again",
        where=step.tenant,
        mend="find out what the tenant does with it, and change the charter",
    )
