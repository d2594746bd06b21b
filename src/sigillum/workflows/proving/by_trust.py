"""Whoever comes from outside by a trust: tried where a token is at hand, else decided by the trust as it exists there."""

from __future__ import annotations

from collections.abc import Sequence

from sigillum.core.charter.charter import Charter, ProofWant
from sigillum.core.deciding.proofs import Manner, Reading, Result, answered, judge, unjudged
from sigillum.core.federation.assertions import Unverified, read
from sigillum.core.federation.trusts import Trust, match, supposed
from sigillum.core.kinds.kind import Fact, Query
from sigillum.core.kinds.trusting import TRUST
from sigillum.core.kinds.trusting import Trust as KnownTrust
from sigillum.core.records.history import History
from sigillum.core.values.errors import RefusedError
from sigillum.core.values.secret import Secret
from sigillum.core.values.worlds import Observed
from sigillum.tenants.port import Proof, Tenant

from .manners import Proving


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


def prove(proving: Proving) -> list[Result]:
    """What is expected of outside subjects. A refusal of one counts beside another that was let in by the same trust."""
    office, charter, state, _, principal, tokens = proving
    tenant = office.tenants.reach(charter.tenant)
    at_hand, standing = [(token, read(token)) for token in tokens], _standing(tenant, principal)
    found = [
        _one(charter, state, tenant, principal, p, at_hand, standing)
        for p in charter.sign_ins
        if p.sign_in is not None and p.sign_in.trust
    ]
    taken = [r.proof.sign_in for r in found if r.manner is Manner.TRIED and r.held and r.proof.allowed]
    let_in = {one.trust for one in taken if one is not None}
    return [_weighed(r, let_in) for r in found]


def _one(
    charter: Charter,
    state: History,
    tenant: Tenant,
    principal: str,
    proof: ProofWant,
    at_hand: list[tuple[str, Unverified]],
    standing: Fact[KnownTrust],
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
            return judge(proof, Manner.TRIED, answered(False, problem.what))
        return judge(proof, Manner.TRIED, answered(True, "its token was exchanged"))
    if not standing.known:
        return unjudged(proof, f"not shown: {standing.unknown}", Manner.DECIDED)
    return judge(proof, Manner.DECIDED, _decided(charter, state, standing, trust, one.subject))


def _standing(tenant: Tenant, principal: str) -> Fact[KnownTrust]:
    """The trusts of the identity as its tenant has them: what a charter says of one lets nobody in."""
    if tenant.profile.carried(TRUST) is None:
        return Fact(unknown=f"{tenant.address.name} shows no trusts", never=True)
    query = Query[KnownTrust](TRUST, "principal", principal)
    return tenant.facts([query])[query]


def _decided(charter: Charter, state: History, standing: Fact[KnownTrust], wished: Trust, subject: str) -> Reading[Observed]:
    """Would a token of this subject be let in by the trust of that name, as it exists there? Of the token all is supposed that
    the charter's own trust demands: its issuer, its audience, what its conditions ask for.
    """
    name = wished.name
    made = state.find(TRUST, charter.tenant, name=name)
    there = [r for r in standing.records if made is not None and r.id == made.id]
    record = next(iter(there or [r for r in standing.records if r.says(name=name)]), None)
    if record is None:
        return Reading(False, f"{charter.tenant} has no trust {name}")
    account = charter.identity.name
    try:
        terms = record.body.terms
    except ValueError as problem:
        return Reading(None, f"not shown: the trust {name} there cannot be read: {problem}")
    found = match(terms, supposed(wished, subject, account), account)
    nearest = found.nearest
    return Reading(found.holds, "all conditions hold" if nearest is None else f"{nearest.test.words()}: {nearest.why}")


def _weighed(result: Result, let_in: set[str]) -> Result:
    """A refusal at the exchange shows something beside a token that was let in by the same trust."""
    one = result.proof.sign_in
    if result.manner is not Manner.TRIED or result.proof.allowed or result.held is not True or one is None:
        return result
    if one.trust in let_in:
        return result._replace(said=f"{result.said}; shown beside one that was let in")
    return result.unshown("not shown: no other token was let in by that trust beside it")
