"""The driver `open`: tenants that speak open standards (docs/tenant-protocol.md)."""

from __future__ import annotations

import base64
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import UTC, datetime
from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from sigillum.core.deciding.proofs import Trial
from sigillum.core.kinds.changes import Change, End, Entry, Make
from sigillum.core.kinds.identities import CLIENT
from sigillum.core.kinds.kind import Fact, Kind, Query, Record, answers
from sigillum.core.kinds.profile import SEALED, Operation, Profile
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.errors import RefusedError, UnreachableError
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import plain
from sigillum.core.values.times import ClockReading
from sigillum.keeping.port import Vault
from sigillum.protocols.http import Answer, Http, HttpError
from sigillum.protocols.scim import ScimClient, ScimRefusedError, patch_body
from sigillum.protocols.together import together
from sigillum.tenants.port import OWN, Address, Link, Proof, Reply, Result, SignedIn, now_at

from .answers import refused, secret_of, trial, trial_of
from .codec import Wire
from .codecs import CODECS, USUAL_ENDPOINTS
from .discovery import discover
from .profile import profile_of

if TYPE_CHECKING:  # signing in needs it, looking does not
    from sigillum.core.deciding.values import Question
    from sigillum.protocols import oauth

    from .registration import Registrar

Json = dict[str, Any]
VALUES_A_FILTER = 20
QUESTIONS_A_REQUEST = 100


def connect(address: Address, link: Link) -> OpenTenant:
    """Reach a tenant and discover what it can do: two requests. Raises UnreachableError, RefusedError."""
    ca = str(link.folder / address.ca) if address.ca else None
    http = Http(origins=address.trusted, timeout_seconds=link.timeout_seconds, ca_file=ca, log=link.log)
    tenant = OpenTenant(address, http, link.token, link)
    tenant.discover()
    return tenant


