"""Clients of a tenant that offers dynamic registration only (RFC 7591, managed by RFC 7592).

Nobody can list them there: ours are known by what the registration answered, which is kept here. The client id is its only
identifier, and its one credential is part of the registration.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime
from typing import Any, NamedTuple

from sigillum.core.kinds.identities import CLIENT, Client
from sigillum.core.kinds.kind import Fact, Query, Record
from sigillum.core.kinds.signing import CREDENTIAL, Credential
from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.errors import SomebodyError
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import plain
from sigillum.protocols.http import Answer, Http, HttpError
from sigillum.tenants.port import OWN, Reply, Result

Json = dict[str, Any]
SECRET_BASIC, PRIVATE_KEY = "client_secret_basic", "private_key_jwt"
KEPT = ("client_id", "client_secret", "client_secret_expires_at", "registration_access_token", "registration_client_uri")


class Kept(NamedTuple):
    """What a registration answered, as it is kept here, with the externalId of the intent that made it."""

    answer: Mapping[str, Any]
    external_id: str = ""


class Registrar:
    """Registers, reads, changes and ends clients. `kept` gives what is kept of this tenant's registrations, and `keep` takes
    what an answer says anew.
    """

    def __init__(
        self,
        http: Http,
        endpoint: str,
        token: Secret,
        kept: Callable[[], list[Kept]],
        refused: Callable[[Answer, str], Reply],
        keep: Callable[[Kept], None],
    ) -> None:
        self.http, self.endpoint, self._token, self._kept, self._refused = http, endpoint, token, kept, refused
        self._keep = keep
        self._leaving = set[str]()  # whose ending was sent, and not answered

    # --- looking ------------------------------------------------------------------------------------------------
    def fact(self, query: Query[Any]) -> Fact[Any]:
        """Of ours only: by client id, by externalId, and the credential that hangs on one."""
        try:
            return self._fact(query)
        except SomebodyError as problem:
            return Fact(unknown=problem.what)

    def _fact(self, query: Query[Any]) -> Fact[Any]:
        if query.kind is CREDENTIAL:
            kept = self._of(query.value)
            shown = self._shown(kept) if kept is not None else None
            return Fact(tuple(self._credentials(shown, kept))) if shown is not None and kept is not None else Fact()
        if query.field == "mark":
            found = next((k for k in self._kept() if k.external_id == query.value), None)
            record = self.read(str(found.answer.get("client_id"))) if found is not None else None
        else:
            record = self.read(query.value) if query.field in ("id", "client_id") else None
        return Fact((record,)) if record is not None else Fact()

    def knows(self, client_id: str) -> bool:
        return self._of(client_id) is not None

    def _of(self, client_id: str) -> Kept | None:
        return next((k for k in self._kept() if k.answer.get("client_id") == client_id), None)

    def _shown(self, kept: Kept) -> Json | None:
        """The registration as the server shows it (RFC 7592 §2.1), None where it is gone.

        Raises SomebodyError where it is not shown: a 401 says that its token is not taken, and not that it is gone.
        """
        answer = self._send("GET", kept, None)
        if answer.status == 200:
            return self._noted(kept, answer)
        if answer.status == 404:
            return None
        raise SomebodyError(
            f"the registration {plain(kept.answer.get('client_id'))} is not shown (status {answer.status})",
            where=answer.url,
            mend="ask the server's operator whether it is still there, and for a new registration access token if it is",
        )

    def _noted(self, kept: Kept, answer: Answer) -> Json:
        """What the answer says anew is kept at once: where a token or secret was rotated, the old one is dead (RFC 7592 §3)."""
        shown = answer.object(handed=True)
        fresh = {**kept.answer, **{n: shown[n] for n in KEPT if shown.get(n) is not None}}
        if fresh != kept.answer and shown.get("client_id") == kept.answer.get("client_id"):
            self._keep(Kept(fresh, kept.external_id))
        return shown

    def read(self, client_id: str) -> Record[Client] | None:
        """The registration in our words, None where it is gone."""
        kept = self._of(client_id)
        shown = self._shown(kept) if kept is not None else None
        return self._record(shown, kept) if shown is not None and kept is not None else None

    def _record(self, shown: Json, kept: Kept) -> Record[Client]:
        identity = str(shown.get("client_id") or "")
        redirects = tuple(sorted(str(u) for u in _listed(shown.get("redirect_uris"))))
        return Record(
            CLIENT,
            identity,
            Client(str(shown.get("client_name") or ""), identity, redirects=redirects),
            "",
            kept.external_id,
            carried=frozenset(("name", "client_id", "redirects")),
        )

    def credential(self, identity: str) -> Record[Credential] | None:
        """A client's credential by its id, which begins with OWN and the client id."""
        client = identity.removeprefix(OWN).partition("/")[0]
        return next((r for r in self.fact(Query(CREDENTIAL, "principal", client)).records if r.id == identity), None)

    def _credentials(self, shown: Json, kept: Kept) -> Iterator[Record[Credential]]:
        """The one that the registration names; what the server does not say (name, limits) is not carried."""
        client = str(shown.get("client_id") or "")
        if shown.get("token_endpoint_auth_method") == PRIVATE_KEY:
            held = shown.get("jwks")
            for key in _listed(held.get("keys") if isinstance(held, dict) else None):
                mark = _mark(key)
                yield Record(
                    CREDENTIAL,
                    f"{OWN}{client}/{mark}",
                    Credential(client, type="key-pair", thumbprint=mark),
                    carried=frozenset(("principal", "type", "thumbprint")),
                )
        elif kept.answer.get("client_secret"):
            until = _ends(kept)
            yield Record(
                CREDENTIAL,
                f"{OWN}{client}/secret",
                Credential(client, type="shared-secret", until=until),
                carried=frozenset(("principal", "type", *(["until"] if until else []))),
            )

    # --- changes: one request each ----------------------------------------------------------------------------
    def register(self, external_id: str, fields: Mapping[str, Any]) -> Reply:
        """POST (RFC 7591 §3.1); `software_id` says whose it is. What comes back is a secret as a whole."""
        body = {**_metadata(fields), "token_endpoint_auth_method": SECRET_BASIC, "software_id": external_id}
        try:
            answer = self.http.send("POST", self.endpoint, self._headers(self._token), json.dumps(body).encode())
            if answer.status != 201:
                return self._refused(answer, "registering the client")
            shown = answer.object(handed=True)
            kept = {n: shown[n] for n in KEPT if n in shown}
            return Reply(
                Result.DONE,
                self._record(shown, Kept(kept, external_id)),
                secret=Secret(json.dumps({"answer": kept, "external_id": external_id})),
            )
        except HttpError as problem:
            return Reply(Result.LOST if problem.sent else Result.UNSENT, detail=problem.what, error=problem)

    def change(self, client_id: str, fields: Mapping[str, Any]) -> Reply:
        return self._put(client_id, _metadata(fields), "changing the client")

    def set_key(self, client_id: str, key: Mapping[str, Any]) -> Reply:
        """From now on the client proves itself with this key (RFC 7523 §2.2) and nothing else."""
        changes = {"token_endpoint_auth_method": PRIVATE_KEY, "jwks": {"keys": [dict(key)]}}
        return self._put(client_id, changes, "setting the key")

    def end(self, client_id: str) -> Reply:
        """DELETE (RFC 7592 §2.3)."""
        kept = self._of(client_id)
        if kept is None:
            return Reply(Result.MISSING, detail="its registration is not kept here")
        try:
            answer = self._send("DELETE", kept, None)
        except HttpError as problem:
            self._leaving |= {client_id} if problem.sent else set()
            return Reply(Result.LOST if problem.sent else Result.UNSENT, detail=problem.what, error=problem)
        if answer.status == 404 or (answer.status == 401 and client_id in self._leaving):  # §2.3: it takes its token along
            return Reply(Result.MISSING)
        return Reply(Result.DONE) if answer.status == 204 else self._refused(answer, "ending the client")

    def _put(self, client_id: str, changes: Json, doing: str) -> Reply:
        """PUT (RFC 7592 §2.2): the whole metadata, with what the server answered for itself left out."""
        kept = self._of(client_id)
        try:
            shown = self._shown(kept) if kept is not None else None
        except SomebodyError as problem:
            return Reply(Result.REFUSED, detail=problem.what, error=problem)
        kept = self._of(client_id)  # the answer may have brought another token
        if kept is None or shown is None:
            return Reply(Result.MISSING, detail="it is not there")
        body = {
            n: v for n, v in shown.items() if not n.startswith("registration_") and "issued" not in n and "secret" not in n
        } | changes
        try:
            answer = self._send("PUT", kept, body)
        except HttpError as problem:
            return Reply(Result.LOST if problem.sent else Result.UNSENT, detail=problem.what, error=problem)
        if answer.status != 200:
            return self._refused(answer, doing)
        return Reply(Result.DONE, self._record(self._noted(kept, answer), kept))

    def secret(self, client_id: str) -> Secret | None:
        """The client's secret, which came with the registration; by its credential's id."""
        kept = self._of(client_id.removeprefix(OWN).partition("/")[0])
        value = kept.answer.get("client_secret") if kept is not None else None
        return Secret(str(value)) if value else None

    def _send(self, method: str, kept: Kept, body: Json | None) -> Answer:
        token = Secret(str(kept.answer.get("registration_access_token")))
        return self.http.send(
            method,
            str(kept.answer.get("registration_client_uri")),
            self._headers(token),
            json.dumps(body).encode() if body is not None else None,
        )

    def _headers(self, token: Secret) -> dict[str, str]:
        return {"Authorization": f"Bearer {token.reveal()}", "Content-Type": "application/json", "Accept": "application/json"}


def _metadata(fields: Mapping[str, Any]) -> Json:
    """Our words as client metadata (RFC 7591 §2)."""
    out: Json = {"grant_types": ["client_credentials"]}
    if "name" in fields:
        out["client_name"] = fields["name"]
    if fields.get("redirects"):
        out["redirect_uris"] = list(fields["redirects"])
    return out


def _listed(value: Any) -> list[Any]:
    return value if isinstance(value, list) else []


def _mark(key: Any) -> str:
    """The thumbprint of a key as it is shown; of something else, nothing that any key has."""
    try:
        return thumbprint(key)
    except (KeyError, TypeError, ValueError):
        return ""


def _ends(kept: Kept) -> datetime | None:
    """`client_secret_expires_at` (RFC 7591 §3.2.1): 0 means never."""
    seconds = kept.answer.get("client_secret_expires_at")
    try:
        return datetime.fromtimestamp(seconds, UTC) if isinstance(seconds, int) and seconds > 0 else None
    except (ValueError, OverflowError, OSError):  # a time that no calendar here holds: as good as never
        return None
