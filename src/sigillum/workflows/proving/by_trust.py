"""Whoever comes from outside by a trust: tried where a token is at hand, else decided by the trust's conditions."""

from __future__ import annotations

from collections.abc import Sequence

from sigillum.core.charter.charter import Charter, ProofWant
from sigillum.core.deciding.proofs import Manner, Result, Trial, judge
from sigillum.core.federation.assertions import Unverified, read
from sigillum.core.federation.trusts import Trust, match, supposed
from sigillum.core.kinds.trusting import TRUST
from sigillum.core.records.history import History
from sigillum.core.values.errors import RefusedError
from sigillum.core.values.secret import Secret
from sigillum.tenants.port import Proof, Tenant
from sigillum.workflows.desk.office import Office


def proof_by(state: History, tenant: str, principal: str, trust: Trust, token: str) -> Proof | None:
    """How a token from outside is exchanged by a trust; None where that was not made yet."""
    made = state.find(TRUST, tenant, name=trust.name)
    return Proof(principal, assertion=Secret(token), trust=made.id) if made is not None and made.id else None


def matching(charter: Charter, state: History, principal: str, tokens: Sequence[str]) -> tuple[Proof, str] | None:
    """The first token that one of the charter's trusts lets in, and the name of that."""
    for token in tokens:
        for want in charter.trusts:
            proof = proof_by(state, charter.tenant, principal, want.trust, token)
            if proof is not None and match(want.trust, read(token).claims, charter.identity.name).holds:
                return proof, want.name
    return None


def prove_by_trust(office: Office, charter: Charter, principal: str, tokens: Sequence[str]) -> list[Result]:
    """What is expected of outside subjects. A refusal of one counts beside another that was let in by the same trust."""
    state, tenant = office.books.history(charter.name)[1], office.tenants.reach(charter.tenant)
    at_hand = [(token, read(token)) for token in tokens]
    found = [
        _one(charter, state, tenant, principal, p, at_hand)
        for p in charter.sign_ins
        if p.sign_in is not None and p.sign_in.trust
    ]
    taken = [r.proof.sign_in for r in found if r.manner is Manner.TRIED and r.held and r.proof.allowed]
    let_in = {one.trust for one in taken if one is not None}
    return [_weighed(r, let_in) for r in found]


def _one(
    charter: Charter, state: History, tenant: Tenant, principal: str, proof: ProofWant, at_hand: list[tuple[str, Unverified]]
) -> Result:
    one = proof.sign_in
    assert one is not None
    trust = next(w.trust for w in charter.trusts if w.name == one.trust)
    token = next((text for text, t in at_hand if (t.claims.get("iss"), t.claims.get("sub")) == (trust.issuer, one.subject)), "")
    way = proof_by(state, charter.tenant, principal, trust, token) if token else None
    if way is not None:
        try:
            tenant.sign_in(way)
        except RefusedError as problem:
            return judge(proof, Manner.TRIED, Trial(False, problem.what))
        return judge(proof, Manner.TRIED, Trial(True, "its token was exchanged"))
    found = match(trust, supposed(trust, one.subject, charter.identity.name), charter.identity.name)
    nearest = found.nearest
    return judge(
        proof,
        Manner.DECIDED,
        Trial(found.holds, "all conditions hold" if nearest is None else f"{nearest.test.words()}: {nearest.why}"),
    )


def _weighed(result: Result, let_in: set[str]) -> Result:
    """A refusal at the exchange shows something beside a token that was let in by the same trust."""
    one = result.proof.sign_in
    if result.manner is not Manner.TRIED or result.proof.allowed or result.held is not True or one is None:
        return result
    if one.trust in let_in:
        return result._replace(said=f"{result.said}; shown beside one that was let in")
    return result._replace(held=None, said="not shown: no other token was let in by that trust beside it")
