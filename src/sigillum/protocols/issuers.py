"""The keys of an outside issuer: found by its own configuration (OpenID Connect Discovery, RFC 8414), or pinned in a file."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sigillum.core.values.errors import UnreachableError
from sigillum.core.values.outside import json_of
from sigillum.core.values.text import plain

from .addresses import origin_of
from .http import Http
from .oauth import OPENID_WELL_KNOWN, WELL_KNOWN
from .tokens import MOST_KEYS


class IssuerKeys:
    """The keys of one issuer: looked up when they are needed, and anew at most once more in a run."""

    def __init__(self, http: Http, issuer: str) -> None:
        self._http, self._issuer = http, issuer
        self._found: list[dict[str, Any]] | None = None
        self._anew = False

    def __call__(self, anew: bool) -> Sequence[Mapping[str, Any]]:
        if self._found is None or (anew and not self._anew):
            self._anew = self._found is not None
            self._found = self._look()
        return self._found

    def _look(self) -> list[dict[str, Any]]:
        """Raises UnreachableError where there is no configuration, or one that speaks for another issuer (RFC 8414 §3.3)."""
        for path in (OPENID_WELL_KNOWN, WELL_KNOWN):
            answer = self._http.send("GET", self._issuer.rstrip("/") + path, {"Accept": "application/json"})
            if answer.status != 200:
                continue
            found = answer.object()
            if found.get("issuer") != self._issuer:
                raise UnreachableError(
                    f"its configuration speaks for another issuer: {plain(found.get('issuer'))}",
                    where=answer.url,
                    mend="write the issuer just as its tokens say it",
                )
            address = found.get("jwks_uri")
            if not isinstance(address, str) or origin_of(address) != origin_of(self._issuer):
                raise UnreachableError(
                    f"its configuration names keys elsewhere: {plain(address)}",
                    where=answer.url,
                    mend="pin its keys in a file, `keys: file:PATH`, if they really stand there",
                )
            answer = self._http.send("GET", address, {"Accept": "application/json"})
            if answer.status != 200:
                raise UnreachableError(
                    f"its keys are not given (status {answer.status})", where=address, mend="try again; or ask who operates it"
                )
            return keys_in(answer.json, address)
        raise UnreachableError(
            "it has no configuration that tells its keys",
            where=self._issuer,
            mend="check the issuer, or pin its keys in a file, `keys: file:PATH`",
        )


TEXTS = ("kty", "use", "alg", "kid", "crv", "x", "y", "n", "e")
MOST_MEMBER = 16_384 // 6 + 2  # characters: an RSA modulus of 16,384 bits


def keys_in(found: Any, where: str) -> list[dict[str, Any]]:
    """The keys of a key set (RFC 7517 §5). Raises UnreachableError."""
    keys = found.get("keys") if isinstance(found, dict) else None
    if not isinstance(keys, list):
        raise UnreachableError("it holds no key set", where=where, mend="a JWK set (RFC 7517) is needed, an object with `keys`")
    return [k for k in keys[:MOST_KEYS] if isinstance(k, dict) and _as_it_should(k)]


def _as_it_should(key: dict[str, Any]) -> bool:
    """Are its members of their types (RFC 7517 §4), and none larger than anybody's? One that is not is no key (§5)."""
    operations = key.get("key_ops", [])
    texts = all(isinstance(v, str) and len(v) <= MOST_MEMBER for n, v in key.items() if n in TEXTS)
    return texts and isinstance(operations, list) and all(isinstance(o, str) for o in operations)


def pinned(text: str, where: str) -> list[dict[str, Any]]:
    """The keys of a file. Raises UnreachableError."""
    try:
        return keys_in(json_of(text), where)
    except ValueError as problem:
        raise UnreachableError("the file holds no JSON", where=where, mend="write a JWK set (RFC 7517) into it") from problem
