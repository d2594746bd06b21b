"""Retire: end all that a charter made, show that it is refused, and write down what is left."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from sigillum.core.charter.charter import CredentialWant
from sigillum.core.charter.credential_kinds import KEY_PAIR
from sigillum.core.comparing.retiring import IDENTITIES, which
from sigillum.core.facets.registry import words
from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records.history import GIVEN_BACK, RETIRED, RETIRING, Generation, History, State
from sigillum.core.undertakings.requests import REQUESTS
from sigillum.core.undertakings.rotating import ROTATIONS
from sigillum.core.undertakings.rotation import tokens_over
from sigillum.core.undertakings.suspension import SUSPENSIONS
from sigillum.core.undertakings.undertaking import Undertaking
from sigillum.core.values.errors import (
    NotYetError,
    Outcome,
    RefusedError,
    SigillumError,
    SomebodyError,
    worst,
)
from sigillum.core.values.times import format_instant, parse_instant, whole_second
from sigillum.keeping.files import NotKeptError
from sigillum.ledger.port import Fresh
from sigillum.tenants.port import SignedIn
from sigillum.workflows.desk.closing import closing
from sigillum.workflows.desk.ledgers import keep_witness
from sigillum.workflows.desk.office import BRIEFLY_SECONDS, CLAIM, Office, nothing
from sigillum.workflows.enacting.carrying.run import Became, Carrying
from sigillum.workflows.enacting.undertakings import asking
from sigillum.workflows.lending.lend import want_back
from sigillum.workflows.proving.trials import principal_of, proof_of
from sigillum.workflows.proving.ways_in import OtherWay, others
from sigillum.workflows.rotating.stages import keep_token, kept_token

from .plan import Left, Plan
from .suspend import Effect
from .ways import Way, again, old_token

SORTS: tuple[Undertaking[Any], ...] = (ROTATIONS, SUSPENSIONS, REQUESTS)


@dataclass(slots=True)
class Retired(Effect):
    """What became of it."""

    plan: Plan
    removed: list[str] = field(default_factory=list)
    done: bool = False

    def outcome(self) -> Outcome:
        return worst([e.outcome for e in self.problems])


def retire(office: Office, plan: Plan, because: str) -> Retired:
    """Carry it out; what is not finished goes on when the same is said again. Raises MachineError, StoppedError."""
    done = Retired(plan)
    with office.books.writable_ledger().claim(CLAIM, BRIEFLY_SECONDS):
        try:
            _retire(office, plan, because, done)
        except SigillumError as problem:
            if problem.outcome in (Outcome.MACHINE, Outcome.INTERRUPTED):
                raise
            done.errors.append(problem)
        finally:
            keep_witness(office)
    return done


def _retire(office: Office, plan: Plan, because: str, done: Retired) -> None:
    if plan.noticed:
        office.books.writable_ledger().append(plan.noticed)
    before = _let_in(office, plan)
    principal = plan.history.principal_id(plan.charter.tenant)
    doors = list(others(office.tenants.reach(plan.charter.tenant), plan.charter, plan.history, principal)) if principal else []
    if not plan.history.retiring:
        office.books.writable_ledger().append(
            [
                Fresh(
                    RETIRING,
                    plan.uid,
                    {"because": because, "tenant": plan.charter.tenant, "by": office.tenants.name_of(plan.charter.tenant)},
                )
            ]
        )
        office.settings.boundary("retirement written")
    for loan in plan.loans:
        want_back(office, loan, done.results)
    if office.tenants.by_person(s.tenant for s in plan.found.outline.steps):
        from sigillum.workflows.handing.worksheet import write_steps

        write_steps(office, plan.charter.name, plan.found.outline.steps)

    uid, name = plan.uid, plan.charter.name
    ports = office.ports(uid, name, nothing, asking(office, uid, name), nothing)
    Carrying(ports, plan.history).run(plan.found.outline, done.results.append)
    if any(r.state is not Became.DONE for r in done.results):
        return
    done.ways = [*_refused(office, plan, before), *(_closed_door(office, plan, d) for d in doors)]
    if any(w.refused is False for w in done.ways):
        _wait_or_tell(office, plan)
    done.plan = plan = replace(plan, left=tuple(left for left in plan.left if not left.grant or _stands(office, plan, left)))
    _close(office, plan, because, done)


def _stands(office: Office, plan: Plan, left: Left) -> bool:
    """Does a grant of somebody else's outlive its account?"""
    query = Query(GRANT, "principal", plan.history.principal_id(left.where))
    fact = office.tenants.reach(left.where).facts([query])[query]
    return not fact.known or any(r.id == left.grant for r in fact.records)


