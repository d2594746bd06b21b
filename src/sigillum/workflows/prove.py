"""Prove: sign in as the identity, with a fresh token, and try what must work and what must not."""

from __future__ import annotations

from dataclasses import dataclass, field

from sigillum.core import undertakings
from sigillum.core.charter import Charter, CredentialWant
from sigillum.core.compare import proofs_digest
from sigillum.core.errors import Outcome, SigillumError, SomebodyError, UsageError
from sigillum.core.facts import Query
from sigillum.core.proofs import Manner, Result, Trial, judge, manner_of
from sigillum.core.text import did_you_mean
from sigillum.core.undertakings import Undertakings
from sigillum.keys.store import KeyStore
from sigillum.ledger.port import Fresh
from sigillum.tenants.port import Proof, SignedIn, Tenant

from .office import Office, Progress


@dataclass(frozen=True, slots=True)
class ProofReport:
    """All results of one charter, and as whom they ran."""

    charter: str
    principal: str
    ran_as: str
    credential: str
    results: tuple[Result, ...] = ()
    problems: tuple[SigillumError, ...] = field(default=())

    @property
    def held(self) -> bool:
        return all(r.held is True for r in self.results)

    def outcome(self) -> Outcome:
        return Outcome.DONE if self.held else Outcome.NO


def prove(office: Office, charter: Charter, *, with_: str = "") -> ProofReport:
    """Put every proof of a charter to the test and write the result down. Raises SomebodyError, UsageError."""
    if not charter.proofs:
        raise UsageError(f"{charter.name} has no proofs", where=charter.name,
                         mend="add `proofs:` to the charter: what it can do, and what it cannot")
    uid, state = office.state(charter.name)
    if not uid:
        raise SomebodyError(f"{charter.name} was never enacted here", where=charter.name,
                            mend=f"run `sigillum enact {charter.name}` first")
    tenant = office.tenant(charter.tenant)
    account = state.latest("account", "identity")
    if account is None or not account.id:
        raise SomebodyError(f"the account of {charter.name} does not exist yet", where=charter.tenant,
                            mend=f"run `sigillum enact {charter.name}` first")
    return run(office, charter, tenant, state, office.keys(uid), account.id, with_=with_)


def run(office: Office, charter: Charter, tenant: Tenant, state: Undertakings, keys: KeyStore, principal: str, *,
        with_: str = "") -> ProofReport:
    """Sign in and try; used by `prove`, and by `enact` at its end."""
    credential = _choose(charter, with_)
    signed_in, shown = _sign_in(tenant, charter, state, keys, principal, credential)
    places = tenant.facts([Query("place", "path", p.at) for p in charter.proofs])
    results = []
    for number, proof in enumerate(charter.proofs, 1):
        office.settings.progress(Progress(charter.name, f"prove {proof.words()}", number, len(charter.proofs)))
        operation = tenant.profile.operations.get(proof.permission)
        place = places[Query("place", "path", proof.at)].first
        manner = manner_of(proof, operation, place, tenant.profile)
        if manner is Manner.TRIED and not shown:
            manner = Manner.ASKED if tenant.profile.decisions else Manner.NEITHER
        if manner is Manner.TRIED and operation is not None:
            trial = tenant.attempt(signed_in, operation, proof.at)
        elif manner is Manner.ASKED:
            trial = tenant.ask(signed_in, proof.permission, proof.at)
        else:
            trial = Trial(None, "the tenant offers neither a call nor a decision for it")
        results.append(judge(proof, manner, trial))
    report = ProofReport(charter.name, principal, signed_in.said, shown, tuple(results))
    office.ledger(write=True).append([Fresh(undertakings.PROVED, state.charter, {
        "held": report.held, "proofs": proofs_digest(charter), "ran_as": report.ran_as, "credential": shown,
        "results": [f"{r.proof.words()}: {_verdict(r)} ({r.manner})" for r in results]})])
    return report


def _verdict(result: Result) -> str:
    return {True: "holds", False: "does not hold", None: "not known"}[result.held]


def _choose(charter: Charter, name: str) -> CredentialWant | None:
    held = [c for c in charter.credentials if c.held_here]
    if not name:
        return held[0] if held else None
    found = next((c for c in held if c.name == name), None)
    if found is None:
        raise UsageError(f"{charter.name} keeps no credential {name!r} here", where=charter.name,
                         mend=did_you_mean(name, [c.name for c in held]) or "its credentials are kept elsewhere")
    return found


def _sign_in(tenant: Tenant, charter: Charter, state: Undertakings, keys: KeyStore, principal: str,
             credential: CredentialWant | None) -> tuple[SignedIn, str]:
    """Sign in with the credential; without one, questions are asked by the administrator. And what was used."""
    if credential is None:
        return tenant.as_administrator(principal), ""
    generation = state.latest("credential", credential.name)
    if generation is None or not keys.path(credential.name, generation.number).exists():
        raise SomebodyError(f"{credential.name} of {charter.name} is not here", where=charter.tenant,
                            mend=f"run `sigillum enact {charter.name}` first")
    shown = f"{credential.name}, generation {generation.number}"
    if credential.kind == "key-pair":
        key, algorithm = keys.key(credential.name, generation.number)
        return tenant.sign_in(Proof(principal, key, algorithm)), shown
    secret = keys.secret(credential.name, generation.number)
    return tenant.sign_in(Proof(principal, token=secret)), shown
