"""A tenant that is a secret store, as a vault: secrets by their paths below its containers, in versions."""

from __future__ import annotations

import json
from collections.abc import Callable
from urllib.parse import quote

from sigillum.core.values.errors import MachineError, RefusedError
from sigillum.core.values.text import plain
from sigillum.protocols.http import Answer, Http


class SecretStore:
    """One secret of a store, and its generations beside it: `PATH` is what consumers read, `PATH.N` a generation.

    Raises RefusedError, UnreachableError.
    """

    def __init__(self, http: Http, store: str, bearer: Callable[[], str], tenant: str, path: str, who: str = "") -> None:
        """`who` reads there; empty: the administrator does."""
        self._http, self._store, self._bearer, self._tenant, self._path = http, store.rstrip("/"), bearer, tenant, path
        self._who = who

    def at(self, name: str) -> str:
        """Where an entry stands: by the number behind its last dot, which what consumers read has none of."""
        _, dot, number = name.rpartition(".")
        return f"{self._path}.{number}" if dot and number.isdigit() else self._path

    def get(self, name: str) -> str | None:
        answer = self._send("GET", name)
        if answer.status == 404:
            return None
        value = self._good(answer, "reading").object(handed=True).get("value")
        if not isinstance(value, str):
            raise MachineError("the store tells no value", where=answer.url, mend="ask its operator")
        return value

    def put(self, name: str, content: str) -> None:
        self._good(self._send("PUT", name, json.dumps({"value": content}).encode()), "writing")

    def remove(self, name: str) -> None:
        answer = self._send("DELETE", name)
        if answer.status != 404:
            self._good(answer, "destroying")

    def _send(self, method: str, name: str, body: bytes | None = None) -> Answer:
        headers = {
            "Authorization": self._bearer(),
            "Accept": "application/json",
            **({"Content-Type": "application/json"} if body is not None else {}),
        }
        return self._http.send(method, f"{self._store}/{quote(self.at(name))}", headers, body)

    def _good(self, answer: Answer, doing: str) -> Answer:
        if answer.status in (200, 201, 204):
            return answer
        said = plain(answer.body[:200].decode("utf-8", "replace"))
        raise RefusedError(
            f"{doing} the secret {self._path}: status {answer.status} {said}",
            where=self._tenant,
            mend=f"{self._who} needs a role that allows it at that container"
            if self._who
            else "the administrator needs the power `secrets`, and the container has to be there",
        )
