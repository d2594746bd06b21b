"""The driver `open`: tenants that speak open standards (docs/tenant-protocol.md)."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from sigillum.core.kinds.changes import Change, End, Entry, Make
from sigillum.core.kinds.identities import CLIENT
from sigillum.core.kinds.kind import Fact, Kind, Query, Record, answers
from sigillum.core.kinds.profile import SEALED, Profile
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.secret import Secret
from sigillum.core.values.times import ClockReading
from sigillum.keeping.port import Vault
from sigillum.protocols.http import Answer, Http, HttpError
from sigillum.protocols.scim import ScimClient, ScimRefusedError, patch_body
from sigillum.protocols.together import together
from sigillum.tenants.port import OWN, Address, Link, Reply, Result, SignedIn

from .answers import refused, secret_of
from .codec import Wire
from .codecs import CODECS, USUAL_ENDPOINTS
from .discovery import discover
from .identity import ScimSignIns
from .profile import profile_of

if TYPE_CHECKING:  # signing in needs it, looking does not
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


class OpenTenant(ScimSignIns):
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
        self.scim = ScimClient(
            http, address.address, token, observe=self._observe, busy_seconds=link.timeout_seconds, **pausing
        )

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

    def store(self, path: str, by: SignedIn | None = None) -> Vault | None:
        if not self.profile.store:
            return None
        from .store import SecretStore

        bearer = (lambda: self._bearer) if by is None else by.header
        return SecretStore(self.http, self.profile.store, bearer, self.address.name, path, by.principal if by else "")

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
            absent = [q for q in asked if not CODECS[kind.name].knows(q, self.wire)]
            out |= {q: Fact(unknown=f"it has no `{q.field}` of a {kind.name}", never=True) for q in absent}
            asked = [q for q in asked if q not in out]
            requests += [
                partial(self._some, kind, asked[n : n + VALUES_A_FILTER]) for n in range(0, len(asked), VALUES_A_FILTER)
            ]
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
            carried, path = self.profile.carried(kind), self.wire.endpoints[kind.name]
            found = [codec.record(r, carried) for r in self.scim.find(path, joined)]
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
            return CODECS[kind.name].record(
                self.scim.look(self._path(kind, identity), f"reading the {kind.name} back"), self.profile.carried(kind)
            )
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
                return Reply(Result.DONE, CODECS[kind.name].record(answer.object(), self.profile.carried(kind)))
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
            told = (
                secret_of(answer, envelope, self.address.name, sealed=self.profile.secret_delivery == SEALED)
                if answer.status == 200
                else None
            )
            if told is not None:
                return told
        except HttpError as problem:
            return Reply(Result.LOST if problem.sent else Result.UNSENT, detail=problem.what, error=problem)
        return refused(answer, "fetching the secret")
