"""Prove: sign in as the identity, with a fresh token, and try what must work and what must not; wait where it is early."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from sigillum.core.charter.charter import KEY_PAIR, PASSWORD, Charter, CredentialWant, ProofWant
from sigillum.core.comparing.compare import proofs_digest
from sigillum.core.deciding.proofs import Manner, Result, Trial, judge, manner_of
from sigillum.core.kinds.access import PLACE, Place, Role
from sigillum.core.kinds.identities import ACCOUNT, CLIENT, PRINCIPAL, TEAM
from sigillum.core.kinds.kind import Query, Record
from sigillum.core.kinds.signing import CREDENTIAL, RULE
from sigillum.core.records import history
from sigillum.core.records.history import History
from sigillum.core.records.steps import Prove
from sigillum.core.values.errors import (
    NotYetError,
    Outcome,
    SigillumError,
    SomebodyError,
    UnprovedError,
    UsageError,
)
from sigillum.core.values.text import did_you_mean
from sigillum.keys.store import KeyStore
from sigillum.ledger.port import Fresh
from sigillum.tenants.port import Proof, SignedIn, Tenant

from . import lookup
from .office import Office, Progress

ALL = Prove()
TOLD_SECONDS = 1.0  # how often it is said how long it has been

if TYPE_CHECKING:  # loaded when a proof does not hold
    from sigillum.core.deciding.waiting import Outlook
    from sigillum.core.deciding.world import World


@dataclass(frozen=True, slots=True)
class ProofReport:
    """All results of one charter, and as whom they ran; `before` tells what held before, where that was recorded."""

    charter: str
    principal: str
    ran_as: str
    credential: str
    results: tuple[Result, ...] = ()
    before: Mapping[str, bool | None] = field(default_factory=dict)
    waited_seconds: float = 0.0
    recorded_before: bool = False

    @property
    def held(self) -> bool:
        return all(r.held is True for r in self.results)

    def outcome(self) -> Outcome:
        if self.held or self.recorded_before:
            return Outcome.DONE
        early = all(r.outlook is not None and r.outlook.state == "not-yet" for r in self.results if r.held is not True)
        return Outcome.NOT_YET if early else Outcome.NO

    def error(self) -> SigillumError:
        """What is raised where an ending waits for this proof."""
        wrong = next((r for r in self.results if r.held is not True), None)
        told = f"{wrong.proof.words()}: {wrong.outlook.text if wrong.outlook is not None else wrong.said}" if wrong else ""
        kind = NotYetError if self.outcome() is Outcome.NOT_YET else UnprovedError
        return kind(f"what replaces it is not proved: {told}", where=self.charter,
                    mend="what was to end stays until it is; run `sigillum enact` again, or with --wait 10m")


@dataclass(frozen=True, slots=True)
class Trying:
    """Everything that one round of trying needs."""

    office: Office
    charter: Charter
    tenant: Tenant
    state: History
    keys: KeyStore
    principal: str
    credential: CredentialWant | None
    places: Mapping[str, Record[Place] | None]
    people: Mapping[str, str]  # their ids, by the names in the charter
    without: tuple[str, ...] = ()  # grants as if they had ended
    home: Tenant | None = None  # away from home: where the identity signs in first
    home_principal: str = ""


def prove(office: Office, charter: Charter, *, with_: str = "") -> ProofReport:
    """Put every proof of a charter to the test and write the result down. Raises SomebodyError, UsageError."""
    _needs_proofs(charter)
    uid, state = office.state(charter.name)
    if not uid:
        raise SomebodyError(f"{charter.name} was never enacted here", where=charter.name,
                            mend=f"run `sigillum enact {charter.name}` first")
    principal = principal_of(office, charter, state)
    if not principal:
        raise SomebodyError(f"the identity of {charter.name} does not exist yet", where=charter.tenant,
                            mend=f"run `sigillum enact {charter.name}` first")
    return run(office, charter, state, office.keys(uid), principal, Prove(credential=with_))


def principal_of(office: Office, charter: Charter, state: History) -> str:
    """The identity's principal id; where a tenant has no service principals, the client acts as itself."""
    registered = state.find(CLIENT, charter.tenant)
    if charter.is_client and registered is not None and office.tenant(charter.tenant).profile.carried(PRINCIPAL) is None:
        return registered.id
    known = state.principal_id(charter.tenant)
    if known or not charter.is_client:
        return known
    # the tenant made it by itself, so the ledger knows only the registration
    tenant = office.tenant(charter.tenant)
    client = tenant.read(CLIENT, registered.id) if registered is not None and registered.id else None
    query = Query(PRINCIPAL, "client_id", client.body.client_id) if client is not None else None
    found = tenant.facts([query])[query].first if query is not None else None
    return found.id if found is not None else ""


