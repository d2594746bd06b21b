"""OAuth 2.0: metadata (RFC 8414), the JWT bearer grant (RFC 7523), introspection (RFC 7662)."""

from __future__ import annotations

import json
import secrets
from collections.abc import Mapping
from datetime import datetime
from functools import lru_cache
from typing import Any, NamedTuple
from urllib.parse import quote_plus, urlencode, urlsplit, urlunsplit

from sigillum.core.values.canonical import canonical
from sigillum.core.values.errors import MachineError, RefusedError, UnreachableError
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import plain

from .http import Answer, Http, basic

JWT_BEARER = "urn:ietf:params:oauth:grant-type:jwt-bearer"
EXCHANGE = "urn:ietf:params:oauth:grant-type:token-exchange"  # RFC 8693
JWT_TYPE, ACCESS_TYPE = "urn:ietf:params:oauth:token-type:jwt", "urn:ietf:params:oauth:token-type:access_token"
ASSERTION_TYPE = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"
WELL_KNOWN = "/.well-known/oauth-authorization-server"
OPENID_WELL_KNOWN = "/.well-known/openid-configuration"  # OpenID Connect Discovery §4: many servers have that one only
USUAL_ASSERTION_SECONDS = 60


REFUSALS = {  # what to do about an error of a token endpoint (RFC 6749 §5.2, RFC 8693 §2.2.2)
    "invalid_client": "it does not know the client, or not the credential: compare both with what it shows",
    "invalid_grant": "what was presented is not accepted: compare the account, its credential and its end with what it shows",
    "invalid_scope": "ask for scopes that it grants",
    "unauthorized_client": "the client may not sign in in this way: look at how it is registered",
    "unsupported_grant_type": "it does not offer this way of signing in",
    "invalid_target": "it gives no tokens for that audience",
    "invalid_request": "it does not accept the request as it stands: look at what it says about it",
}


class OAuthRefusedError(RefusedError):
    """An error answer of a token endpoint (RFC 6749 §5.2); `error` is its code."""

    def __init__(self, answer: Answer, doing: str) -> None:
        try:
            body = answer.object()
        except UnreachableError:
            body = {}
        self.error = plain(body.get("error") or f"status {answer.status}")
        detail = plain(body.get("error_description") or "")
        super().__init__(
            f"{doing}: {self.error}{f' ({detail})' if detail else ''}",
            where=answer.url,
            mend=REFUSALS.get(str(self.error), "ask the tenant's operator what that means there"),
        )


class Metadata(NamedTuple):
    """What an authorization server says of itself."""

    issuer: str
    token_endpoint: str
    introspection_endpoint: str = ""
    revocation_endpoint: str = ""  # RFC 7009
    registration_endpoint: str = ""  # RFC 7591 §3
    secret_in_body: bool = False  # a client's secret goes into the body, since Basic is not offered (RFC 6749 §2.3.1)


class Token(NamedTuple):
    """An access token with its life in seconds, where the answer tells."""

    value: Secret
    lives_seconds: int | None
    scope: str = ""


def discover(http: Http, issuer: str) -> Metadata:
    """Read the metadata of `issuer`, at the place RFC 8414 §3.1 gives, or below the issuer itself, by either name.

    Raises UnreachableError where there is none, or where it speaks for another issuer (§3.3).
    """
    parts = urlsplit(issuer)
    inserted = urlunsplit((parts.scheme, parts.netloc, WELL_KNOWN + parts.path.rstrip("/"), "", ""))
    for url in dict.fromkeys((inserted, issuer.rstrip("/") + WELL_KNOWN, issuer.rstrip("/") + OPENID_WELL_KNOWN)):
        answer = http.send("GET", url, {"Accept": "application/json"})
        if answer.status == 200:
            found = answer.object()
            if found.get("issuer") != issuer:
                raise UnreachableError(
                    f"its metadata speaks for another issuer: {plain(found.get('issuer'))}",
                    where=url,
                    mend="check the issuer in the tenant's entry or profile",
                )
            if not isinstance(found.get("token_endpoint"), str):
                raise UnreachableError("its metadata names no token endpoint", where=url, mend="ask its operator")
            return Metadata(
                issuer,
                found["token_endpoint"],
                str(found.get("introspection_endpoint") or ""),
                str(found.get("revocation_endpoint") or ""),
                str(found.get("registration_endpoint") or ""),
                _in_body(found),
            )
    raise UnreachableError(
        "there is no authorization server metadata", where=inserted, mend="check the issuer in the tenant's entry or profile"
    )


