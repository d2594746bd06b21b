"""Prove: sign in as the identity, with a fresh token, and try what must work and what must not; wait where it is early."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from sigillum.core.charter.charter import Charter, CredentialWant, ProofWant
from sigillum.core.comparing.compare import proofs_digest
from sigillum.core.deciding.proofs import Result, unjudged, worst_of
from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.signing import CREDENTIAL
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
from sigillum.core.values.secret import Secret
from sigillum.core.values.times import Window, parse_instant
from sigillum.keeping.files import FileKeeping
from sigillum.ledger.port import Fresh
from sigillum.tenants.port import Proof, SignedIn
from sigillum.workflows.desk.office import Office
from sigillum.workflows.desk.settings import Progress
from sigillum.workflows.desk.several import several
from sigillum.workflows.rotating.own_use import trying_ours

from .by_signing import weighed as weighed_signing
from .manners import NOBODY, Proving, beside
from .outlooks import pending, wait, weighed, without
from .trials import Trying, choose, held, present, principal_of, sign_in, try_one, tryings

ALL = Prove()
Signed = Callable[[str], Secret]


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
    before_why: Mapping[str, str] = field(default_factory=dict)
    failed: SigillumError | None = None  # what kept it from being tried at all

    @property
    def held(self) -> bool:
        return self.failed is None and all(r.held is True for r in self.results)

    def outcome(self) -> Outcome:
        if self.failed is not None:
            return self.failed.outcome
        if self.held or self.recorded_before:
            return Outcome.DONE
        early = all(r.outlook is not None and r.outlook.state == "not-yet" for r in self.results if r.held is not True)
        return Outcome.NOT_YET if early else Outcome.NO

    def error(self) -> SigillumError:
        """What is raised where an ending waits for this proof."""
        wrong = next((r for r in self.results if r.held is not True), None)
        told = f"{wrong.proof.words()}: {wrong.outlook.text if wrong.outlook is not None else wrong.said}" if wrong else ""
        kind = NotYetError if self.outcome() is Outcome.NOT_YET else UnprovedError
        return kind(
            f"what replaces it is not proved: {told}",
            where=self.charter,
            mend="what was to end stays until it is; run `sigillum enact` again, or with --wait 10m",
        )


def prove_all(
    office: Office,
    charters: list[Charter],
    *,
    with_: str = "",
    before_: bool = False,
    tokens: Sequence[str] = (),
    signed: Signed | None = None,
) -> Iterator[ProofReport]:
    """Several at a time, in order as they come; where one cannot be tried, the others are. `tokens`: from outside, at hand;
    `signed`: an assertion that its tenant signs for a charter's identity.

    Raises MachineError.
    """

    def one(charter: Charter) -> ProofReport:
        try:
            office.settings.go_on()
            return before(office, charter) if before_ else prove(office, charter, with_=with_, tokens=tokens, signed=signed)
        except SigillumError as problem:
            if len(charters) == 1 or problem.outcome is Outcome.MACHINE:
                raise
            return ProofReport(charter.name, "", "", "", failed=problem)
        finally:
            office.settings.progress(Progress(charter.name))

    yield from several(office.settings, one, charters, finish=True)


def prove(
    office: Office, charter: Charter, *, with_: str = "", tokens: Sequence[str] = (), signed: Signed | None = None
) -> ProofReport:
    """Put every proof of a charter to the test and write the result down. Raises SomebodyError, UsageError."""
    _needs_proofs(charter)
    uid, state = office.books.history(charter.name)
    if not uid:
        raise SomebodyError(
            f"{charter.name} was never enacted here", where=charter.name, mend=f"run `sigillum enact {charter.name}` first"
        )
    principal = principal_of(office, charter, state)
    if not principal:
        raise SomebodyError(
            f"the identity of {charter.name} does not exist yet",
            where=charter.tenant,
            mend=f"run `sigillum enact {charter.name}` first",
        )
    return run(office, charter, state, office.keepings.of(uid), principal, Prove(credential=with_), tokens, signed)


def _needs_proofs(charter: Charter) -> None:
    if not charter.expectations:
        raise UsageError(
            f"{charter.name} has no proofs",
            where=charter.name,
            mend="add `proofs:` to the charter: what it can do, and what it cannot",
        )


def before(office: Office, charter: Charter) -> ProofReport:
    """Record what holds now, so that later proofs show before and after. Raises UsageError."""
    _needs_proofs(charter)
    uid, state = office.books.history(charter.name)
    ledger, principal = office.books.writable_ledger(), principal_of(office, charter, state)
    if not uid:
        uid = office.books.make_known(charter.name)
    keys, found, said, shown = office.keepings.of(uid), list[Result](), list[str](), ""
    if not principal:
        found += [unjudged(p, NOBODY) for p in charter.proofs]
        said.append("nobody yet")
    for trying in tryings(office, charter, state, keys, principal, present(charter, state, keys)) if principal else ():
        signed_in, shown = sign_in(trying)
        said.append(signed_in.said)
        found += [try_one(trying, signed_in, shown, p) for p in trying.charter.proofs]
    for manner, results in beside(Proving(office, charter, state, keys, principal)):
        found += results
        said += [manner.said] if manner.said and principal else []
    who = principal or charter.identity.name
    report = ProofReport(charter.name, who, said[0] if said else "", shown, tuple(found), recorded_before=True)
    nothing = not any(r.allowed for r in report.results)  # a refusal of all shows no single one
    why = {
        r.proof.words(): f"{r.said}; nothing was allowed" if nothing and r.allowed is False else r.said for r in report.results
    }
    ledger.append([Fresh(history.BEFORE, uid, {"held": {r.proof.words(): r.held for r in report.results}, "why": why})])
    return report


def run(
    office: Office,
    charter: Charter,
    state: History,
    keys: FileKeeping,
    principal: str,
    wish: Prove = ALL,
    tokens: Sequence[str] = (),
    signed: Signed | None = None,
) -> ProofReport:
    """Sign in and try, in each tenant, and wait where it is early; used by `prove`, and by `enact` between and after its steps.

    Only where all proofs are tried is the result written down as that of the charter.
    """
    found, waited, said, shown = list[tuple[str, Result]](), 0.0, list[str](), list[str]()
    timed = replace(charter, proofs=tuple(_timed(office, charter, state, p) for p in charter.proofs))
    for credential, proofs in _plan(timed, state, keys, wish):
        with trying_ours(office, state, charter, credential):
            for trying in tryings(
                office,
                replace(timed, proofs=proofs),
                state,
                keys,
                principal,
                credential,
                wish.without,
                signing=bool(wish.credential),
            ):
                signed_in, with_what = _signed_in(trying, tokens, signed)
                results, longer = _tried(office, charter, trying, signed_in, with_what)
                if charter.signing is not None and not with_what and trying.home is None:
                    results = weighed_signing(office, charter, principal, results)
                found += [(with_what, r) for r in results]
                waited += longer
                shown.append(with_what)
                where = trying.charter.tenant
                said.append(signed_in.said + (f" in {where}" if where != charter.tenant else ""))
    results = worst_of(found)
    for manner, more in beside(Proving(office, charter, state, keys, principal, tokens)) if wish.proofs is None else ():
        results += more
        said += [manner.said] if manner.said else []
    with_ = ", ".join(dict.fromkeys(s for s in shown if s))
    report = ProofReport(
        charter.name,
        principal,
        "; ".join(dict.fromkeys(said)),
        with_,
        tuple(results),
        state.before,
        waited,
        before_why=state.before_why,
    )
    if wish.proofs is None:
        office.books.writable_ledger().append([_written(charter, state.charter, report)])
    return report


def _written(charter: Charter, uid: str, report: ProofReport) -> Fresh:
    """The result as that of the charter."""
    about = {
        "held": report.held,
        "proofs": proofs_digest(charter),
        "ran_as": report.ran_as,
        "credential": report.credential,
        "results": [f"{r.proof.words()}: {_verdict(r)} ({r.manner})" for r in report.results],
    }
    return Fresh(history.PROVED, uid, about)


def _signed_in(trying: Trying, tokens: Sequence[str], signed: Signed | None) -> tuple[SignedIn, str]:
    """With its credential; where it has none here, by what its tenant signs for it, or by a trust, with a token."""
    if signed is not None and trying.credential is None and trying.home is None and trying.charter.signing is not None:
        made = signed(trying.charter.name)
        return trying.tenant.sign_in(Proof(trying.principal, assertion=made)), "what its tenant signed"
    if trying.credential is None and trying.home is None and tokens:
        from .by_trust import matching

        found = matching(
            trying.charter, trying.state, trying.principal, tokens, trying.office.tenants.now(trying.charter.tenant)
        )
        if found is not None:
            return trying.tenant.sign_in(found[0]), f"the trust {found[1]}"
    return sign_in(trying)


def _tried(office: Office, charter: Charter, trying: Trying, signed_in: SignedIn, shown: str) -> tuple[list[Result], float]:
    """All that is tried with one token, weighed, and waited for where it is early."""
    results, proofs, waited = list[Result](), trying.charter.proofs, 0.0
    for number, proof in enumerate(proofs, 1):
        office.settings.progress(Progress(charter.name, f"prove {proof.words()}", number, len(proofs)))
        results.append(try_one(trying, signed_in, shown, proof))
    if trying.without:
        results = without(trying, results)
    results = weighed(trying, results)
    if any(pending(r) for r in results):
        results, waited = wait(trying, results)
    return results, waited


def _plan(
    charter: Charter, state: History, keys: FileKeeping, wish: Prove
) -> list[tuple[CredentialWant | None, tuple[ProofWant, ...]]]:
    """Which proofs are tried with which credential: those that name one with that, the others with each that leaves room."""
    chosen = charter.proofs if wish.proofs is None else tuple(charter.proofs[n] for n in wish.proofs)
    here = [c for c in charter.credentials if held(charter, state, keys, c)]
    named = dict.fromkeys(p.credential for p in chosen if p.credential)
    if wish.credential or wish.proofs is not None or (len(here) < 2 and not named):
        found = choose(charter, wish.credential)
        asked = found is not None and not wish.credential and _elsewhere(charter, state, keys, found)
        return [(None if asked else found, chosen)]

    def takes(credential: CredentialWant, proof: ProofWant) -> bool:
        if proof.credential:
            return proof.credential == credential.name
        there = [c for c in here if c.at in ("", proof.at)] or here  # one for another place shows nothing of this one
        room = [c for c in there if c.leaves(proof.permission, proof.at)] if proof.allowed else []
        return credential in (room or there)

    using = {c.name: c for c in here} | {n: c for n in named if (c := choose(charter, n)) is not None}
    return [(c, tuple(p for p in chosen if takes(c, p))) for c in using.values() if any(takes(c, p) for p in chosen)]


def _elsewhere(charter: Charter, state: History, keys: FileKeeping, want: CredentialWant) -> bool:
    """Was it taken over or handed over, and is it not here? Then the tenant is asked, and nobody signs in."""
    generation = state.find(CREDENTIAL, charter.tenant, name=want.name)
    return generation is not None and generation.elsewhere and not held(charter, state, keys, want)


def _timed(office: Office, charter: Charter, state: History, proof: ProofWant) -> ProofWant:
    """A proof that lasts as long as a window: while it does not, the same thing must be refused."""
    if not proof.during:
        return proof
    tenant = proof.tenant or charter.tenant
    terms = next(
        (
            all_[-1].terms
            for mark, all_ in state.generations.items()
            if all_[-1].kind == GRANT.name and (mark.tenant, mark.get("role")) == (tenant, proof.during)
        ),
        {},
    )
    start, until = (parse_instant(str(terms[n])) if terms.get(n) else None for n in ("from", "until"))
    lasts = bool(terms) and Window(start, until).state(office.tenants.now(tenant)) == "in-force"
    return replace(proof, allowed=lasts)


def _verdict(result: Result) -> str:
    return {True: "holds", False: "does not hold", None: "not known"}[result.held]