def _needs_proofs(charter: Charter) -> None:
    if not charter.proofs:
        raise UsageError(f"{charter.name} has no proofs", where=charter.name,
                         mend="add `proofs:` to the charter: what it can do, and what it cannot")


def before(office: Office, charter: Charter) -> ProofReport:
    """Record what holds now, so that later proofs show before and after. Raises UsageError."""
    _needs_proofs(charter)
    uid, state = office.state(charter.name)
    ledger, principal = office.ledger(write=True), principal_of(office, charter, state)
    if not uid:
        uid = office.make_known(charter.name)
    if not principal:
        results = tuple(Result(p, Manner.NEITHER, None, "there is no such identity yet") for p in charter.proofs)
        report = ProofReport(charter.name, charter.identity.name, "nobody yet", "", results, recorded_before=True)
    else:
        keys, found = office.keys(uid), list[Result]()
        said = shown = ""
        for trying in _tryings(office, charter, state, keys, principal, _present(charter, state, keys)):
            signed_in, shown = _sign_in(trying)
            said = said or signed_in.said
            found += [_try(trying, signed_in, shown, p) for p in trying.charter.proofs]
        report = ProofReport(charter.name, principal, said, shown, tuple(found), recorded_before=True)
    ledger.append([Fresh(history.BEFORE, uid, {"held": {r.proof.words(): r.held for r in report.results}})])
    return report


def _present(charter: Charter, state: History, keys: KeyStore) -> CredentialWant | None:
    """The first credential that is here already."""
    for want in charter.credentials:
        generation = state.find(CREDENTIAL, charter.tenant, name=want.name)
        if want.held_here and generation is not None and keys.path(want.name, generation.number).exists():
            return want
    return None


def run(office: Office, charter: Charter, state: History, keys: KeyStore, principal: str,
        wish: Prove = ALL) -> ProofReport:
    """Sign in and try, in each tenant, and wait where it is early; used by `prove`, and by `enact` between and after its steps.

    Only where all proofs are tried is the result written down as that of the charter.
    """
    all_, waited, said, shown = list[Result](), 0.0, list[str](), ""
    chosen = charter.proofs if wish.proofs is None else tuple(charter.proofs[n] for n in wish.proofs)
    for trying in _tryings(office, replace(charter, proofs=chosen), state, keys, principal, _choose(charter, wish.credential),
                           wish.without, signing=bool(wish.credential)):
        signed_in, shown = _sign_in(trying)
        results, proofs = list[Result](), trying.charter.proofs
        for number, proof in enumerate(proofs, 1):
            office.settings.progress(Progress(charter.name, f"prove {proof.words()}", number, len(proofs)))
            results.append(_try(trying, signed_in, shown, proof))
        if wish.without:
            results = _without(trying, results)
        if any(r.held is False for r in results):
            results, longer = _wait(trying, results)
            waited += longer
        all_ += results
        said.append(signed_in.said + (f" in {trying.charter.tenant}" if trying.charter.tenant != charter.tenant else ""))
    report = ProofReport(charter.name, principal, "; ".join(said), shown, tuple(all_), state.before, waited)
    if wish.proofs is None:
        office.ledger(write=True).append([Fresh(history.PROVED, state.charter, {
            "held": report.held, "proofs": proofs_digest(charter), "ran_as": report.ran_as, "credential": shown,
            "results": [f"{r.proof.words()}: {_verdict(r)} ({r.manner})" for r in report.results]})])
    return report


