"""Where the RFCs are strict, the sandbox is: odd types, doubled names, wrong dates, what a client says of itself, many questions."""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
import urllib3

from conftest import Away
from sandbox.test_oauth import ASSERTION_TYPE, JWT_BEARER, OWN, Account, Signer, b64

EXCHANGE = "urn:ietf:params:oauth:grant-type:token-exchange"
ACCESS, JWT = "urn:ietf:params:oauth:token-type:access_token", "urn:ietf:params:oauth:token-type:jwt"
ODD: tuple[Any, ...] = (5, True, None, [], [5], [["a"]], {}, {"a": 1}, "x")
MEMBERS = [
    "redirect_uris",
    "grant_types",
    "response_types",
    "contacts",
    "token_endpoint_auth_method",
    "client_name",
    "client_uri",
    "logo_uri",
    "scope",
    "tos_uri",
    "policy_uri",
    "jwks",
    "software_id",
    "software_version",
]
Call = Callable[..., urllib3.BaseHTTPResponse]


@pytest.fixture
def account(away: Away) -> Account:
    return Account(away)


@pytest.fixture
def call(account: Account) -> Call:
    def send(method: str, where: str, body: Any = None, token: str = "") -> urllib3.BaseHTTPResponse:
        return account.away.sandbox.pool.request(
            method,
            where if where.startswith("http") else f"{account.base}{where}",
            body=json.dumps(body) if body is not None else None,
            headers={"Authorization": f"Bearer {token or account.away.tokens['ada.rusk']}"},
        )

    return send


def test_metadata_of_odd_types_is_refused_and_never_a_fault(call: Call) -> None:
    """RFC 7591 §2 says what each is; §3.2.2 how it is refused."""
    lists = {"redirect_uris", "grant_types", "response_types", "contacts"}
    for name in MEMBERS:
        for odd in ODD:
            fits = odd == [] if name in lists else isinstance(odd, dict) if name == "jwks" else isinstance(odd, str)
            fits = fits and name != "token_endpoint_auth_method"
            found = call("POST", "/oauth/clients", {name: odd})
            assert (found.status == 201) is fits, (name, odd, found.status, found.data)
            assert fits or (found.status, found.json()["error"][:8]) == (400, "invalid_"), (name, odd)
    announced = call("GET", "/.well-known/oauth-authorization-server").json()["grant_types_supported"]
    assert EXCHANGE in announced
    made = call("POST", "/oauth/clients", {"grant_types": announced})
    assert (made.status, made.json()["grant_types"]) == (201, announced)


def test_a_registration_repeats_its_token_and_takes_its_own_secret_only(call: Call) -> None:
    """RFC 7592 §3 and §2.2."""
    made = call("POST", "/oauth/clients", {"client_name": "mailer"}).json()
    where, own = made["registration_client_uri"], made["registration_access_token"]
    assert call("GET", where, token=own).json()["registration_access_token"] == own
    body = {"client_id": made["client_id"], "client_name": "other"}
    wrong: tuple[Any, ...] = ("wrong", "", 5, None, [])
    for secret in wrong:
        asked = {**body, "client_secret": secret}
        assert (call("PUT", where, asked, own).status == 400) is (secret is not None), secret
    changed = call("PUT", where, {**body, "client_secret": made["client_secret"]}, own)
    assert (changed.status, changed.json()["client_name"], changed.json()["registration_access_token"]) == (200, "other", own)


def raw(signer: Signer, header: str, claims: str) -> str:
    message = f"{b64(header.encode())}.{b64(claims.encode())}"
    return f"{message}.{b64(signer.ed.sign(message.encode()))}"


BAD: dict[
    str, tuple[Callable[[str], str], Callable[[str], str]]
] = {  # what is done to a header and to claims, which are JSON texts
    "a header's name twice": (lambda h: h.replace("{", '{"alg":"none",', 1), lambda c: c),
    "a claim twice": (lambda h: h, lambda c: c.replace("{", '{"exp":99999999999,', 1)),
    "issued long before time": (lambda h: h, lambda c: c.replace('"iat":', '"iat": -1e300, "x":')),
    "issued at no number": (lambda h: h, lambda c: c.replace('"iat":', '"iat": "0", "x":')),
    "issued at a flag": (lambda h: h, lambda c: c.replace('"iat":', '"iat": true, "x":')),
    "begins never": (lambda h: h, lambda c: c.replace('"iat":', '"nbf": -1, "iat":')),
    "ends beyond all calendars": (lambda h: h, lambda c: c.replace('"exp":', '"exp": 1e300, "x":')),
    "padding": (lambda h: h + " ", lambda c: c),
}


@pytest.mark.parametrize("name", BAD)
def test_one_reader_of_assertions_stands_at_every_entrance(account: Account, call: Call, name: str) -> None:
    """RFC 7515 §4, RFC 7519 §2 and §4, RFC 7523 §3."""
    client = call(
        "POST", "/oauth/clients", {"token_endpoint_auth_method": "private_key_jwt", "jwks": {"keys": [account.signer.public]}}
    ).json()["client_id"]
    spoil_header, spoil_claims = BAD[name]
    for good in (True, False):
        for who in (account.id, client):
            header, claims = '{"alg":"Ed25519","typ":"JWT"}', json.dumps(account.claims(iss=who, sub=who))
            token = raw(account.signer, header if good else spoil_header(header), claims if good else spoil_claims(claims))
            if name == "padding" and not good:
                head, rest = token.split(".", 1)
                token = f"{head}==.{rest}"
            form = (
                {"grant_type": JWT_BEARER, "assertion": token}
                if who == account.id
                else {"grant_type": "client_credentials", "client_assertion_type": ASSERTION_TYPE, "client_assertion": token}
            )
            answer = account.post("/oauth/token", **form)
            assert (answer.status == 200) is good, (name, who, answer.data)
            assert answer.status < 500


