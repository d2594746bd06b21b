"""Taking an undertaking as far as it goes now: its steps are carried out in its own stream, and its end is written down."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

from sigillum.core.facets.seen import arrival_seconds
from sigillum.core.kinds.changes import Doing
from sigillum.core.records.steps import Outline, Step
from sigillum.core.undertakings.suspension import ON_AGAIN, PERHAPS
from sigillum.core.undertakings.undertaking import Look, Next, S, Undertaking
from sigillum.core.values.errors import NotYetError, SomebodyError
from sigillum.core.values.marks import StepId
from sigillum.tenants.port import Tenant
from sigillum.workflows.desk.closing import close
from sigillum.workflows.desk.office import Office, nothing

from .carrying.ports import Asking
from .carrying.run import Carrying, StepResult

MOST_STAGES = 20
MENDS = {  # by the code of what an undertaking waits for
    "not-asked": "run `sigillum enact`: it ends what the charter does not ask for",
    "ended-elsewhere": "find out who ended it, and why; where it was you, `sigillum rotate --ours WHO` notes whose word it is, "
    "and the next one is made",
    "gap": "`sigillum rotate --gap` does it when you say; a second account is the way without a gap",
    "in-place": "let its consumers try NAME.next.json where they are refused; `sigillum rotate --gap` does it when you say",
    "room": "end one that nobody needs, then run the same command again",
    "owed": "`sigillum handover` gives it to them",
    "word": "ask them, and say whose word it is: `sigillum rotate --taken WHO`, best with `--last-used DAY` of the old one",
    "again": "have them look when the old one was used last: `sigillum rotate --taken WHO --last-used DAY`",
    "late": "have them fetch the new one; `sigillum rotate --bridge 7d` lets them use the old key longer, where the tenant "
    "allows it, and `--end-old` ends it at any rate",
    "paused": "run the same command again then; where somebody misses it, `sigillum rotate --back` switches it on again",
    "back": "have them fetch the new one; then `sigillum rotate --pause` goes on, or `--end-old` ends the old one",
    "touched": "find out who, and why; `sigillum rotate --end-old` ends it at any rate",
    ON_AGAIN: "`sigillum suspend` switches it off once more, `sigillum reinstate` ends the suspension",
    PERHAPS: "`sigillum reinstate --switch-on` switches it on, `--ours WHO` notes who says that it was us; "
    "`suspend --back-anyway` agrees to that beforehand",
    "copy": "go on there; where that copy is gone, `sigillum enact --lost` begins the next generation",
    "kept-here": "write `keep_in: file` at the credential, then run the same command again: the next key is made here",
    "holder": "ask its holder, and write `public_key: file:PATH` at the credential",
}


def asking(office: Office, uid: str, about: str) -> Asking:
    """Writes requests for the steps of one stream."""

    def ask(step: Step, doing: Doing | None, waits: Sequence[StepId]) -> None:
        from sigillum.workflows.handing.asking import ask as write_request

        write_request(office, uid, about, step, doing, waits)

    return ask


def advance(
    office: Office,
    sort: Undertaking[S],
    undertaking: S,
    reached: Callable[[StepResult], None] = nothing,
    *,
    wanted: frozenset[StepId] = frozenset(),
    around: Callable[[S], Any] = nothing,
    prove: Callable[[Step], None] = nothing,
    turn: Callable[[Step], None] = nothing,
) -> None:
    """Under the ledger's lock; each result is given when it is reached. Raises MachineError, SomebodyError, NotYetError.

    `wanted`: what its charter still asks somebody for; `around`: what else this sort looks at, at each stage anew; `prove`,
    `turn`: how its steps of these sorts are done.
    """
    tenant, stopped = office.tenants.reach(undertaking.tenant), False

    def gone_on(result: StepResult) -> None:
        nonlocal stopped
        stopped = stopped or result.error is not None
        reached(result)

    for _ in range(MOST_STAGES):
        seen = look_of(tenant, around(undertaking), wanted)
        follows = sort.next(undertaking, seen, office.tenants.now(undertaking.tenant))
        if follows.waits:
            usual = "run the same command again in a while" if follows.early else "ask with an administrator who may look"
            kind = NotYetError if follows.early else SomebodyError
            raise kind(follows.waits, where=undertaking.tenant, mend=MENDS.get(follows.code, usual))
        if follows.closed:
            close(office, sort, undertaking, follows.closed, **({"state": follows.code} if follows.code else {}))
        if stopped or not follows.steps:
            return
        carry_out(office, undertaking.uid, follows.steps, gone_on, prove, turn)
        undertaking = office.books.again(sort, undertaking)


def look_of(tenant: Tenant, around: Any = None, wanted: frozenset[StepId] = frozenset()) -> Look:
    """What a stage machine may look at in a tenant now, fact by fact as it asks."""
    return Look(lambda query: tenant.facts([query])[query], wanted, arrival_seconds(tenant.profile), around)


def follows(office: Office, sort: Undertaking[S], undertaking: S) -> Next:
    """What would follow for an undertaking now; nothing is done."""
    seen = look_of(office.tenants.reach(undertaking.tenant))
    return sort.next(undertaking, seen, office.tenants.now(undertaking.tenant))


def carry_out(
    office: Office,
    uid: str,
    steps: tuple[Step, ...],
    reached: Callable[[StepResult], None],
    prove: Callable[[Step], None] = nothing,
    turn: Callable[[Step], None] = nothing,
) -> None:
    """Steps of one stream that are no charter's outline, with the executor and its journal. Raises MachineError."""
    office.books.writable_ledger()
    state = office.books.state(uid)
    steps = tuple(replace(s, by=office.tenants.acting(s.tenant, s.power)) for s in steps)
    about = office.books.ledger().name_of(uid) or uid.replace("-", " ")
    if office.tenants.by_person(s.tenant for s in steps):
        from sigillum.workflows.handing.worksheet import write_steps

        write_steps(office, about, steps)
    Carrying(office.ports(uid, about, prove, asking(office, uid, about), turn), state).run(Outline(uid, steps), reached)