def _tryings(office: Office, charter: Charter, state: History, keys: KeyStore, principal: str,
             credential: CredentialWant | None, without: tuple[str, ...] = (), *, signing: bool = False) -> Iterator[Trying]:
    """One for each tenant where something is expected, home first; with `signing` at home in any case."""
    for name in (charter.tenant, *charter.elsewhere):
        part, tenant, home = charter.part(name), office.tenant(name), name == charter.tenant
        if not part.proofs and not (home and signing):
            continue
        queries = {p.at: Query(PLACE, "path", p.at) for p in part.proofs}
        found = tenant.facts(queries.values())
        people = {p.person: lookup.person(tenant, p.person) for p in part.proofs if p.person}
        yield Trying(office, part, tenant, state, keys, principal if home else state.principal_id(name), credential,
                     {at: found[q].first for at, q in queries.items()}, people, without,
                     None if home else office.tenant(charter.tenant), principal)


def _without(trying: Trying, results: list[Result]) -> list[Result]:
    """What must work has to do so without what is leaving, too: tried it was with it, so that is decided."""
    from sigillum.core.deciding.values import Question
    seen = _world(trying)
    if seen is None:
        return results
    world, now, _, credential = seen

    def one(result: Result) -> Result:
        proof = result.proof
        question = Question(trying.principal, proof.permission, proof.at, now, credential, trying.people.get(proof.person, ""))
        decision = world.decide(question)
        if result.held is not True or not proof.allowed or decision.allowed is not False:
            return result
        return result._replace(held=False, allowed=False, said="it works, and would not without what is leaving")
    return [one(r) for r in results]


def _try(trying: Trying, signed_in: SignedIn, shown: str, proof: ProofWant) -> Result:
    """One expectation, tried where it cannot harm, asked otherwise."""
    tenant = trying.tenant
    operation = tenant.profile.operations.get(proof.permission)
    manner = manner_of(proof, operation, trying.places[proof.at], tenant.profile)
    if manner is Manner.TRIED and (not shown or proof.person):  # people sign in themselves: nobody is imitated
        manner = Manner.ASKED if tenant.profile.decisions else Manner.NEITHER
    if manner is Manner.TRIED and operation is not None:
        trial = tenant.attempt(signed_in, operation, proof.at)
    elif manner is Manner.ASKED:
        trial = tenant.ask(signed_in, proof.permission, proof.at, trying.people.get(proof.person, ""))
    else:
        trial = Trial(None, "the tenant offers neither a call nor a decision for it")
    return judge(proof, manner, trial)


# --- not yet, or never ------------------------------------------------------------------------------------------
def _wait(trying: Trying, results: list[Result]) -> tuple[list[Result], float]:
    """Poll what does not hold yet, with growing pauses, within the patience that was given; stop at once at a *never*."""
    from sigillum.core.deciding.waiting import NEVER, pauses
    office, waited, pending = trying.office, 0.0, set[datetime]()
    most, begun = office.settings.wait_seconds, time.monotonic()
    results, usual = _looked(trying, results), _usual(trying)
    for pause in pauses():
        early = [r for r in results if r.held is False]
        outlooks = [r.outlook for r in early]
        if not early or waited >= most or any(o is None or o.state == NEVER for o in outlooks):
            break
        pending |= {o.since for o in outlooks if o is not None and o.since is not None}
        due = [(o.due - office.now(trying.tenant)).total_seconds() for o in outlooks if o is not None and o.due is not None]
        pause = max(0.05, min([pause, most - waited, *(d for d in due if d > 0)]))
        _sleep(trying, early, waited, pause, usual)
        waited = max(waited + pause, time.monotonic() - begun)
        signed_in, shown = _sign_in(trying)
        tried = [_try(trying, signed_in, shown, r.proof) if r.held is False else r for r in results]
        results = _looked(trying, _without(trying, tried) if trying.without else tried)
    if pending and all(r.held for r in results):
        seconds = max(0, int((office.now(trying.tenant) - max(pending)).total_seconds()))
        office.ledger(write=True).append([Fresh(history.FELT, trying.state.charter, {
            "tenant": trying.tenant.address.name, "seconds": seconds})])
    return results, waited