# --- ways in ----------------------------------------------------------------------------------------------------------
def _credentials(plan: Plan) -> Iterator[tuple[CredentialWant, Generation]]:
    """Every generation of those at home, as far as the ledger knows how it proves something."""
    kinds = {c.name: c.kind for c in plan.charter.credentials}  # of what was taken over, nothing else tells it
    for mark, all_ in plan.history.generations.items():
        for made in (
            g
            for g in all_
            if g.kind == CREDENTIAL.name and mark.tenant == plan.charter.tenant and not g.value and mark.get("name")
        ):  # a bridge has no key of its own
            name = mark.get("name")
            yield CredentialWant(name, str(made.terms.get("kind") or kinds.get(name, KEY_PAIR)), 0, 0), made


def _let_in(office: Office, plan: Plan) -> dict[tuple[str, int], SignedIn]:
    """A token with each credential that is kept here, got while it still works, and kept until it is shown to be refused."""
    out = dict[tuple[str, int], SignedIn]()
    keys, tenant = office.keepings.of(plan.uid), office.tenants.reach(plan.charter.tenant)
    for want, made in _credentials(plan):
        of = want.name, made.number
        kept = kept_token(keys, *of)
        if kept is not None:
            out[of] = kept
        elif made.state is State.MADE and keys.path(*of).exists():
            try:
                signed_in = tenant.sign_in(proof_of(keys, want, made.number, principal_of(office, plan.charter, plan.history)))
            except (RefusedError, NotKeptError):  # it did not work before, so its refusal would show nothing
                continue
            if tenant.taken(signed_in) is not False:
                keep_token(keys, *of, signed_in)
                out[of] = signed_in
                office.settings.boundary(f"token of {want.name} kept")
    return out


def _refused(office: Office, plan: Plan, before: Mapping[tuple[str, int], SignedIn]) -> Iterator[Way]:
    """Each way in again, after all has ended; a refusal counts beside the sign-in that was let in just before."""
    keys, tenant = office.keepings.of(plan.uid), office.tenants.reach(plan.charter.tenant)
    for want, made in _credentials(plan):
        name = f"{want.name}{which(plan.history, made.mark, made.number)}"
        token = before.get((want.name, made.number))
        if token is not None:
            if keys.path(want.name, made.number).exists():
                yield _again(office, plan, want, made, token.principal)
            yield old_token(tenant, name, token)
        elif made.state is State.MADE:
            yield Way.tried(f"sign-in with {name}", None, "not tried: it is not kept here, or was not let in before")


def _closed_door(office: Office, plan: Plan, door: OtherWay) -> Way:
    """A way in without a credential: gone where its record is; else it leads to nobody, which nobody here can try."""
    query = Query(door.record.kind, "id", door.record.id)
    fact = office.tenants.reach(plan.charter.tenant).facts([query])[query]
    if not fact.known:
        return Way.tried(door.words, None, f"not shown: {fact.unknown}")
    if fact.first is None:
        return Way.tried(door.words, False, "the tenant has it no more")
    return Way.tried(door.words, None, "it is still shown there, for an identity that has ended: delete it, or ask its owner")


def _again(office: Office, plan: Plan, want: CredentialWant, made: Generation, principal: str) -> Way:
    """One way in tried once more, where what it takes is still kept."""
    what = f"sign-in with {want.name}{which(plan.history, made.mark, made.number)}"
    try:
        proof = proof_of(office.keepings.of(plan.uid), want, made.number, principal)
    except NotKeptError as problem:
        return Way.tried(what, None, f"not tried: {problem.what}")
    return again(office.tenants.reach(plan.charter.tenant), what, proof)


