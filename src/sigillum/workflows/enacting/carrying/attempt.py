"""The only journal loop: one attempt is one request that changes something, and another one follows where that is right."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from types import MappingProxyType
from typing import Any, NamedTuple, TypeVar

from sigillum.core.facets.seen import arrival_seconds
from sigillum.core.kinds.changes import digest_of, plain
from sigillum.core.kinds.kind import Kind, Part, Record
from sigillum.core.records.history import UNREAD, AttemptOutcome, Verb
from sigillum.core.records.steps import Step
from sigillum.core.values.errors import NotYetError, RefusedError, SigillumError
from sigillum.core.values.secret import Secret
from sigillum.tenants.port import Reply, Result, Tenant

from .ports import FIRST_PAUSE_SECONDS, LONGEST_PAUSE_SECONDS, Settle
from .work import Work

T = TypeVar("T")


class Ready(NamedTuple):
    """One request that can be sent, and what goes with its intent."""

    send: Callable[[], Reply]
    about: Mapping[str, Any] = MappingProxyType({})


MOST_ATTEMPTS = 100


def attempt(
    work: Work,
    step: Step,
    verb: Verb,
    payload: Any,
    request: Ready | Callable[[], Ready],
    done: Callable[[Reply, Settle], T | None],
    *,
    lost: Callable[[Settle], T | None] = lambda settle: None,
    stale: Callable[[], None] | None = None,
    **more: Any,
) -> T:
    """Commit the intent, send, settle; again where the tenant was busy or the answer was lost.

    `request` is made again for each attempt where something has to be seen before it. `done` settles an answer that ends it,
    and gives its result; `lost` looks whether a lost one arrived; `stale` finds out the newest version. Raises what the answer
    says where nothing is to be tried again.
    """
    for number in range(MOST_ATTEMPTS):
        ready = request() if callable(request) else request
        with work.ports.asked(step):
            reply, settle = work.journal.attempt(step, verb, masked(payload), ready.send, **more, **ready.about)
        result = done(reply, settle)
        if result is not None:
            return result
        if reply.result is Result.STALE and stale is not None:
            settle(AttemptOutcome.REFUSED, why="it had changed since it was read")
            work.patience.pause(
                None,
                _pause(number),
                RefusedError(f"{step.about} keeps changing", where=step.tenant, mend="find out who changes it as well"),
            )
            stale()
            continue
        _not_done(work, step, reply, settle, number)
        found = lost(settle) if reply.result is Result.LOST else None
        if found is not None:
            return found
    raise RefusedError(f"{step.about} was tried too often", where=step.tenant, mend="run the same command again")


def masked(payload: Any) -> Any:
    """As it goes into the ledger's digest: a secret leaves no trace there."""
    return plain({n: "(secret)" if isinstance(v, Secret) else v for n, v in payload.items()})


def unread(tenant: Tenant, kind: Kind[Any], part: Part) -> dict[str, Any]:
    """What goes with an intent: digests of what this tenant will never show, so that another wish is known as another one."""
    carried = tenant.profile.carried(kind)
    never = {
        n: digest_of(v)
        for n, v in (kind.shown(part).items() if carried is not None else ())
        if n not in (carried or ()) and not isinstance(v, Secret)
    }
    return {UNREAD: never} if never else {}


def left(record: Record[Any] | None) -> dict[str, Any]:
    """How our write left a thing, where the answer shows it: what differs later was another hand."""
    return {"left": record.state} if record is not None and record.state else {}


def _pause(number: int) -> float:
    return float(min(FIRST_PAUSE_SECONDS * 2**number, LONGEST_PAUSE_SECONDS))


def _not_done(work: Work, step: Step, reply: Reply, settle: Settle, number: int) -> None:
    """Settle a request that was not done, and wait before another attempt. Raises where there is none."""
    error = (
        reply.error
        if isinstance(reply.error, SigillumError)
        else RefusedError(f"{step.about}: {reply.detail}", where=step.tenant, mend="look at the detail")
    )
    if reply.result in (Result.BUSY, Result.LOST):
        settle(AttemptOutcome.LOST if reply.result is Result.LOST else AttemptOutcome.REFUSED, why=reply.detail)
        work.patience.pause(reply.wait_seconds, _pause(number), error)
        return
    settle(AttemptOutcome.REFUSED, why=reply.detail)
    raise error


def until(work: Work, found: Callable[[], T | None], what: str, seconds: float | None = None) -> T:
    """Look until it is shown, for as long as changes take to arrive. Raises NotYetError."""
    most = arrival_seconds(work.tenant.profile) if seconds is None else seconds
    result, waited = work.patience.until(found, most, lambda waited: f"waiting until {what} is shown")
    if result is None:
        raise NotYetError(
            f"{what} is not shown yet, {waited:.0f} seconds after the change",
            where=work.tenant.address.name,
            mend="run the same command again in a while; nothing is made twice",
        )
    return result  # type: ignore[no-any-return]


def finished(work: Work, step: Step, kind: Any, identity: str) -> None:
    """Wait, within what was asked for, until a thing that was accepted is made. Raises NotYetError, RefusedError."""

    def look() -> str | None:
        record = work.tenant.read(kind, identity)
        return "gone" if record is None else None if record.progress == "accepted" else record.progress

    state, _ = work.patience.until(
        look, work.patience.most_seconds, lambda waited: f"waiting until {step.about} is made, {waited:.0f} s"
    )
    if state is None:
        raise NotYetError(
            f"{_made(step)}: the tenant accepted it, and is still making it",
            where=step.tenant,
            mend="run the same command again in a while, or with --wait 10m; nothing is made twice",
        )
    if state == "failed":
        raise RefusedError(
            f"{_made(step)}: the tenant accepted it, and could not make it",
            where=step.tenant,
            mend="run `sigillum enact` again: it ends the failed one and makes another",
        )


def _made(step: Step) -> str:
    """What a step waits for, or makes."""
    return step.about.removeprefix("until the tenant has made ")