def _sleep(trying: Trying, early: list[Result], waited: float, pause: float, usual: float | None) -> None:
    """Pause, and tell each second how long it has been."""
    left = pause
    while left > 0:
        words = _waiting_words(trying, early, waited + pause - left, usual)
        trying.office.settings.progress(Progress(trying.charter.name, words))
        trying.office.settings.sleep(min(left, TOLD_SECONDS))
        left -= TOLD_SECONDS


def _looked(trying: Trying, results: list[Result]) -> list[Result]:
    """With the outlook of each expectation that does not hold."""
    from sigillum.core.deciding.values import Question
    from sigillum.core.deciding.waiting import outlook
    stopped = _stopped(trying) if any(r.held is False for r in results) else None
    if stopped is not None:
        return [r._replace(outlook=stopped) if r.held is False and r.proof.allowed else r for r in results]
    # where it was allowed as it should be, what was read is not what was expected: no change mends that
    seen = _world(trying) if any(r.held is False and r.allowed is not None for r in results) else None
    if seen is None:
        return results
    world, now, roles, credential = seen
    patience = timedelta(seconds=trying.office.settings.wait_seconds)

    def looked(result: Result) -> Result:
        proof = result.proof
        if result.held is not False or result.allowed is None:
            return result
        question = Question(trying.principal, proof.permission, proof.at, now, credential, trying.people.get(proof.person, ""))
        return result._replace(outlook=outlook(world, question, proof.allowed, patience, roles))
    return [looked(r) for r in results]


def _stopped(trying: Trying) -> Outlook | None:
    """What a sign-in rule says of an account that signs in with its password: an answer does not tell it from a wrong one."""
    from sigillum.core.deciding.refusals import Cause
    from sigillum.core.deciding.sign_in import NETWORK, Attempt
    from sigillum.core.deciding.waiting import NEVER, Outlook
    from sigillum.core.values.errors import SomebodyError

    from .signing import sign_in
    if trying.credential is None or trying.credential.kind != PASSWORD or trying.tenant.profile.carried(RULE) is None:
        return None
    try:
        told = sign_in(trying.office, trying.principal, Attempt(), trying.tenant.address.name, ask_tenant=False)
    except SomebodyError:
        return None
    if told.verdict.allowed:
        return None
    rule, demand = told.verdict.rule, told.verdict.demand
    if demand == NETWORK:
        return Outlook(NEVER, Cause.SIGN_IN_REFUSED, f"the sign-in rule {rule} lets it in from its networks only",
                       "prove it from there, or add this machine's network to `sign_in: networks:`")
    return Outlook(NEVER, Cause.SIGN_IN_REFUSED, f"it cannot sign in unattended: {rule} demands {demand}",
                   "exempt it: `sign_in: exempt:` says who accepts the risk")


def _world(trying: Trying) -> tuple[World, datetime, tuple[Record[Role], ...], str] | None:
    """What is known for deciding; None where the tenant does not show it."""
    from sigillum.core.deciding import gathering

    kind = TEAM if trying.charter.is_team else PRINCIPAL if trying.charter.is_client else ACCOUNT
    record = trying.tenant.read(kind, trying.principal)
    if record is None:
        return None
    try:
        seen = lookup.snapshot(trying.office, trying.tenant, record, [p.at for p in trying.charter.proofs],
                               [gathering.ALL_ROLES],
                               credentials=trying.credential is not None and trying.home is None,
                               people=list(trying.people.values()))
    except SigillumError:
        return None
    world = gathering.world_of(seen.known(), seen.profile)
    world.rights = [r for r in world.rights if r.id not in trying.without]
    lookup.leaving(trying.office, world, record, trying.charter.name)
    generation = trying.state.find(CREDENTIAL, trying.charter.tenant, name=trying.credential.name) \
        if trying.credential is not None else None
    identity = generation.id if generation is not None else ""
    return world, seen.now, seen.ask(gathering.ALL_ROLES).records, identity if identity in world.credentials else ""


