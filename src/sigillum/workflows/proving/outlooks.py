"""What is to be expected of a proof that does not hold: not yet, or never; and waiting for it where it is early."""

from __future__ import annotations

import time
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from sigillum.core.charter.charter import ProofWant
from sigillum.core.deciding.proofs import Result, control_for
from sigillum.core.deciding.refusals import ABOUT, Cause
from sigillum.core.kinds.access import Role
from sigillum.core.kinds.identities import ACCOUNT, PRINCIPAL, TEAM
from sigillum.core.kinds.kind import Record
from sigillum.core.kinds.signing import CREDENTIAL, RULE
from sigillum.core.records import history
from sigillum.core.values.errors import (
    SigillumError,
    SomebodyError,
)
from sigillum.core.values.worlds import Observed
from sigillum.ledger.port import Fresh
from sigillum.workflows.desk import lookup
from sigillum.workflows.desk.settings import Progress
from sigillum.workflows.desk.tenants import time_of

from .trials import Trying, sign_in, try_one

if TYPE_CHECKING:  # loaded when a proof does not hold
    from sigillum.core.deciding.values import Question
    from sigillum.core.deciding.waiting import Outlook
    from sigillum.core.deciding.world import World

# of the `Date` of an answer, by which a tenant's clock is read: what was made a moment ago may lie behind our reading
CLOCK_GRAIN = timedelta(seconds=1)
TOLD_SECONDS = 1.0  # how often it is said how long it has been


def _question(trying: Trying, proof: ProofWant, at: datetime, credential: str) -> Question:
    """What a proof asks, of the principal that is tried."""
    from sigillum.core.deciding.values import Question

    return Question(trying.principal, proof.permission, proof.at, at, credential, trying.people.get(proof.person, ""))


def without(trying: Trying, results: list[Result]) -> list[Result]:
    """What must work has to do so without what is leaving, too: tried it was with it, so that is decided."""
    seen = world_of(trying)
    if seen is None:
        return results
    world, now, _, credential = seen

    def one(result: Result) -> Result:
        proof = result.proof
        decision = world.decide(_question(trying, proof, now + CLOCK_GRAIN, credential))
        if result.held is not True or not proof.allowed or decision.allowed is not False:
            return result
        return result.spoilt("it works, and would not without what is leaving", allowed=False)

    return [one(r) for r in results]


def weighed(trying: Trying, results: list[Result]) -> list[Result]:
    """A refusal that was wished holds only where it shows that the right is missing: by the facts, else by a control."""
    from sigillum.core.deciding.shown import Shown, shown
    from sigillum.core.deciding.waiting import NEVER, NOT_YET, Outlook

    if not any(r.held is True and not r.proof.allowed for r in results):
        return results
    seen = world_of(trying)

    def one(result: Result) -> Result:
        proof = result.proof
        if result.held is not True or proof.allowed:
            return result
        found = Shown(None, Cause.FACTS_UNKNOWN, "the tenant does not show what decides")
        if seen is not None:
            world, now, _, credential = seen
            found = shown(world, _question(trying, proof, now + CLOCK_GRAIN, credential))
        if found.yes is True or (proof.during and found.cause is Cause.WINDOW_WAITING):
            return result
        if found.yes is None:
            control = control_for(result, results, trying.tenant.profile.operations)
            if control is not None:
                return result._replace(said=f"{result.said}; shown beside it: {control.proof.words()}")
        state, mend = NOT_YET if found.early else NEVER, ABOUT[found.cause].mend if found.cause in ABOUT else ""
        outlook = Outlook(state, found.cause, found.text, mend)
        return result.spoilt(found.text, outlook=outlook) if found.begins is not None else result.unshown(found.text, outlook)

    return [one(r) for r in results]


def pending(result: Result) -> bool:
    """Is it worth looking at again: not as wished, or refused for something that passes by itself?"""
    return result.held is False or (result.held is None and result.outlook is not None and result.outlook.state == "not-yet")


def wait(trying: Trying, results: list[Result]) -> tuple[list[Result], float]:
    """Poll what does not hold yet, with growing pauses, within the patience that was given; stop at once at a *never*."""
    from sigillum.core.deciding.waiting import NEVER, pauses

    office, waited, changes = trying.office, 0.0, set[datetime]()
    most, begun = office.settings.wait_seconds, time.monotonic()
    results, usual = _looked(trying, results), _usual(trying)
    for pause in pauses():
        early = [r for r in results if pending(r)]
        outlooks = [r.outlook for r in early]
        if not early or waited >= most or any(o is None or o.state == NEVER for o in outlooks):
            break
        changes |= {o.since for o in outlooks if o is not None and o.since is not None}
        due = [(o.due - time_of(trying.tenant)).total_seconds() for o in outlooks if o is not None and o.due is not None]
        pause = max(0.05, min([pause, most - waited, *(d for d in due if d > 0)]))
        _sleep(trying, early, waited, pause, usual)
        waited = max(waited + pause, time.monotonic() - begun)
        signed_in, shown = sign_in(trying)
        tried = weighed(trying, [try_one(trying, signed_in, shown, r.proof) if pending(r) else r for r in results])
        results = _looked(trying, without(trying, tried) if trying.without else tried)
    if changes and all(r.held for r in results):
        seconds = max(0, int((time_of(trying.tenant) - max(changes)).total_seconds()))
        office.books.writable_ledger().append(
            [Fresh(history.FELT, trying.state.charter, {"tenant": trying.tenant.address.name, "seconds": seconds})]
        )
    return results, waited