def kept(content: Any, issuer: str) -> Metadata | None:
    """What was kept of an issuer; None where that is nothing, or of another one."""
    try:
        found = Metadata(**content)
    except TypeError:
        return None
    texts = all(isinstance(v, str) for v in found[:-1])
    return found if texts and found.issuer == issuer and isinstance(found.secret_in_body, bool) else None


def _in_body(found: Mapping[str, Any]) -> bool:
    """Is a client's secret taken in the body only? What is left out stands for Basic (RFC 8414 §2)."""
    offered = found.get("token_endpoint_auth_methods_supported")
    return isinstance(offered, list) and "client_secret_basic" not in offered and "client_secret_post" in offered


@lru_cache(maxsize=1)
def _signing_key(key: bytes) -> Any:
    """The key of a JWK; signing in takes two signatures one after the other."""
    from joserfc.jwk import JWKRegistry

    return JWKRegistry.import_key(json.loads(key))


def assertion(
    key: Mapping[str, Any],
    algorithm: str,
    issuer: str,
    audience: str,
    now: datetime,
    life_seconds: int,
    key_id: str,
    certificate: str = "",
    subject: str = "",
) -> Secret:
    """A JWT that `issuer` signs for itself, or for another `subject` (RFC 7523 §3): aud is one string, and a fresh jti each.

    `certificate`: the `x5t#S256` of the one over its key (RFC 7515 §4.1.8), which it names instead of the key.

    Raises MachineError where nothing can be signed with the key, or by that algorithm.
    """
    return signed(
        key,
        algorithm,
        {"iss": issuer, "sub": subject or issuer, "aud": audience},
        now,
        life_seconds,
        {"x5t#S256": certificate} if certificate else {"kid": key_id},
    )


def signed(
    key: Mapping[str, Any],
    algorithm: str,
    claims: Mapping[str, Any],
    now: datetime,
    life_seconds: int,
    header: Mapping[str, str],
) -> Secret:
    """A JWT with these claims (RFC 7519), which holds from now on for so long, with a `jti` of its own. Raises MachineError."""
    return encoded(key, {"alg": algorithm, "typ": "JWT", **header}, dated(claims, now, life_seconds))


def dated(claims: Mapping[str, Any], now: datetime, life_seconds: int) -> dict[str, Any]:
    """Claims that hold from now on for so long, with a `jti` of their own."""
    issued = int(now.timestamp())
    return {**claims, "iat": issued, "exp": issued + life_seconds, "jti": secrets.token_urlsafe(16)}


def encoded(key: Mapping[str, Any], header: Mapping[str, Any], claims: Mapping[str, Any]) -> Secret:
    """Just this header and these claims, signed. Raises MachineError."""
    from joserfc import jwt
    from joserfc.errors import JoseError

    try:
        return Secret(jwt.encode(dict(header), dict(claims), _signing_key(canonical(key)), algorithms=[str(header["alg"])]))
    except (JoseError, ValueError, KeyError, TypeError, AttributeError) as problem:
        raise MachineError(
            "nothing can be signed with the key that is kept", where="the credential's file", mend="restore it from a copy"
        ) from problem


class ClientProof(NamedTuple):
    """How a client authenticates (RFC 6749 §2.3): a signed assertion (RFC 7523 §2.2), or its secret over HTTP Basic."""

    client_id: str
    signed: Secret | None = None
    secret: Secret | None = None
    in_body: bool = False

    def parameters(self) -> dict[str, str]:
        if self.secret is not None and self.in_body:
            return {"client_id": self.client_id, "client_secret": self.secret.reveal()}
        if self.signed is None:
            return {}
        return {"client_assertion_type": ASSERTION_TYPE, "client_assertion": self.signed.reveal()}

    def headers(self) -> dict[str, str]:
        if self.secret is None or self.in_body:
            return {}
        pair = basic(quote_plus(self.client_id), Secret(quote_plus(self.secret.reveal())))
        return {"Authorization": f"Basic {pair.reveal()}"}


def _post(http: Http, url: str, parameters: Mapping[str, str], more: Mapping[str, str] | None = None) -> Answer:
    headers = {"Content-Type": "application/x-www-form-urlencoded", "Accept": "application/json", **(more or {})}
    return http.send("POST", url, headers, urlencode(parameters).encode())


