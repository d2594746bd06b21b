"""Whoever comes from outside by a trust: tried where a token is at hand, else decided by the trust as it exists there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from sigillum.core.charter.charter import Charter, ProofWant
from sigillum.core.deciding.proofs import Manner, Reading, Result, answered, judge, unjudged
from sigillum.core.federation.assertions import Unverified, look, read
from sigillum.core.federation.trusts import Trust, match, supposed
from sigillum.core.kinds.kind import Fact, Query
from sigillum.core.kinds.trusting import TRUST
from sigillum.core.kinds.trusting import Trust as KnownTrust
from sigillum.core.records.history import History
from sigillum.core.values.errors import RefusedError
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import plain
from sigillum.core.values.worlds import Observed
from sigillum.tenants.port import Proof, Tenant

from .manners import Proving


def proof_by(state: History, tenant: str, principal: str, trust: Trust, token: str) -> Proof | None:
    """How a token from outside is exchanged by a trust; None where that was not made yet."""
    made = state.find(TRUST, tenant, name=trust.name)
    return Proof(principal, assertion=Secret(token), trust=made.id) if made is not None and made.id else None


def matching(
    charter: Charter, state: History, principal: str, tokens: Sequence[str], now: datetime
) -> tuple[Proof, str] | None:
    """The first token that one of the charter's trusts lets in, and the name of that; one that is over is no token."""
    for token in tokens:
        for want in charter.trusts:
            proof, given = proof_by(state, charter.tenant, principal, want.trust, token), read(token)
            if proof is None or unfit(given, want.trust, now):
                continue
            if match(want.trust, given.claims, charter.identity.name).holds:
                return proof, want.name
    return None


def unfit(token: Unverified, trust: Trust, now: datetime) -> str:
    """Why a refusal of this token would show nothing of the trust's conditions; empty where nothing speaks against it."""
    return next((f.what for f in look(token, now, audience=trust.audience) if f.refuse), "")


def prove(proving: Proving) -> list[Result]:
    """What is expected of outside subjects. A refusal of one counts beside another that was let in by the same trust."""
    office, charter, state, _, principal, tokens = proving
    tenant = office.tenants.reach(charter.tenant)
    now, standing = office.tenants.now(charter.tenant), _standing(tenant, principal)
    at_hand, found = [(token, read(token)) for token in tokens], list[Result]()
    for proof in charter.sign_ins:
        if proof.sign_in is not None and not proof.sign_in.trust and proof.sign_in.outside:
            found.append(_by_none(charter, tenant, principal, proof, at_hand, standing))
        elif proof.sign_in is not None and proof.sign_in.trust:
            theirs = [(text, token) for text, token in at_hand if _is_theirs(charter, proof, token)]
            found.append(_one(charter, state, tenant, principal, proof, theirs, standing, now))
    for _, token in at_hand:
        if not any(_is_theirs(charter, p, token) for p in charter.sign_ins):
            who = f"{plain(token.claims.get('sub'))} from {plain(token.claims.get('iss'))}"
            tenant.say(f"a token of {who}: no proof names it, so it was not tried")
    taken = [r.proof.sign_in for r in found if r.manner is Manner.TRIED and r.held and r.proof.allowed]
    let_in = {attempt.trust for attempt in taken if attempt is not None}
    return [_weighed(r, let_in) for r in found]


def _one(
    charter: Charter,
    state: History,
    tenant: Tenant,
    principal: str,
    proof: ProofWant,
    theirs: list[tuple[str, Unverified]],
    standing: Fact[KnownTrust],
    now: datetime,
) -> Result:
    """Tried with the best token of the subject: one of which only the trust's conditions decide."""
    attempt = proof.sign_in
    assert attempt is not None
    trust = next(w.trust for w in charter.trusts if w.name == attempt.trust)
    good: tuple[str, Unverified] | None = None
    for text, token in theirs:
        if why := unfit(token, trust, now):
            tenant.say(f"a token of {attempt.subject}: {why}, so it was not tried")
        elif good is None:
            good = (text, token)
    way = proof_by(state, charter.tenant, principal, trust, good[0]) if good is not None else None
    if way is not None and good is not None:
        try:
            tenant.sign_in(way)
        except RefusedError as problem:
            result = judge(proof, Manner.TRIED, answered(False, problem.what))
            return _by_another_cause(charter, state, standing, trust, good[1], result)
        return judge(proof, Manner.TRIED, answered(True, "its token was exchanged"))
    if not standing.known:
        return unjudged(proof, f"not shown: {standing.unknown}", Manner.DECIDED)
    supposed_of = supposed(trust, attempt.subject, charter.identity.name)
    return judge(proof, Manner.DECIDED, _decided(charter, state, standing, trust, supposed_of))