class OpenTenant:
    """SCIM for administration, OAuth for tokens, AuthZEN for decisions, the announced calls for trials."""

    def __init__(self, address: Address, http: Http, token: Secret, link: Link | None = None) -> None:
        self._link = link = link if link is not None else Link(token, Path())
        self._say: Callable[[str], None] | None = link.say
        self._kept: Callable[[str], list[Any]] | None = link.registrations
        self._keep: Callable[[str, Json], None] = link.register or (lambda tenant, fresh: None)
        self.address, self.http, self._token = address, http, token
        self.clock: ClockReading | None = None
        self.profile, self.known_seconds = Profile(), 0.0
        self.wire = Wire(address.address.rstrip("/"), USUAL_ENDPOINTS)
        pausing: Json = {"pause": link.pause} if link.pause is not None else {}
        self.scim = ScimClient(http, address.address, token, observe=self._observe, busy_seconds=link.timeout_seconds,
                               **pausing)

    def say(self, text: str) -> None:
        if self._say is not None:
            self._say(text)

    def _observe(self, answer: Answer) -> None:
        reading = answer.clock()
        if reading is not None:
            self.clock = reading if self.clock is None else self.clock.narrowed(reading)

    # --- discovery --------------------------------------------------------------------------------------
    def discover(self, *, anew: bool = False) -> None:
        """Learn resource types and profile; `anew`: whatever was kept of them."""
        found = discover(self.scim, self._link, anew=anew, at_once=self.http.slow)
        self.wire, self.known_seconds = Wire(self.scim.base, found.endpoints, found.extensions), found.known_seconds
        self.profile = profile_of(found.profile, self.wire, self.address.issuer)

    def store(self, path: str) -> Vault | None:
        if not self.profile.store:
            return None
        from .store import SecretStore
        return SecretStore(self.http, self.profile.store, lambda: self._bearer, self.address.name, path)

    # --- facts --------------------------------------------------------------------------------------------
    def facts(self, queries: Iterable[Query[Any]]) -> dict[Query[Any], Fact[Any]]:
        """One request a kind and round, with the conditions joined by `or`; on a slow line all at the same time."""
        by_kind: dict[Kind[Any], list[Query[Any]]] = {}
        for query in queries:
            by_kind.setdefault(query.kind, []).append(query)
        out: dict[Query[Any], Fact[Any]] = {}
        requests: list[Callable[[], dict[Query[Any], Fact[Any]]]] = []
        for kind, asked in by_kind.items():
            asked = self._registered(kind, asked, out)
            if kind.name not in self.wire.endpoints:
                out |= {q: Fact(unknown=f"it has no resource type for a {kind.name}", never=True) for q in asked}
                continue
            requests += [partial(self._some, kind, asked[n:n + VALUES_A_FILTER]) for n in range(0, len(asked), VALUES_A_FILTER)]
        for found in together(requests) if self.http.slow else [r() for r in requests]:
            out |= found
        return out

    @cached_property
    def _registrar(self) -> Registrar | None:
        """Where clients can only be registered dynamically; None where SCIM has them, or nobody does."""
        if "client" in self.wire.endpoints or not self.profile.issuer or self._kept is None:
            return None
        from .registration import Kept, Registrar
        endpoint, kept = self.metadata.registration_endpoint, self._kept

        def ours() -> list[Kept]:
            return [Kept(k["answer"], k["external_id"]) for k in kept(self.address.name)]
        def keep(fresh: Kept) -> None:
            self._keep(self.address.name, {"answer": dict(fresh.answer), "external_id": fresh.external_id})
        return Registrar(self.http, endpoint, self._token, ours, refused, keep) if endpoint else None

    @cached_property
    def _any_registered(self) -> bool:
        """Has it registered a client of ours? Looked up once, and true from the first that is made."""
        return "client" not in self.wire.endpoints and self._kept is not None and bool(self._kept(self.address.name))

    def _registered(self, kind: Kind[Any], asked: list[Query[Any]], out: dict[Query[Any], Fact[Any]]) -> list[Query[Any]]:
        """Answer what only the registrar can; what is left is asked as usual."""
        ours = kind is CLIENT or (kind is CREDENTIAL and self._any_registered)
        if not ours or self._registrar is None:
            return asked
        for query in asked:
            if kind is CLIENT or (query.field == "principal" and self._registrar.knows(query.value)):
                out[query] = self._registrar.fact(query)
        return [q for q in asked if q not in out]

    def _some(self, kind: Kind[Any], asked: list[Query[Any]]) -> dict[Query[Any], Fact[Any]]:
        codec = CODECS[kind.name]
        filters = [codec.filter(q) for q in asked]
        joined = "" if "" in filters else " or ".join(filters)
        try:
            found = [codec.record(r) for r in self.scim.find(self.wire.endpoints[kind.name], joined)]
        except ScimRefusedError as problem:
            if problem.status == 401:
                raise
            return {q: Fact(unknown=problem.detail) for q in asked}
        return {q: Fact(tuple(r for r in found if answers(q, r))) for q in asked}

    def _path(self, kind: Kind[Any], identity: Any) -> str:
        return f"{self.wire.endpoints[kind.name]}/{quote(str(identity), safe='')}"

    def read(self, kind: Kind[Any], identity: str) -> Record[Any] | None:
        if kind is CLIENT and self._registrar is not None:
            return self._registrar.read(identity)
        if kind is CREDENTIAL and identity.startswith(OWN) and self._registrar is not None:
            return self._registrar.credential(identity)
        if kind.name not in self.wire.endpoints:
            return None
        try:
            return CODECS[kind.name].record(self.scim.look(self._path(kind, identity), f"reading the {kind.name} back"))
        except ScimRefusedError as problem:
            if problem.status == 404:
                return None
            raise

    # --- changes: one request each ----------------------------------------------------------------------------
    def make(self, make: Make, mark: str) -> Reply:
        kind, part = make.kind, make.part
        if self._registrar is not None and kind is CLIENT:
            self._any_registered = True
            return self._registrar.register(mark, part)
        if kind is CREDENTIAL and part.get("carrier") == CLIENT.name and self._registrar is not None:
            client = str(part["principal"])
            if part.get("public_key"):
                reply = self._registrar.set_key(client, part["public_key"])
                if reply.result is not Result.DONE:
                    return reply
            records = self._registrar.fact(Query(CREDENTIAL, "principal", client)).records
            return Reply(Result.DONE, records[0]) if records else Reply(Result.MISSING, detail="the client is not there")
        body = CODECS[kind.name].body(self.wire, mark, part)
        return self._reply(kind, "POST", self.wire.endpoints[kind.name], body)

    def change(self, change: Change) -> Reply:
        if change.kind is CLIENT and self._registrar is not None:
            return self._registrar.change(str(change.id), change.part)
        body = patch_body(CODECS[change.kind.name].changes(self.wire, change.part))
        return self._reply(change.kind, "PATCH", self._path(change.kind, change.id), body, change.version)

    def enter(self, entry: Entry) -> Reply:
        """Without `If-Match`: others may change the list at the same time."""
        message = CODECS[entry.kind.name].entry(entry)
        return self._reply(entry.kind, "PATCH", self._path(entry.kind, entry.id), message)

    def end(self, end: End) -> Reply:
        if end.kind is CLIENT and self._registrar is not None:
            return self._registrar.end(str(end.id))
        if end.kind is CREDENTIAL and str(end.id).startswith(OWN):
            return Reply(Result.MISSING, detail="a registration has one credential: a new one takes its place")
        return self._reply(end.kind, "DELETE", self._path(end.kind, end.id), None)

    def _reply(self, kind: Kind[Any], method: str, path: str, body: Json | None, version: str = "") -> Reply:
        try:
            answer = self.scim.send(method, path, body, if_match=version)
            if answer.status in (200, 201, 202) and answer.body:
                return Reply(Result.DONE, CODECS[kind.name].record(answer.object()))
            if answer.status in (200, 204):
                return Reply(Result.DONE)
        except HttpError as problem:
            return Reply(Result.LOST if problem.sent else Result.UNSENT, detail=problem.what, error=problem)
        return refused(answer, f"{'making' if method == 'POST' else 'changing'} the {kind.name}")

    def fetch_secret(self, identity: str) -> Reply:
        if identity.startswith(OWN) and self._registrar is not None:
            own = self._registrar.secret(identity)
            if own is not None:
                return Reply(Result.DONE, secret=own)
        from sigillum.protocols.sealed import Envelope
        envelope = Envelope()
        path = f"{self._path(CREDENTIAL, identity)}/secret"
        try:
            answer = self.scim.send("POST", path, {"sealTo": envelope.public()})
            told = secret_of(answer, envelope, self.address.name, sealed=self.profile.secret_delivery == SEALED) \
                if answer.status == 200 else None
            if told is not None:
                return told
        except HttpError as problem:
            return Reply(Result.LOST if problem.sent else Result.UNSENT, detail=problem.what, error=problem)
        return refused(answer, "fetching the secret")

    # --- the identity's own side ------------------------------------------------------------------------------
    @cached_property
    def metadata(self) -> oauth.Metadata:
        from sigillum.protocols import oauth
        if not self.profile.issuer:
            raise UnreachableError("it names no authorization server", where=self.address.name,
                                   mend=f"run `sigillum tenant add {self.address.name} ... --issuer ADDRESS`")
        return oauth.discover(self.http, self.profile.issuer)

    @property
    def token_endpoint(self) -> str:
        return self.metadata.token_endpoint if self.profile.issuer else ""

    @property
    def _bearer(self) -> str:
        return f"Bearer {self._token.reveal()}"

    def _assertion(self, proof: Proof) -> Secret:
        from sigillum.protocols import oauth
        assert proof.key is not None
        most = self.profile.assertion_seconds or oauth.USUAL_ASSERTION_SECONDS
        return oauth.assertion(proof.key, proof.algorithm, proof.client_id or proof.principal, self.metadata.issuer,
                               now_at(self, datetime.now(UTC)), min(most, oauth.USUAL_ASSERTION_SECONDS),
                               thumbprint(proof.key), proof.certificate)

    def _client(self, proof: Proof) -> oauth.ClientProof:
        """How the identity authenticates like a client: a fresh assertion, or its secret."""
        from sigillum.protocols import oauth
        signed = self._assertion(proof) if proof.key is not None else None
        return oauth.ClientProof(proof.client_id, signed, proof.secret, self.metadata.secret_in_body)

    def sign_in(self, proof: Proof) -> SignedIn:
        """A fresh assertion, a fresh token, and the tenant's word for whose token it is (RFC 7662)."""
        if proof.token is not None:
            return SignedIn(proof.token, proof.principal, "with an API token")
        if proof.account and proof.secret is not None:
            pair = base64.b64encode(f"{proof.account}:{proof.secret.reveal()}".encode()).decode()
            return SignedIn(Secret(pair), proof.principal, "with its name and password", "Basic")
        from sigillum.protocols import oauth
        if proof.assertion is not None and proof.trust:
            return self._exchanged(proof, proof.assertion)
        if proof.assertion is not None:
            token = oauth.token_for_assertion(self.http, self.metadata, proof.assertion)
            return SignedIn(token.value, proof.principal, "with a token of its home")
        if proof.client_id:
            token = oauth.token_for_client(self.http, self.metadata, self._client(proof))
        else:
            token = self._by_assertion(proof)
        said = self._whose(proof, token.value)
        if said is None:
            return SignedIn(token.value, proof.principal, "a fresh token; the tenant does not say whose it is",
                            lives_seconds=token.lives_seconds)
        subject = plain(said.get("sub", ""))
        if not subject and proof.client_id and said.get("client_id") == proof.client_id:
            subject = proof.principal  # `sub` is optional (RFC 7662 §2.2); the client itself is named
        if said.get("active") is not True or subject != proof.principal:
            raise RefusedError(f"the token runs as {subject or 'nobody'}, not as {proof.principal}",
                               where=self.address.name, mend="ask the tenant's operator; nothing was tried")
        return SignedIn(token.value, subject, f"a fresh token; the tenant says: {subject}", lives_seconds=token.lives_seconds)

    def _exchanged(self, proof: Proof, outside: Secret) -> SignedIn:
        """By a trust; whose token was given is asked with it, since nobody else can ask (RFC 7662 wants a client)."""
        from sigillum.protocols import oauth
        token = oauth.token_for_token(self.http, self.metadata, outside, proof.trust, proof.principal)
        signed = SignedIn(token.value, proof.principal, "for a token from outside", lives_seconds=token.lives_seconds)
        if self.taken(signed) is not True:
            raise RefusedError("what the tenant gave is no token of that account, and was dropped", where=self.address.name,
                               mend="ask the tenant's operator")
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
        return oauth.token_for_client(self.http, self.metadata, self._client(proof), issuer).value

    def taken(self, signed_in: SignedIn) -> bool | None:
        from sigillum.protocols.authzen import let_in
        where = self.profile.decisions
        return let_in(self.http, where, signed_in.header(), signed_in.principal) if where else None

    def as_administrator(self, principal: str) -> SignedIn:
        return SignedIn(self._token, principal, "asked by the administrator, not signed in as the identity")

    def ask(self, signed_in: SignedIn, permission: str, place: str, person: str = "") -> Trial:
        from sigillum.protocols.authzen import Evaluation, evaluate
        try:
            decision, reason = evaluate(self.http, self.profile.decisions, signed_in.header(),
                                        Evaluation(signed_in.principal, permission, place, person=person))
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
        return [Trial(*d) for n in range(0, len(asked), QUESTIONS_A_REQUEST) for d in evaluate_all(
            self.http, self.profile.decisions, self._bearer, asked[n:n + QUESTIONS_A_REQUEST])]

    def attempt(self, signed_in: SignedIn, operation: Operation, place: str) -> Trial:
        url, headers, body = trial(self.profile.work, signed_in.header(), operation, place)
        return trial_of(self.http.send(operation.method, url, headers, body))