def token_for_assertion(
    http: Http, metadata: Metadata, signed: Secret, by: ClientProof | None = None, scope: str = "", resource: str = ""
) -> Token:
    """The JWT bearer grant (RFC 7523 §2.1); `by`: who asks, where a server wants to know; `resource`: for whom the token is
    (RFC 8707). Raises OAuthRefusedError, HttpError.
    """
    parameters = {
        "grant_type": JWT_BEARER,
        "assertion": signed.reveal(),
        **(by.parameters() if by is not None else {}),
        **({"scope": scope} if scope else {}),
        **({"resource": resource} if resource else {}),
    }
    return _token(_post(http, metadata.token_endpoint, parameters, by.headers() if by is not None else None), metadata)


def token_for_client(http: Http, metadata: Metadata, proof: ClientProof, resource: str = "") -> Token:
    """The client credentials grant (RFC 6749 §4.4); `resource`: for whom the token is (RFC 8707). Raises the same."""
    parameters = {"grant_type": "client_credentials", **proof.parameters(), **({"resource": resource} if resource else {})}
    return _token(_post(http, metadata.token_endpoint, parameters, proof.headers()), metadata)


def token_for_token(
    http: Http, metadata: Metadata, subject: Secret, trust: str, principal: str, actor: Secret | None = None
) -> Token:
    """Token exchange (RFC 8693 §2.1): a token from outside for one of the principal that a trust lets it act as.

    `trust`: which of the principal's, by its id; `actor`: the access token of who acts. Raises OAuthRefusedError, HttpError.
    """
    parameters = {
        "grant_type": EXCHANGE,
        "subject_token": subject.reveal(),
        "subject_token_type": JWT_TYPE,
        "requested_token_type": ACCESS_TYPE,
        "audience": trust,
        "act_as": principal,
    }
    if actor is not None:
        parameters |= {"actor_token": actor.reveal(), "actor_token_type": ACCESS_TYPE}
    return _token(_post(http, metadata.token_endpoint, parameters), metadata)


def _token(answer: Answer, metadata: Metadata) -> Token:
    if answer.status != 200:
        raise OAuthRefusedError(answer, "signing in")
    found = answer.object(handed=True)
    value, kind = found.get("access_token"), str(found.get("token_type", ""))
    if not isinstance(value, str) or not value or kind.lower() != "bearer":
        raise UnreachableError(
            "the token endpoint answered without a bearer token",
            where=metadata.token_endpoint,
            mend="ask the tenant's operator",
        )
    lives = found.get("expires_in")
    return Token(Secret(value), lives if isinstance(lives, int) else None, str(found.get("scope", "")))


def token_for_acting(http: Http, metadata: Metadata, actors: Secret, principal: str) -> Token:
    """Token exchange (RFC 8693 §2.1): the actor's own token for one of a principal that it may act as, named by `act_as`.

    The answer names who acts (`act`, §4.1), and is never renewed. Raises OAuthRefusedError, HttpError.
    """
    parameters = {
        "grant_type": EXCHANGE,
        "subject_token": actors.reveal(),
        "subject_token_type": ACCESS_TYPE,
        "requested_token_type": ACCESS_TYPE,
        "act_as": principal,
    }
    return _token(_post(http, metadata.token_endpoint, parameters), metadata)


def revoke(http: Http, metadata: Metadata, token: Secret, authorization: str) -> None:
    """Have a token ended (RFC 7009 §2.1). That it is answered with 200 shows nothing (§2.2): a call with it does.

    Raises RefusedError, HttpError.
    """
    if not metadata.revocation_endpoint:
        raise RefusedError(
            "tokens are not ended there: it names no place for that",
            where=metadata.issuer,
            mend="end or suspend what it was got with, and wait until the token is over",
        )
    answer = _post(http, metadata.revocation_endpoint, {"token": token.reveal()}, {"Authorization": authorization})
    if answer.status != 200:
        raise OAuthRefusedError(answer, "ending the token")


def introspect(
    http: Http, metadata: Metadata, token: Secret, proof: ClientProof | None, authorization: str = ""
) -> dict[str, Any]:
    """Whose token it is (RFC 7662), asked by the identity itself, which authenticates like a client, or by `authorization`."""
    parameters, headers = (proof.parameters(), proof.headers()) if proof is not None else ({}, {"Authorization": authorization})
    answer = _post(http, metadata.introspection_endpoint, {"token": token.reveal(), **parameters}, headers)
    if answer.status != 200:
        raise OAuthRefusedError(answer, "asking whose token it is")
    return answer.object()
