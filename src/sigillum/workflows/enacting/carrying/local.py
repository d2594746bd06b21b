"""What is done here, or waited for, or asked: keeping, adopting, catching a secret, proving."""

from __future__ import annotations

from sigillum.core.kinds.kind import Record, inside, members
from sigillum.core.kinds.profile import SEALED
from sigillum.core.records.history import ADOPTED, FOUND, KEPT, AttemptOutcome, Verb
from sigillum.core.records.steps import (
    Adopt,
    Ask,
    Await,
    Catch,
    Certify,
    Complete,
    KeepKey,
    KeepSecret,
    Prove,
    Step,
    Turning,
)
from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.errors import NotYetError, SigillumError, SomebodyError
from sigillum.core.values.times import parse_instant
from sigillum.tenants.port import Reply, Result

from .attempt import Ready, attempt, finished, until
from .documents import noted, unsure
from .files import complete
from .ports import AgainError, Settle
from .work import Work, Yields


def keep_key(work: Work, step: Step, action: KeepKey) -> Yields:
    public = work.keeping.keep_key(action.credential, action.generation, action.algorithm, action.keep_in)
    work.journal.write(KEPT, step, what=thumbprint(public))
    return {"public_key": public}


def certify(work: Work, step: Step, action: Certify) -> Yields:
    start, until_ = parse_instant(action.start), parse_instant(action.until)
    der = work.keeping.certify(action.credential, action.generation, action.subject, start, until_, action.der)
    work.journal.boundary(f"{step.id} certified")
    return {"certificate": {"der": der}}


def keep_secret(work: Work, step: Step, action: KeepSecret) -> Yields:
    chosen = work.ports.chosen(action.source) if action.source else None
    known = work.history.latest(step.mark)
    sent = known is not None and known.number == step.generation and known.unanswered  # it may stand there already
    work.keeping.keep_password(
        action.credential, action.generation, None if sent else chosen, {"tenant": step.tenant}, action.keep_in
    )
    work.journal.write(KEPT, step, what="secret")
    return {}


def adopt(work: Work, step: Step, action: Adopt) -> Yields:
    begun = work.history.latest(step.mark) if action.found else None
    if begun is not None and unsure(work, action.kind, action.id, begun.foreseen):
        noted(work, step, action.kind, action.id, begun.terms)
        return {"id": action.id}
    terms = begun.terms if begun is not None and begun.number == step.generation else action.terms
    until_ = terms.get("until")
    work.journal.write(
        FOUND if action.found else ADOPTED,
        step,
        id=action.id,
        thing=action.kind.name,
        **({"value": action.value} if action.value else {}),
        **({"until": until_} if until_ else {}),
        **({"terms": dict(action.terms)} if action.terms else {}),
    )
    return {"id": action.id}


def ask(work: Work, step: Step, action: Ask) -> Yields:
    waits = [n for n in step.needs if n not in work.yields]
    doing = work.resolved(action.action) if action.action is not None else None
    work.ports.ask(step, doing, waits)
    if action.stopped:
        raise SomebodyError(
            "what somebody else stopped stays stopped",
            where=step.tenant,
            mend="find out who stopped it, and why; `sigillum enact --switch-on` switches it on again; where Sigillum "
            "itself may have done it, `--ours WHO` notes who says so",
        )
    raise SomebodyError(
        f"{step.about}: somebody has to act first",
        where=step.tenant,
        mend=action.advice or f"run `sigillum enact {action.charter_first}`, then this one again",
    )


def carry_proofs(work: Work, step: Step, action: Prove) -> Yields:
    work.ports.prove(step)
    return {}


def turning(work: Work, step: Step, action: Turning) -> Yields:
    work.ports.turn(step)
    return {}


def completed(work: Work, step: Step, action: Complete) -> Yields:
    complete(work, step, action.about, action.id)
    return {"id": action.id}


def await_(work: Work, step: Step, action: Await) -> Yields:
    if action.finished:
        finished(work, step, action.kind, action.id)
        return {"id": action.id}
    if action.only:
        return _started(work, step, action)

    def shown() -> Record[object] | None:
        record = work.tenant.read(action.kind, action.id)
        there = record is not None and (not action.field or inside(record, action.field, action.value))
        return record if there else None

    seen = until(work, shown, step.about.removeprefix("until the tenant shows "), action.seconds)
    return {"id": seen.id, "client_id": seen.value("client_id")}


def _started(work: Work, step: Step, action: Await) -> Yields:
    """Wait, within what was asked for, until somebody did what we cannot. Raises NotYetError."""

    def look() -> bool | None:
        record = work.tenant.read(action.kind, action.id)
        return True if record is not None and set(members(record, action.field)) == {action.value} else None

    done, _ = work.patience.until(look, work.patience.most_seconds, lambda waited: f"waiting {step.about}, {waited:.0f} s")
    if done is None:
        raise NotYetError(
            f"it is still waited {step.about}",
            where=step.tenant,
            mend="have it started anew, then run the same command again, or with --wait 10m",
        )
    return {"id": action.id}


def catch(work: Work, step: Step, action: Catch) -> Yields:
    """Fetch a secret that only the tenant can make, and keep it durably before anything else."""
    tenant, identity, first = work.tenant, str(work.value(action.id)), [True]

    def done(reply: Reply, settle: Settle) -> bool | None:
        again, first[0] = not first[0], False
        if reply.result is Result.DONE and reply.secret is not None:
            work.keeping.keep_secret(
                action.credential, action.generation, reply.secret, {"tenant": step.tenant}, action.keep_in
            )
            work.journal.boundary(f"{step.id} kept here")
            settle(AttemptOutcome.CHANGED)
            work.journal.write(KEPT, step, what="secret")
            complete(work, step, action.about, identity)
            return True
        if reply.result is Result.LOST and tenant.profile.secret_delivery != SEALED:
            settle(AttemptOutcome.LOST, why=reply.detail)
            raise AgainError(f"{step.about}: the answer was lost, and it is given once only")
        if reply.result in (Result.REFUSED, Result.MISSING) and not again:
            settle(AttemptOutcome.REFUSED, why=reply.detail)
            raise reply.error if isinstance(reply.error, SigillumError) else AgainError(reply.detail)
        return None

    attempt(work, step, Verb.FETCH, {"id": identity}, Ready(lambda: tenant.fetch_secret(identity)), done, id=identity)
    return {}
