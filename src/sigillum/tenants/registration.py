"""Clients of a tenant that offers dynamic registration only (RFC 7591, managed by RFC 7592).

Nobody can list them there: ours are known by what the registration answered, which is kept here. The client id is its only
identifier, and its one credential is part of the registration.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from typing import Any, NamedTuple

from sigillum.core.kinds.facts import Fact, Query, Thing
from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import plain
from sigillum.core.values.times import format_instant
from sigillum.protocols.http import Answer, Http, HttpError

from .port import OWN, Reply, Result

Json = dict[str, Any]
SECRET_BASIC, PRIVATE_KEY = "client_secret_basic", "private_key_jwt"
KEPT = ("client_id", "client_secret", "client_secret_expires_at", "registration_access_token", "registration_client_uri")


class Kept(NamedTuple):
    """What a registration answered, as it is kept here, with the externalId of the intent that made it."""

    answer: Mapping[str, Any]
    external_id: str = ""


class Registrar:
    """Registers, reads, changes and ends clients. `kept` gives what is kept of this tenant's registrations."""

    def __init__(self, http: Http, endpoint: str, token: Secret, kept: Callable[[], list[Kept]],
                 refused: Callable[[Answer, str], Reply]) -> None:
        self.http, self.endpoint, self._token, self._kept, self._refused = http, endpoint, token, kept, refused

    # --- looking ------------------------------------------------------------------------------------------------
    def fact(self, query: Query) -> Fact:
        """Of ours only: by client id, by externalId, and the credential that hangs on one."""
        if query.kind == "credential":
            thing = self.read(query.value)
            return Fact(tuple(self._credentials(thing))) if thing is not None else Fact()
        if query.field == "external_id":
            found = next((k for k in self._kept() if k.external_id == query.value), None)
            thing = self.read(str(found.answer.get("client_id"))) if found is not None else None
        else:
            thing = self.read(query.value) if query.field in ("id", "client_id") else None
        return Fact((thing,)) if thing is not None else Fact()

    def knows(self, client_id: str) -> bool:
        return self._of(client_id) is not None

    def _of(self, client_id: str) -> Kept | None:
        return next((k for k in self._kept() if k.answer.get("client_id") == client_id), None)

    def read(self, client_id: str) -> Thing | None:
        """The registration as the server shows it (RFC 7592 §2.1), None where it is gone."""
        kept = self._of(client_id)
        if kept is None:
            return None
        answer = self._send("GET", kept, None)
        return self._thing(answer.object(), kept) if answer.status == 200 else None

    def _thing(self, shown: Json, kept: Kept) -> Thing:
        return Thing("client", plain(shown.get("client_id")), {
            "name": plain(shown.get("client_name") or ""), "client_id": plain(shown.get("client_id")), "requests": (),
            "redirects": tuple(sorted(plain(u) for u in shown.get("redirect_uris") or ())), "audience": "tenant",
            "confidential": True, "metadata": shown}, "", kept.external_id)

    def credential(self, identity: str) -> Thing | None:
        """A client's credential by its id, which begins with OWN and the client id."""
        client = identity.removeprefix(OWN).partition("/")[0]
        return next((t for t in self.fact(Query("credential", "principal", client)).things if t.id == identity), None)

    def _credentials(self, client: Thing) -> Iterator[Thing]:
        """The one that the registration names; what the server does not say (name, limits) is left out."""
        shown, kept = client.get("metadata"), self._of(client.id)
        common = {"principal": client.id, "active": True}
        if shown.get("token_endpoint_auth_method") == PRIVATE_KEY:
            for key in (shown.get("jwks") or {}).get("keys", []):
                mark = thumbprint(key)
                yield Thing("credential", f"{OWN}{client.id}/{mark}", {**common, "kind": "key-pair", "thumbprint": mark})
        elif kept is not None and kept.answer.get("client_secret"):
            until = _ends(kept)
            yield Thing("credential", f"{OWN}{client.id}/secret", {
                **common, "kind": "shared-secret", **({"until": until} if until else {})})

    # --- changes: one request each ----------------------------------------------------------------------------
    def register(self, external_id: str, fields: Mapping[str, Any]) -> Reply:
        """POST (RFC 7591 §3.1); `software_id` says whose it is. What comes back is a secret as a whole."""
        body = {**_metadata(fields), "token_endpoint_auth_method": SECRET_BASIC, "software_id": external_id}
        try:
            answer = self.http.send("POST", self.endpoint, self._headers(self._token), json.dumps(body).encode())
            if answer.status != 201:
                return self._refused(answer, "registering the client")
            shown = answer.object()
            kept = {n: shown[n] for n in KEPT if n in shown}
            return Reply(Result.DONE, self._thing(shown, Kept(kept, external_id)),
                         secret=Secret(json.dumps({"answer": kept, "external_id": external_id})))
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
            return Reply(Result.LOST if problem.sent else Result.UNSENT, detail=problem.what, error=problem)
        if answer.status in (401, 404):  # RFC 7592 §2.3: a registration that is gone takes its token along
            return Reply(Result.MISSING)
        return Reply(Result.DONE) if answer.status == 204 else self._refused(answer, "ending the client")

    def _put(self, client_id: str, changes: Json, doing: str) -> Reply:
        """PUT (RFC 7592 §2.2): the whole metadata, with what the server answered for itself left out."""
        kept, thing = self._of(client_id), self.read(client_id)
        if kept is None or thing is None:
            return Reply(Result.MISSING, detail="it is not there")
        body = {n: v for n, v in thing.get("metadata").items() if not n.startswith("registration_") and "issued" not in n
                and "secret" not in n} | changes
        try:
            answer = self._send("PUT", kept, body)
        except HttpError as problem:
            return Reply(Result.LOST if problem.sent else Result.UNSENT, detail=problem.what, error=problem)
        if answer.status != 200:
            return self._refused(answer, doing)
        return Reply(Result.DONE, self._thing(answer.object(), kept))

    def secret(self, client_id: str) -> Secret | None:
        """The client's secret, which came with the registration; by its credential's id."""
        kept = self._of(client_id.removeprefix(OWN).partition("/")[0])
        value = kept.answer.get("client_secret") if kept is not None else None
        return Secret(str(value)) if value else None

    def _send(self, method: str, kept: Kept, body: Json | None) -> Answer:
        token = Secret(str(kept.answer.get("registration_access_token")))
        return self.http.send(method, str(kept.answer.get("registration_client_uri")), self._headers(token),
                              json.dumps(body).encode() if body is not None else None)

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


def _ends(kept: Kept) -> str | None:
    """`client_secret_expires_at` (RFC 7591 §3.2.1): 0 means never."""
    from datetime import UTC, datetime
    seconds = kept.answer.get("client_secret_expires_at")
    return format_instant(datetime.fromtimestamp(seconds, UTC)) if isinstance(seconds, int) and seconds else None