def _sleep(trying: Trying, early: list[Result], waited: float, pause: float, usual: float | None) -> None:
    """Pause, and tell each second how long it has been."""
    left = pause
    while left > 0:
        words = _waiting_words(trying, early, waited + pause - left, usual)
        trying.office.settings.progress(Progress(trying.charter.name, words))
        trying.office.settings.pause(min(left, TOLD_SECONDS))
        left -= TOLD_SECONDS


def _looked(trying: Trying, results: list[Result]) -> list[Result]:
    """With the outlook of each expectation that does not hold."""
    from sigillum.core.deciding.foreseen import spoiling
    from sigillum.core.deciding.waiting import outlook

    stopped = _stopped(trying) if any(r.held is False for r in results) else None
    if stopped is not None:
        return [r._replace(outlook=stopped) if r.held is False and r.proof.allowed else r for r in results]
    # where it was allowed as it should be, what was read is not what was expected: no change mends that
    seen = world_of(trying, explains=True) if any(r.held is False and r.allowed is not None for r in results) else None
    if seen is None:
        return results
    world, now, roles, credential = seen
    patience = timedelta(seconds=trying.office.settings.wait_seconds)
    spoiled = spoiling(world, trying.principal, trying.charter.proofs, now, trying.people)

    def looked(result: Result) -> Result:
        if result.held is not False or result.allowed is None or result.outlook is not None:
            return result
        question = _question(trying, result.proof, now, credential)
        return result._replace(outlook=outlook(world, question, result.proof.allowed, patience, roles, spoiled))

    return [looked(r) for r in results]


def _stopped(trying: Trying) -> Outlook | None:
    """What a sign-in rule says of an account that signs in with its password: an answer does not tell it from a wrong one."""
    from sigillum.core.deciding.sign_in import NETWORK, Attempt
    from sigillum.core.deciding.waiting import NEVER, Outlook
    from sigillum.workflows.surveying.sign_in import sign_in

    if trying.credential is None or not trying.credential.is_a.typed or trying.tenant.profile.carried(RULE) is None:
        return None
    try:
        told = sign_in(trying.office, trying.principal, Attempt(), trying.tenant.address.name, ask_tenant=False)
    except SomebodyError:
        return None
    if told.verdict.allowed:
        return None
    rule, demand = told.verdict.rule, told.verdict.demand
    if demand == NETWORK:
        return Outlook(
            NEVER,
            Cause.SIGN_IN_REFUSED,
            f"the sign-in rule {rule} lets it in from its networks only",
            "prove it from there, or add this machine's network to `sign_in: networks:`",
        )
    return Outlook(
        NEVER,
        Cause.SIGN_IN_REFUSED,
        f"it cannot sign in unattended: {rule} demands {demand}",
        "exempt it: `sign_in: exempt:` says who accepts the risk",
    )


def world_of(
    trying: Trying, *, explains: bool = False
) -> tuple[World[Observed], datetime, tuple[Record[Role], ...], str] | None:
    """What is known for deciding; None where the tenant does not show it. `explains`: with all roles, of which one may help."""
    from sigillum.core.deciding import gathering

    kind = TEAM if trying.charter.is_team else PRINCIPAL if trying.charter.is_client else ACCOUNT
    record = trying.tenant.read(kind, trying.principal)
    if record is None:
        return None
    try:
        seen = lookup.snapshot(
            trying.office,
            trying.tenant,
            record,
            [p.at for p in trying.charter.proofs],
            [gathering.ALL_ROLES] if explains else [],
            credentials=trying.credential is not None and trying.home is None,
            people=list(trying.people.values()),
            known=trying.seen,
        )
    except SigillumError:
        return None
    trying.seen.clear()  # whoever looks later looks again
    world = gathering.world_of(seen.known(), seen.profile)
    world.rights = [r for r in world.rights if r.id not in trying.without]
    lookup.holds(trying.office, world)
    lookup.leaving(trying.office, world, record, trying.charter.name)
    generation = (
        trying.state.find(CREDENTIAL, trying.charter.tenant, name=trying.credential.name)
        if trying.credential is not None
        else None
    )
    identity = generation.id if generation is not None else ""
    return world, seen.now, seen.ask(gathering.ALL_ROLES).records, identity if identity in world.credentials else ""


def _usual(trying: Trying) -> float | None:
    """How long changes usually take at this tenant, in seconds: as measured from here, else as it announces."""
    from sigillum.core.deciding.waiting import usual_seconds

    office, name = trying.office, trying.tenant.address.name
    measured = [float(e.body["seconds"]) for e in office.books.ledger().entries(kind=history.FELT) if e.body["tenant"] == name]
    return usual_seconds(measured[-20:], trying.tenant.profile.felt_seconds)


def _waiting_words(trying: Trying, early: list[Result], waited: float, usual: float | None) -> str:
    """Elapsed against usual, and what is waited for."""
    since = [r.outlook.since for r in early if r.outlook is not None and r.outlook.since is not None]
    elapsed = (time_of(trying.tenant) - min(since)).total_seconds() if since else waited
    against = f" of usually {usual:.0f} s" if usual else ""
    return f"not yet: {early[0].proof.words()} · {elapsed:.0f} s{against}"