def _by_none(
    charter: Charter,
    tenant: Tenant,
    principal: str,
    proof: ProofWant,
    at_hand: list[tuple[str, Unverified]],
    standing: Fact[KnownTrust],
) -> Result:
    """By no door: every trust of the identity that exists counts, whoever made it; and a token of the subject, if at hand, is
    tried at each.
    """
    assert proof.sign_in is not None
    subject, account = proof.sign_in.subject, charter.identity.name
    if not standing.known:
        return unjudged(proof, f"not shown: {standing.unknown}", Manner.DECIDED)
    for record in standing.records:
        name = record.body.name or record.id
        for text, token in at_hand:
            if token.claims.get("sub") != subject or not record.says(issuer=token.claims.get("iss")):
                continue
            try:
                tenant.sign_in(Proof(principal, assertion=Secret(text), trust=record.id))
            except RefusedError:
                continue
            return judge(proof, Manner.TRIED, answered(True, f"its token was exchanged by the trust {name}"))
        try:
            terms = record.body.terms
        except ValueError as problem:
            return unjudged(proof, f"not shown: the trust {name} there cannot be read: {problem}", Manner.DECIDED)
        if match(terms, supposed(terms, subject, account), account).holds:
            return judge(proof, Manner.DECIDED, Reading[Observed](True, f"the trust {name} lets it in"))
    count = len(standing.records)
    what = f"none of its {count} trusts lets it in" if count else "it has no trust at all"
    return judge(proof, Manner.DECIDED, Reading[Observed](False, what))


def _is_theirs(charter: Charter, proof: ProofWant, token: Unverified) -> bool:
    """Is it a token of the subject that a proof is about, by the issuer of its trust?"""
    attempt = proof.sign_in
    issuers = {w.trust.issuer for w in charter.trusts if attempt is not None and attempt.trust in ("", w.name)}
    return attempt is not None and token.claims.get("iss") in issuers and token.claims.get("sub") == attempt.subject


def _by_another_cause(
    charter: Charter, state: History, standing: Fact[KnownTrust], trust: Trust, token: Unverified, result: Result
) -> Result:
    """A refusal shows a `cannot` only where a condition of the trust that exists there refuses this very token, too."""
    if result.proof.allowed or not standing.known:
        return result
    found = _decided(charter, state, standing, trust, token.claims)
    if found.allowed is True:
        return result.unshown(f"not shown: {result.said}, and by the trust's conditions it would be let in: another cause")
    return result


def _standing(tenant: Tenant, principal: str) -> Fact[KnownTrust]:
    """The trusts of the identity as its tenant has them: what a charter says of one lets nobody in."""
    if tenant.profile.carried(TRUST) is None:
        return Fact(unknown=f"{tenant.address.name} shows no trusts", never=True)
    query = Query[KnownTrust](TRUST, "principal", principal)
    return tenant.facts([query])[query]


def _decided(
    charter: Charter, state: History, standing: Fact[KnownTrust], wished: Trust, claims: Mapping[str, Any]
) -> Reading[Observed]:
    """Would a token that says this be let in by the trust of that name, as it exists there? Where none is at hand, all is
    supposed of it that the charter's own trust demands: its issuer, its audience, what its conditions ask for.
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
    found = match(terms, claims, account)
    nearest = found.nearest
    return Reading(found.holds, "all conditions hold" if nearest is None else f"{nearest.test.words()}: {nearest.why}")


def _weighed(result: Result, let_in: set[str]) -> Result:
    """A refusal at the exchange shows something beside a token that was let in by the same trust."""
    attempt = result.proof.sign_in
    if result.manner is not Manner.TRIED or result.proof.allowed or result.held is not True or attempt is None:
        return result
    if attempt.trust in let_in:
        return result._replace(said=f"{result.said}; shown beside one that was let in")
    return result.unshown("not shown: no other token was let in by that trust beside it")