def _wait_or_tell(office: Office, plan: Plan) -> None:
    """A token may outlive all that it came from: then its life is waited out. Raises NotYetError, SomebodyError."""
    name, tenant = plan.charter.name, office.tenants.reach(plan.charter.tenant)
    _, history = office.books.history(name)
    ended = max((g.ended_at for all_ in history.generations.values() for g in all_ if g.ended_at), default="")
    now = office.tenants.now(plan.charter.tenant)
    kinds = {want.kind for want, _ in _credentials(plan)}
    over = tokens_over(tenant.profile, parse_instant(ended), *kinds) if ended else now
    if now < over:
        raise NotYetError(
            f"all that {name} made has ended; tokens that it got before may live until {format_instant(over)}",
            where=plan.charter.tenant,
            mend="run the same command again then",
        )
    raise SomebodyError(
        f"{name} is still let in, although all that it made has ended",
        where=plan.charter.tenant,
        mend="ask whoever operates the tenant",
    )


def _close(office: Office, plan: Plan, because: str, done: Retired) -> None:
    """The close-out list goes into the ledger, with what was under way as closed; and then the keys are removed."""
    keys, ledger = office.keepings.of(plan.uid), office.books.writable_ledger()
    _, history = office.books.history(plan.charter.name)
    made = sorted((g for all_ in history.generations.values() for g in all_ if g.ended_at), key=lambda g: g.ended_at)
    ended = [{"tenant": g.mark.tenant, "what": _words_for(plan, g), "at": _second(g.ended_at)} for g in made]
    done.removed = [*keys.names(), *_left_in_vaults(office, plan, history)]
    closed = [
        closing(sort, under_way, "retired")
        for sort in SORTS
        for under_way in office.books.begun(sort)
        if under_way.uid == plan.uid
    ]
    back = [Fresh(GIVEN_BACK, plan.uid, {**g.mark.body(), "generation": g.number}) for g in plan.found.given_back]
    ledger.append(
        [
            *closed,
            *back,
            Fresh(
                RETIRED,
                plan.uid,
                {
                    "name": plan.charter.name,
                    "tenant": plan.charter.tenant,
                    "because": history.retiring or because,
                    "at": format_instant(whole_second(office.tenants.now(plan.charter.tenant))),
                    "by": office.tenants.name_of(plan.charter.tenant),
                    "ended": ended,
                    "ways": [w.body() for w in done.ways],
                    "removed": done.removed,
                    "left": [entry._asdict() for entry in plan.left],
                },
            ),
        ]
    )
    office.settings.boundary("retired")
    office.keepings.remember(plan.uid, history)
    keys.clear_all()
    office.settings.boundary("keys removed")
    done.done = True


def _left_in_vaults(office: Office, plan: Plan, history: History) -> list[str]:
    """What a kill left in a store or keyring before a file named it goes, too."""
    out = list[str]()
    for want in plan.charter.credentials:
        made = [g.number for m, all_ in history.generations.items() for g in all_ if m.get("name") == want.name]
        out += office.keepings.of(plan.uid).swept(want.place, want.name, range(1, max(made, default=0) + 2))
    return out


def _words_for(plan: Plan, made: Generation) -> str:
    if made.kind in IDENTITIES and not made.value:
        return f"the {made.kind} {plan.charter.identity.name}"
    return f"{words(made.mark)}{which(plan.history, made.mark, made.number)}"


def _second(at: str) -> str:
    return format_instant(whole_second(parse_instant(at)))


def close_out(office: Office, name: str) -> Mapping[str, Any] | None:
    """The close-out list of a charter that was retired; None: it was not. What a kill left of its keys is removed."""
    uid, history = office.books.history(name)
    if not history.retired_at:
        return None
    office.keepings.of(uid).clear_all()
    found: Mapping[str, Any] = list(office.books.ledger().entries(uid, kind=RETIRED))[-1].body
    return found