def test_a_subject_token_that_is_refused_is_an_invalid_request(account: Account) -> None:
    """RFC 8693 §2.2.2, and §2.1 for what stands beside what."""
    own = account.token().json()["access_token"]
    for more in (
        {"subject_token": "x", "subject_token_type": ACCESS},
        {"subject_token": "x.y.z", "subject_token_type": "urn:x"},
        {"subject_token": own, "subject_token_type": ACCESS, "actor_token": own, "actor_token_type": ACCESS},
        {"subject_token": own, "subject_token_type": ACCESS, "actor_token_type": ACCESS},
        {"subject_token": own, "subject_token_type": ACCESS, "requested_token_type": JWT},
        {"subject_token": "x.y.z", "subject_token_type": JWT, "actor_token": own},
        {"subject_token": "x.y.z", "subject_token_type": JWT, "actor_token": own, "actor_token_type": JWT},
        {"subject_token_type": JWT},
    ):
        answer = account.post("/oauth/token", grant_type=EXCHANGE, act_as=account.id, **more)
        assert (answer.status, answer.json()["error"]) == (400, "invalid_request"), (more, answer.data)


def question(account: Account, permission: str, place: str) -> dict[str, Any]:
    return {
        "subject": {"type": "service-account", "id": account.id},
        "action": {"name": permission},
        "resource": {"type": "place", "id": place},
    }


def test_several_questions_are_answered_as_was_asked_for(account: Account, call: Call) -> None:
    account.grant("stream-reader", "brindlemoor/sensing-prod")
    yes = question(account, "stream.read", "brindlemoor/sensing-prod/streams/mast-4")
    no = question(account, "stream.delete", "brindlemoor/sensing-prod/streams/mast-4")

    def asked(*all_: Any, **options: Any) -> Any:
        more = {"options": options} if options else {}
        return call("POST", "/access/v1/evaluations", {"evaluations": list(all_), **more})

    def decided(*all_: Any, **options: Any) -> list[bool]:
        return [e["decision"] for e in asked(*all_, **options).json()["evaluations"]]

    assert decided(yes, no, yes) == [True, False, True]
    assert decided(yes, no, yes, evaluations_semantic="execute_all") == [True, False, True]
    assert decided(yes, no, yes, evaluations_semantic="deny_on_first_deny") == [True, False]
    assert decided(no, yes, no, evaluations_semantic="permit_on_first_permit") == [False, True]
    odds: tuple[Any, ...] = ("first", 5, None, [])
    for odd in odds:
        assert asked(yes, evaluations_semantic=odd).status == 400
    wrong = {**yes, "subject": {"id": account.id}}
    found = asked(yes, wrong, yes).json()["evaluations"]
    assert ([e["decision"] for e in found], found[1]["context"]["error"]["status"]) == ([True, False, True], 400)
    assert call("POST", "/access/v1/evaluations", yes).json()["decision"] is True, "without a list it is one question"
    for part, member in (("subject", "type"), ("subject", "id"), ("resource", "type"), ("resource", "id"), ("action", "name")):
        for value in ODD[:3]:
            spoilt = {**yes, part: {**yes[part], member: value}}
            assert call("POST", "/access/v1/evaluation", spoilt).status == 400, (part, member, value)
    assert call("POST", "/access/v1/evaluation", {**yes, "context": "x"}).status == 400


def test_a_change_of_a_credentials_end_does_what_it_says_or_is_refused(account: Account, away: Away) -> None:
    where = f"/Credentials/{account.credential['id']}"

    def patched(path: str, value: Any) -> tuple[int, Any]:
        body = {
            "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
            "Operations": [{"op": "replace", "path": path, "value": value}],
        }
        answer = away.scim("PATCH", where, body)
        return answer.status, answer.json().get(path) if answer.status == 200 else answer.json().get("scimType")

    shown = away.scim("GET", where).json()
    assert patched("expires", shown["expires"]) == (200, shown["expires"])
    assert patched("expires", not shown["expires"]) == (400, "mutability")
    assert patched("validUntil", "2031-01-01T00:00:00Z") == (400, "mutability")
    assert patched("validUntil", shown["validUntil"])[0] == 200
    body = {
        "schemas": [OWN + "Credential"],
        "principal": {"$ref": f"../Users/{account.id}"},
        "name": "k2",
        "kind": "key-pair",
        "publicKey": Signer("ES256").public,
        "validUntil": f"{datetime.now(UTC) + timedelta(days=30):%Y-%m-%dT%H:%M:%SZ}",
    }
    assert away.scim("POST", "/Credentials", {**body, "expires": False}).status == 400
    assert away.scim("POST", "/Credentials", {**body, "expires": True}).status == 201