def _usual(trying: Trying) -> float | None:
    """How long changes usually take at this tenant, in seconds: as measured from here, else as it announces."""
    from sigillum.core.deciding.waiting import usual_seconds
    office, name = trying.office, trying.tenant.address.name
    measured = [float(e.body["seconds"]) for e in office.ledger().entries(kind=history.FELT) if e.body["tenant"] == name]
    return usual_seconds(measured[-20:], trying.tenant.profile.felt_seconds)


def _waiting_words(trying: Trying, early: list[Result], waited: float, usual: float | None) -> str:
    """Elapsed against usual, and what is waited for."""
    since = [r.outlook.since for r in early if r.outlook is not None and r.outlook.since is not None]
    elapsed = (trying.office.now(trying.tenant) - min(since)).total_seconds() if since else waited
    against = f" of usually {usual:.0f} s" if usual else ""
    return f"not yet: {early[0].proof.words()} · {elapsed:.0f} s{against}"


def _verdict(result: Result) -> str:
    return {True: "holds", False: "does not hold", None: "not known"}[result.held]


# --- signing in -----------------------------------------------------------------------------------------------------
def _choose(charter: Charter, name: str) -> CredentialWant | None:
    held = [c for c in charter.credentials if c.held_here]
    if not name:
        return held[0] if held else None
    found = next((c for c in held if c.name == name), None)
    if found is None:
        raise UsageError(f"{charter.name} keeps no credential {name!r} here", where=charter.name,
                         mend=did_you_mean(name, [c.name for c in held]) or "its credentials are kept elsewhere")
    return found


def _sign_in(trying: Trying) -> tuple[SignedIn, str]:
    """Sign in with the credential; without one, questions are asked by the administrator. And what was used."""
    tenant, credential, keys = trying.tenant, trying.credential, trying.keys
    if credential is None:
        return tenant.as_administrator(trying.principal), ""
    home = trying.home.address.name if trying.home is not None else trying.charter.tenant
    generation = trying.state.find(CREDENTIAL, home, name=credential.name)
    if generation is None or not keys.path(credential.name, generation.number).exists():
        raise SomebodyError(f"{credential.name} of {trying.charter.name} is not here", where=trying.charter.tenant,
                            mend=f"run `sigillum enact {trying.charter.name}` first")
    shown = f"{credential.name}, generation {generation.number}"
    proof = _proof(trying, credential, generation.number)
    if trying.home is not None:
        issuer = trying.tenant.profile.issuer
        return trying.tenant.sign_in(Proof(trying.principal, assertion=trying.home.token_for(proof, issuer))), shown
    return tenant.sign_in(proof), shown


def _proof(trying: Trying, credential: CredentialWant, number: int) -> Proof:
    """What the identity signs in with at home."""
    keys, client = trying.keys, str(trying.keys.about(credential.name, number).get("client_id") or "")
    principal = trying.principal if trying.home is None else trying.home_principal
    if credential.kind == KEY_PAIR:
        key, algorithm = keys.key(credential.name, number)
        return Proof(principal, key, algorithm, client_id=client)
    secret = keys.secret(credential.name, number)
    if credential.kind == PASSWORD:
        return Proof(principal, secret=secret, account=str(keys.about(credential.name, number).get("account") or ""))
    return Proof(principal, client_id=client, secret=secret) if client else Proof(principal, token=secret)
