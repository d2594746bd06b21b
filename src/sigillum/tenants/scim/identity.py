"""The identity's own side of a tenant that speaks open standards: signing in, using permissions, asking for decisions."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from functools import cached_property
from typing import TYPE_CHECKING, Any

from sigillum.core.deciding.proofs import Trial
from sigillum.core.kinds.profile import Operation, Profile
from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.errors import RefusedError, UnreachableError
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import plain
from sigillum.core.values.times import ClockReading
from sigillum.protocols.http import Http, basic
from sigillum.tenants.port import Address, Link, Proof, RightMissingError, SignedIn, now_at

from .answers import trial, trial_of

if TYPE_CHECKING:  # signing in needs it, looking does not
    from sigillum.core.deciding.values import Question
    from sigillum.protocols import oauth

Json = dict[str, Any]
QUESTIONS_A_REQUEST = 100
AUTHORIZATION = "authorization"  # in what is kept of a tenant: what its authorization server says of itself


class ScimSignIns:
    """OAuth for tokens, AuthZEN for decisions, the announced calls for trials."""

    address: Address
    http: Http
    profile: Profile
    clock: ClockReading | None
    _token: Secret
    _link: Link

    @cached_property
    def metadata(self) -> oauth.Metadata:
        from sigillum.protocols import oauth

        if not self.profile.issuer:
            raise UnreachableError(
                "it names no authorization server",
                where=self.address.name,
                mend=f"run `sigillum tenant add {self.address.name} ... --issuer ADDRESS`",
            )
        before = self._link.kept() if self._link.kept is not None else None
        kept = before if isinstance(before, dict) else {}  # with the resource types, and as long as they
        found = oauth.kept(kept.get(AUTHORIZATION), self.profile.issuer)
        if found is None:
            found = oauth.discover(self.http, self.profile.issuer)
            if kept and self._link.keep is not None:
                self._link.keep({**kept, AUTHORIZATION: found._asdict()})
        return found

    @property
    def token_endpoint(self) -> str:
        return self.metadata.token_endpoint if self.profile.issuer else ""

    @property
    def _bearer(self) -> str:
        return f"Bearer {self._token.reveal()}"

    def _assertion(self, proof: Proof, subject: str = "") -> Secret:
        from sigillum.protocols import oauth

        assert proof.key is not None
        most = self.profile.assertion_seconds or oauth.USUAL_ASSERTION_SECONDS
        return oauth.assertion(
            proof.key,
            proof.algorithm,
            proof.client_id or proof.principal,
            self.metadata.issuer,
            now_at(self, datetime.now(UTC)),
            min(most, oauth.USUAL_ASSERTION_SECONDS),
            thumbprint(proof.key),
            proof.certificate,
            subject,
        )

    def _client(self, proof: Proof) -> oauth.ClientProof:
        """How the identity authenticates like a client: a fresh assertion, or its secret."""
        from sigillum.protocols import oauth

        signed = self._assertion(proof) if proof.key is not None else None
        return oauth.ClientProof(proof.client_id, signed, proof.secret, self.metadata.secret_in_body)

    def sign_in(self, proof: Proof) -> SignedIn:
        """A fresh assertion, a fresh token, and the tenant's word for whose token it is (RFC 7662)."""
        if proof.token is not None:
            return self._with_token(proof, proof.token)
        if proof.account and proof.secret is not None:
            return SignedIn(basic(proof.account, proof.secret), proof.principal, "with its name and password", "Basic")
        from sigillum.protocols import oauth

        if proof.assertion is not None and proof.trust:
            return self._exchanged(proof, proof.assertion)
        if proof.assertion is not None:
            token = oauth.token_for_assertion(self.http, self.metadata, proof.assertion)
            return SignedIn(
                token.value, proof.principal, "with an assertion that was made for it", lives_seconds=token.lives_seconds
            )
        if proof.person:
            return self._for_person(proof)
        if proof.client_id:
            token = oauth.token_for_client(self.http, self.metadata, self._client(proof))
        else:
            token = self._by_assertion(proof)
        said = self._whose(proof, token.value)
        if said is None:
            return SignedIn(
                token.value,
                proof.principal,
                "a fresh token; the tenant does not say whose it is",
                lives_seconds=token.lives_seconds,
            )
        subject = str(said.get("sub", ""))
        if not subject and proof.client_id and said.get("client_id") == proof.client_id:
            subject = proof.principal  # `sub` is optional (RFC 7662 §2.2); the client itself is named
        if said.get("active") is not True or subject != proof.principal:
            raise RefusedError(
                f"the token runs as {subject or 'nobody'}, not as {proof.principal}",
                where=self.address.name,
                mend="ask the tenant's operator; nothing was tried",
            )
        return SignedIn(token.value, subject, f"a fresh token; the tenant says: {subject}", lives_seconds=token.lives_seconds)

    def _for_person(self, proof: Proof) -> SignedIn:
        """By a delegation: for one person and one scope. What the answer leaves out is as asked (RFC 6749 §5.1)."""
        from sigillum.protocols import oauth

        token = oauth.token_for_assertion(self.http, self.metadata, self._assertion(proof, proof.person), scope=proof.scope)
        said = self._whose(proof, token.value) or {}
        actor, scope = said.get("act"), said.get("scope", token.scope or proof.scope)
        named = actor.get("sub") if isinstance(actor, dict) else None
        if said.get("active") is not True or scope != proof.scope or named not in (proof.principal, proof.client_id):
            raise RefusedError(
                f"the token is another one than was asked for: scope {plain(scope)}, acting {plain(named)}",
                where=self.address.name,
                mend="ask the tenant's operator; nothing was tried",
            )
        return SignedIn(token.value, str(said.get("sub", "")), f"for {proof.person}", lives_seconds=token.lives_seconds)

    def _exchanged(self, proof: Proof, outside: Secret) -> SignedIn:
        """By a trust; whose token was given is asked with it, since nobody else can ask (RFC 7662 wants a client)."""
        from sigillum.protocols import oauth

        token = oauth.token_for_token(self.http, self.metadata, outside, proof.trust, proof.principal, proof.actor)
        signed = SignedIn(token.value, proof.principal, "for a token from outside", lives_seconds=token.lives_seconds)
        if self.taken(signed) is not True:
            raise RefusedError(
                "what the tenant gave is no token of that account, and was dropped",
                where=self.address.name,
                mend="ask the tenant's operator",
            )
        return signed

    def _by_assertion(self, proof: Proof) -> oauth.Token:
        """The JWT bearer grant; a server that wants client authentication beside it gets it (RFC 7523 §3.1)."""
        from sigillum.protocols import oauth

        try:
            return oauth.token_for_assertion(self.http, self.metadata, self._assertion(proof))
        except oauth.OAuthRefusedError as problem:
            if problem.error != "invalid_client":
                raise
        by = self._client(proof._replace(client_id=proof.client_id or proof.principal))
        return oauth.token_for_assertion(self.http, self.metadata, self._assertion(proof), by)

    def _with_token(self, proof: Proof, token: Secret) -> SignedIn:
        """A token that is presented as it is: the administrator asks whose it is, where the tenant tells that."""
        from sigillum.protocols import oauth

        said: Json = {}
        if self.profile.issuer and self.metadata.introspection_endpoint:
            with suppress(RefusedError):
                said = oauth.introspect(self.http, self.metadata, token, None, self._bearer)
        subject = str(said.get("sub") or "")
        if said.get("active") is True and subject and subject != proof.principal:
            raise RefusedError(
                f"the token runs as {subject}, not as {proof.principal}",
                where=self.address.name,
                mend="ask the tenant's operator; nothing was tried",
            )
        whose = f"; the tenant says: {subject}" if subject else ""
        return SignedIn(token, proof.principal, f"with an API token{whose}")

    def _whose(self, proof: Proof, token: Secret) -> Json | None:
        from sigillum.protocols import oauth

        if not self.metadata.introspection_endpoint:
            return None
        try:
            return oauth.introspect(self.http, self.metadata, token, self._client(proof))
        except RefusedError:
            return None

    def token_for(self, proof: Proof, issuer: str) -> Secret:
        from sigillum.protocols import oauth

        if not proof.client_id:
            return oauth.token_for_assertion(self.http, self.metadata, self._assertion(proof), resource=issuer).value
        return oauth.token_for_client(self.http, self.metadata, self._client(proof), issuer).value

    def taken(self, signed_in: SignedIn) -> bool | None:
        from sigillum.protocols.authzen import let_in

        where = self.profile.decisions
        return let_in(self.http, where, signed_in.header(), signed_in.principal) if where else None

    def act_as(self, principal: str, by: SignedIn | None = None) -> SignedIn:
        from sigillum.protocols import oauth

        token = oauth.token_for_acting(self.http, self.metadata, by.token if by is not None else self._token, principal)
        signed = SignedIn(token.value, principal, "acting as it", lives_seconds=token.lives_seconds)
        if self.taken(signed) is not True:
            raise RefusedError(
                "what the tenant gave is no token of that account, and was dropped",
                where=self.address.name,
                mend="ask the tenant's operator",
            )
        return signed

    def sign_for(self, principal: str, claims: Mapping[str, Any], by: SignedIn | None = None) -> Secret:
        import json

        body = json.dumps({"account": principal, "claims": dict(claims)}).encode()
        answer = self.http.send(
            "POST",
            self.profile.signer,
            {"Authorization": by.header() if by is not None else self._bearer, "Content-Type": "application/json"},
            body,
        )
        found = answer.object() if answer.status == 200 else {}
        if not isinstance(found.get("assertion"), str):
            if answer.status == 403:
                raise RightMissingError(
                    f"{self.address.name} does not sign for it, whoever asks lacks a right (403)",
                    where=self.address.name,
                    mend="whoever asks needs rights over it",
                )
            what = "does not take the token of who asks" if answer.status == 401 else "does not sign it"
            raise RefusedError(
                f"{self.address.name} {what} ({answer.status})",
                where=self.address.name,
                mend="get a fresh token where the identity is attached, then run the same command again",
            )
        return Secret(found["assertion"])

    def revoke(self, token: Secret) -> None:
        from sigillum.protocols import oauth

        oauth.revoke(self.http, self.metadata, token, self._bearer)

    def as_administrator(self, principal: str) -> SignedIn:
        return SignedIn(self._token, principal, "asked by the administrator, not signed in as the identity")

    def ask(self, signed_in: SignedIn, permission: str, place: str, person: str = "") -> Trial:
        from sigillum.protocols.authzen import Evaluation, evaluate

        try:
            decision, reason = evaluate(
                self.http,
                self.profile.decisions,
                signed_in.header(),
                Evaluation(signed_in.principal, permission, place, person=person),
            )
        except RefusedError as problem:
            return Trial(None, problem.what)
        return Trial(decision, reason)

    def ask_sign_in(self, account: str, context: Mapping[str, Any]) -> Trial:
        from sigillum.protocols.authzen import Evaluation, evaluate

        asked = Evaluation(account, "sign-in", self.profile.issuer, more=context)
        return Trial(*evaluate(self.http, self.profile.decisions, self._bearer, asked))

    def ask_all(self, questions: Sequence[Question]) -> list[Trial]:
        from sigillum.protocols.authzen import Evaluation, evaluate, evaluate_all

        asked = [Evaluation(q.principal, q.permission, q.place, q.credential, q.person) for q in questions]
        if len(asked) == 1:
            return [Trial(*evaluate(self.http, self.profile.decisions, self._bearer, asked[0]))]
        return [
            Trial(*d)
            for n in range(0, len(asked), QUESTIONS_A_REQUEST)
            for d in evaluate_all(self.http, self.profile.decisions, self._bearer, asked[n : n + QUESTIONS_A_REQUEST])
        ]

    def attempt(self, signed_in: SignedIn, operation: Operation, place: str) -> Trial:
        url, headers, body = trial(self.profile.work, signed_in.header(), operation, place)
        return trial_of(self.http.send(operation.method, url, headers, body))
