"""The simulated authorization server, working interface and decisions, by plain HTTP and an independent signer."""

from __future__ import annotations

import base64
import json
import time
from typing import Any
from urllib.parse import quote, urlencode

import pytest
import urllib3
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.asymmetric.utils import decode_dss_signature

from conftest import Away, Sandbox

Json = dict[str, Any]
OWN = "urn:sigillum:scim:1.0:"
JWT_BEARER = "urn:ietf:params:oauth:grant-type:jwt-bearer"
ASSERTION_TYPE = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"


def b64(data: bytes) -> str:
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()


def number(value: int, size: int) -> str:
    return b64(value.to_bytes(size, "big"))


class Signer:
    """Signs JWTs with the cryptography library alone: RFC 7515 by hand."""

    def __init__(self, algorithm: str) -> None:
        self.algorithm = algorithm
        if algorithm == "RS256":
            self.rsa = rsa.generate_private_key(65537, 2048)
            numbers = self.rsa.public_key().public_numbers()
            self.public = {"kty": "RSA", "n": number(numbers.n, 256), "e": number(numbers.e, 3)}
        elif algorithm == "ES256":
            self.ec = ec.generate_private_key(ec.SECP256R1())
            point = self.ec.public_key().public_numbers()
            self.public = {"kty": "EC", "crv": "P-256", "x": number(point.x, 32), "y": number(point.y, 32)}
        else:
            self.ed = Ed25519PrivateKey.generate()
            self.public = {"kty": "OKP", "crv": "Ed25519", "x": b64(self.ed.public_key().public_bytes_raw())}

    def sign(self, claims: Json, **header: str) -> str:
        head = {"alg": self.algorithm, "typ": "JWT", **header}
        message = ".".join(b64(json.dumps(p).encode()) for p in (head, claims))
        raw = message.encode()
        if self.algorithm == "RS256":
            signature = self.rsa.sign(raw, padding.PKCS1v15(), hashes.SHA256())
        elif self.algorithm == "ES256":
            r, s = decode_dss_signature(self.ec.sign(raw, ec.ECDSA(hashes.SHA256())))
            signature = r.to_bytes(32, "big") + s.to_bytes(32, "big")
        else:
            signature = self.ed.sign(raw)
        return f"{message}.{b64(signature)}"


class Account:
    """camera-archive, with a key of its own and any grants wanted."""

    def __init__(self, away: Away, algorithm: str = "Ed25519", *, limits: list[str] | None = None, active: bool = True) -> None:
        self.away, self.signer, self.base = away, Signer(algorithm), away.address.removesuffix("/scim/v2")
        self.id = self.find("Users", 'userName eq "camera-archive"')
        self.credential = away.make(
            "/Credentials",
            {
                "schemas": [OWN + "Credential"],
                "principal": {"$ref": f"../Users/{self.id}"},
                "name": "k",
                "kind": "key-pair",
                "publicKey": self.signer.public,
                "active": active,
                **({"limits": limits} if limits else {}),
            },
        )

    def find(self, endpoint: str, filter_: str) -> str:
        return str(self.away.scim("GET", f"/{endpoint}?filter={quote(filter_)}").json()["Resources"][0]["id"])

    def grant(self, role: str, place: str, **window: str) -> None:
        self.away.make(
            "/Grants",
            {
                "schemas": [OWN + "Grant"],
                "principal": {"$ref": f"../Users/{self.id}"},
                "role": {"$ref": "../Roles/" + self.find("Roles", f'name eq "{role}"')},
                "place": {"$ref": "../Places/" + self.find("Places", f'path eq "{place}"')},
                **window,
            },
        )

    def claims(self, **other: Any) -> Json:
        now = int(time.time())
        claims = {"iss": self.id, "sub": self.id, "aud": self.base, "iat": now, "exp": now + 60, "jti": f"{time.time_ns()}"}
        return {k: v for k, v in {**claims, **other}.items() if v is not None}

    def post(self, path: str, **form: str) -> urllib3.BaseHTTPResponse:
        return self.away.sandbox.pool.request(
            "POST", f"{self.base}{path}", body=urlencode(form), headers={"Content-Type": "application/x-www-form-urlencoded"}
        )

    def token(self, **other: Any) -> urllib3.BaseHTTPResponse:
        return self.post("/oauth/token", grant_type=JWT_BEARER, assertion=self.signer.sign(self.claims(**other)))

    def work(self, method: str, path: str, token: str, body: Any = None) -> urllib3.BaseHTTPResponse:
        return self.away.sandbox.pool.request(
            method,
            f"{self.base}/work/streams/{path}",
            body=json.dumps(body or {"items": [{"x": 1}]}) if method == "POST" else None,
            headers={"Authorization": f"Bearer {token}"},
        )

    def ask(self, permission: str, place: str, token: str) -> Any:
        body = {
            "subject": {"type": "service-account", "id": self.id},
            "action": {"name": permission},
            "resource": {"type": "place", "id": place},
        }
        answer = self.away.sandbox.pool.request(
            "POST",
            f"{self.base}/access/v1/evaluation",
            body=json.dumps(body),
            headers={"Authorization": f"Bearer {token}", "X-Request-ID": "r1"},
        )
        assert answer.status != 200 or answer.headers["X-Request-ID"] == "r1"
        return answer.json().get("decision")


@pytest.mark.parametrize("algorithm", ["Ed25519", "EdDSA", "ES256", "RS256"])
def test_a_token_for_every_kind_of_key(away: Away, algorithm: str) -> None:
    account = Account(away, algorithm)
    answer = account.token()
    assert answer.status == 200, answer.data
    assert answer.headers["Cache-Control"] == "no-store"
    body = answer.json()
    assert (body["token_type"], body["expires_in"]) == ("Bearer", 600)
    head, claims = (json.loads(base64.urlsafe_b64decode(p + "==")) for p in body["access_token"].split(".")[:2])
    assert (head["typ"], head["alg"]) == ("at+jwt", "RS256")  # RFC 9068
    assert (claims["iss"], claims["sub"], claims["client_id"]) == (account.base, account.id, account.id)
    keys = away.sandbox.pool.request("GET", f"{account.base}/oauth/keys").json()["keys"]
    assert head["kid"] in [k["kid"] for k in keys]
    assert all("d" not in k for k in keys)


@pytest.mark.parametrize(
    ("wrong", "detail"),
    [
        ({"aud": "https://elsewhere"}, "aud"),
        ({"aud": ["a", "b"]}, "aud"),
        ({"aud": None}, "aud"),
        ({"iss": "other"}, "iss and sub"),
        ({"sub": "nobody", "iss": "nobody"}, "iss and sub"),
        ({"exp": None}, "exp is required"),
        ({"exp": 1}, "expired"),
        ({"exp": 9_999_999_999}, "longer than 300"),
        ({"iat": 9_999_999_999}, "future"),
        ({"nbf": 9_999_999_999}, "future"),
        ({"jti": None}, "jti"),
    ],
)
def test_assertions_that_are_refused(away: Away, wrong: Json, detail: str) -> None:
    answer = Account(away).token(**wrong)
    assert (answer.status, answer.json()["error"]) == (400, "invalid_grant")
    assert detail in answer.json()["error_description"]


def test_replay_strangers_keys_and_algorithm_confusion(away: Away) -> None:
    account = Account(away)
    signed = account.signer.sign(account.claims())
    codes = [account.post("/oauth/token", grant_type=JWT_BEARER, assertion=signed).status for _ in range(2)]
    assert codes == [200, 400]
    stranger = Signer("Ed25519").sign(account.claims())
    none = ".".join([b64(b'{"alg":"none"}'), *signed.split(".")[1:2], ""])
    confused = b64(b'{"alg":"HS256"}') + signed[signed.index(".") :]
    for bad in (stranger, none, confused, signed[:-4], "x.y.z", "nonsense"):
        assert account.post("/oauth/token", grant_type=JWT_BEARER, assertion=bad).json()["error"] == "invalid_grant"


def test_a_credential_that_is_inactive_or_ended_signs_nobody_in(away: Away, sandbox: Sandbox) -> None:
    account = Account(away, active=False)
    assert account.token().status == 400
    away.scim(
        "PATCH",
        f"/Credentials/{account.credential['id']}",
        {
            "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
            "Operations": [{"op": "replace", "path": "active", "value": True}],
        },
    )
    before = account.token().json()["access_token"]
    assert away.scim("DELETE", f"/Credentials/{account.credential['id']}").status == 204
    assert account.token().status == 400
    account.grant("stream-reader", "brindlemoor")
    assert account.work("GET", "brindlemoor/sensing-prod/streams/mast-4", before).status == 401  # its key has ended


@pytest.mark.parametrize(
    ("form", "status", "error"),
    [
        ({}, 400, "invalid_request"),
        ({"grant_type": "password", "username": "a"}, 400, "unsupported_grant_type"),
        ({"grant_type": JWT_BEARER}, 400, "invalid_request"),
        ({"grant_type": "client_credentials"}, 401, "invalid_client"),
        ({"grant_type": JWT_BEARER, "scope": "everything"}, 400, "invalid_scope"),
        ({"grant_type": JWT_BEARER, "resource": "https://elsewhere"}, 400, "invalid_target"),
    ],
)
def test_token_errors_are_exact(away: Away, form: dict[str, str], status: int, error: str) -> None:
    account = Account(away)
    if "scope" in form or "resource" in form:
        form = {**form, "assertion": account.signer.sign(account.claims())}
    answer = account.post("/oauth/token", **form)
    assert (answer.status, answer.json()["error"]) == (status, error)
    assert answer.headers["Cache-Control"] == "no-store"
    twice = account.away.sandbox.pool.request(
        "POST",
        f"{account.base}/oauth/token",
        body="grant_type=a&grant_type=b",
        headers={"Content-Type": "application/x-www-form-urlencoded"},
    )
    assert twice.json()["error"] == "invalid_request"


def test_clients_register_sign_in_are_asked_about_and_end(away: Away) -> None:
    account = Account(away)
    pool, signer = away.sandbox.pool, Signer("ES256")

    def register(body: Any, admin: str = "ada.rusk") -> urllib3.BaseHTTPResponse:
        return pool.request(
            "POST",
            f"{account.base}/oauth/clients",
            body=json.dumps(body),
            headers={"Authorization": f"Bearer {away.tokens[admin]}"},
        )

    assert register({}, "watch").status == 403
    wrong_metadata: list[Any] = [
        [],
        {"token_endpoint_auth_method": "none"},
        {"token_endpoint_auth_method": "private_key_jwt"},
        {"grant_types": ["implicit"]},
        {"jwks_uri": "https://x"},
    ]
    for bad in wrong_metadata:
        assert register(bad).json()["error"] == "invalid_client_metadata"
    assert register({"redirect_uris": ["nowhere"]}).json()["error"] == "invalid_redirect_uri"
    client = register({"client_name": "mailer"}).json()
    assert client["client_secret_expires_at"] == 0
    basic = base64.b64encode(f"{client['client_id']}:{quote(client['client_secret'])}".encode()).decode()

    def with_basic(path: str, value: str = basic, **form: str) -> urllib3.BaseHTTPResponse:
        return pool.request(
            "POST",
            f"{account.base}{path}",
            body=urlencode(form),
            headers={"Authorization": f"Basic {value}", "Content-Type": "application/x-www-form-urlencoded"},
        )

    token = with_basic("/oauth/token", grant_type="client_credentials").json()["access_token"]
    wrong = with_basic("/oauth/token", base64.b64encode(b"x:y").decode(), grant_type="client_credentials")
    assert (wrong.status, wrong.json()["error"], wrong.headers["WWW-Authenticate"].split()[0]) == (
        401,
        "invalid_client",
        "Basic",
    )
    said = with_basic("/oauth/introspect", token=token).json()
    assert (said["active"], said["client_id"]) == (True, client["client_id"])
    theirs = account.token().json()["access_token"]
    assert with_basic("/oauth/introspect", token=theirs).json() == {"active": False}  # not this client's business
    assert with_basic("/oauth/revoke", token=theirs).status == 200
    assert with_basic("/oauth/revoke", token=token).status == 200
    assert with_basic("/oauth/introspect", token=token).json() == {"active": False}
    keyed = register({"token_endpoint_auth_method": "private_key_jwt", "jwks": {"keys": [signer.public]}}).json()
    assert "client_secret" not in keyed
    claims = account.claims(iss=keyed["client_id"], sub=keyed["client_id"])
    form = {
        "grant_type": "client_credentials",
        "client_assertion_type": ASSERTION_TYPE,
        "client_assertion": signer.sign(claims),
    }
    assert [account.post("/oauth/token", **form).status for _ in range(2)] == [200, 401]  # the same jti twice
    managed = {"Authorization": f"Bearer {keyed['registration_access_token']}"}
    uri = keyed["registration_client_uri"]
    assert pool.request("GET", uri, headers=managed).json()["client_id"] == keyed["client_id"]
    assert pool.request("PUT", uri, headers=managed, body=json.dumps({"client_id": "other"})).status == 400
    assert [pool.request("DELETE", uri, headers=managed).status, pool.request("GET", uri, headers=managed).status] == [204, 401]


def test_metadata_says_what_is_served(away: Away) -> None:
    base = away.address.removesuffix("/scim/v2")
    root, _, name = base.rpartition("/")
    found = [
        away.sandbox.pool.request("GET", u).json()
        for u in (f"{root}/.well-known/oauth-authorization-server/{name}", f"{base}/.well-known/oauth-authorization-server")
    ]
    assert found[0] == found[1]
    assert found[0]["issuer"] == base
    assert set(found[0]["grant_types_supported"]) == {
        JWT_BEARER,
        "client_credentials",
        "urn:ietf:params:oauth:grant-type:token-exchange",
    }
    for name, method in (("token", "POST"), ("introspection", "POST"), ("revocation", "POST"), ("registration", "POST")):
        answer = away.sandbox.pool.request(method, found[0][f"{name}_endpoint"])
        assert answer.status in (400, 401)
    assert away.sandbox.pool.request("GET", f"{base}/.well-known/authzen-configuration").json()["access_evaluation_endpoint"]


PLACES = [
    "brindlemoor/sensing-prod/streams/mast-4",
    "brindlemoor/sensing-prod/streams/mast-test",
    "brindlemoor/sensing-test/streams/mast-4",
]
CALLS = {"stream.append": "POST", "stream.read": "GET", "stream.delete": "DELETE"}


@pytest.mark.parametrize("limits", [None, ["stream.read"]])
def test_decisions_and_real_calls_agree(away: Away, limits: list[str] | None) -> None:
    account = Account(away, limits=limits)
    account.grant("stream-writer", "brindlemoor/sensing-prod")
    account.grant("stream-keeper", PLACES[2])
    account.grant("stream-keeper", "brindlemoor", validUntil="2020-01-01T00:00:00Z")
    token = account.token().json()["access_token"]
    allowed = {(p, n) for p in PLACES for n in CALLS if account.ask(n, p, token)}
    assert allowed == {(p, n) for p in PLACES for n, m in CALLS.items() if account.work(m, p, token).status in (200, 201)}
    read = {(p, "stream.read") for p in PLACES}
    everything = read | {(p, "stream.append") for p in PLACES} | {(PLACES[2], "stream.delete")}
    assert allowed == (read if limits else everything)
    assert account.ask("stream.read", PLACES[0], "wrong") is None
    assert account.work("GET", PLACES[0], "wrong").headers["WWW-Authenticate"] == 'Bearer realm="work", error="invalid_token"'
    admin = {p for p in PLACES if account.ask("stream.append", p, away.tokens["ada.rusk"])}
    assert admin == set(PLACES)  # the administrator asks about the principal, not about one of its credentials


def test_windows_begin_and_end_at_the_exact_second(away: Away, sandbox: Sandbox) -> None:
    account = Account(away)
    start = int(time.time()) + 30
    edges = [time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(start + d)) for d in (0, 60)]
    account.grant("stream-reader", "brindlemoor", validFrom=edges[0], validUntil=edges[1])
    token = account.token().json()["access_token"]
    try:
        answers = []
        for edge in edges:
            for nudge in (-0.001, 0.001):
                sandbox.clock(set=edge, freeze=True)
                sandbox.clock(move=nudge if nudge < 0 else 0)
                answers.append(account.ask("stream.read", PLACES[0], token))
        assert answers == [False, True, True, False]
    finally:
        from datetime import UTC, datetime

        sandbox.clock(set=datetime.now(UTC).isoformat(), freeze=False)


def test_a_secret_is_fetched_sealed_and_only_before_it_is_active(away: Away) -> None:
    from joserfc import jwe
    from joserfc.jwk import OKPKey

    account = Account(away)
    made = away.make(
        "/Credentials", {"schemas": [OWN + "Credential"], "principal": {"$ref": f"../Users/{account.id}"}, "kind": "api-token"}
    )
    assert "secret" not in json.dumps(made)
    key = OKPKey.generate_key("X25519")
    path = f"/Credentials/{made['id']}/secret"
    opened = []
    for _ in range(2):
        answer = away.scim("POST", path, {"sealTo": key.as_dict(private=False)})
        assert answer.headers["Cache-Control"] == "no-store"
        opened.append(jwe.decrypt_compact(answer.json()["sealed"], key, algorithms=["ECDH-ES", "A256GCM"]).plaintext)
    assert opened[0] == opened[1]
    assert away.scim("POST", path, {"sealTo": {"kty": "oct", "k": "x"}}).status == 400
    assert away.scim("POST", path, {}, admin="kit.orme").status == 403
    token = (opened[0] or b"").decode()
    assert account.work("GET", PLACES[0], token).status == 401  # not active yet
    away.scim(
        "PATCH",
        f"/Credentials/{made['id']}",
        {
            "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
            "Operations": [{"op": "replace", "path": "active", "value": True}],
        },
    )
    assert away.scim("POST", path, {"sealTo": key.as_dict(private=False)}).status == 409
    assert account.work("GET", PLACES[0], token).status == 403


def test_a_registered_client_authenticates_in_its_own_way_only(away: Away) -> None:
    base, pool = away.address.removesuffix("/scim/v2"), away.sandbox.pool
    signer = Signer("Ed25519")

    def call(method: str, url: str, token: str, body: Any = None) -> Any:
        return pool.request(
            method, url, body=json.dumps(body) if body is not None else None, headers={"Authorization": f"Bearer {token}"}
        )

    def enters(client: Json, *, secret: bool) -> int:
        form = {"grant_type": "client_credentials"}
        claims = {
            "iss": client["client_id"],
            "sub": client["client_id"],
            "aud": base,
            "iat": int(time.time()),
            "exp": int(time.time()) + 60,
            "jti": str(time.time_ns()),
        }
        more = (
            {}
            if secret
            else {
                "client_assertion_type": "urn:ietf:params:oauth:client-assertion-type:jwt-bearer",
                "client_assertion": signer.sign(claims),
            }
        )
        pair = base64.b64encode(f"{client['client_id']}:{client.get('client_secret', '')}".encode()).decode()
        head = {"Content-Type": "application/x-www-form-urlencoded", **({"Authorization": f"Basic {pair}"} if secret else {})}
        return int(pool.request("POST", f"{base}/oauth/token", body=urlencode({**form, **more}), headers=head).status)

    away.sandbox.control("tenants", {"describe": {away.name: {"registrations_rotate": True}}})
    client = call("POST", f"{base}/oauth/clients", away.tokens["ada.rusk"], {"jwks": {"keys": [signer.public]}}).json()
    assert (enters(client, secret=True), enters(client, secret=False)) == (200, 401)
    uri, token = client["registration_client_uri"], client["registration_access_token"]
    second = call("GET", uri, token).json()["registration_access_token"]
    assert call("GET", uri, token).status == 401  # it was rotated by looking
    update = {
        "client_id": client["client_id"],
        "token_endpoint_auth_method": "private_key_jwt",
        "jwks": {"keys": [signer.public]},
    }
    assert call("PUT", uri, second, {**update, "registration_access_token": second}).status == 400  # RFC 7592 section 2.2
    assert call("PUT", uri, second, update).status == 200
    assert (enters(client, secret=True), enters(client, secret=False)) == (401, 200)


def test_an_assertion_with_something_critical_or_no_json_is_refused(away: Away) -> None:
    account = Account(away)
    heads: list[Json] = [{"crit": ["b64"], "b64": True}, {"crit": []}]
    for head in heads:
        raw = b64(json.dumps({"alg": "Ed25519", **head}).encode()) + "." + b64(json.dumps(account.claims()).encode())
        signed = f"{raw}.{b64(account.signer.ed.sign(raw.encode()))}"
        assert account.post("/oauth/token", grant_type=JWT_BEARER, assertion=signed).status == 400
    assert account.token(exp=float("nan")).status == 400
    assert (
        away.sandbox.pool.request(
            "POST",
            f"{account.base}/access/v1/evaluation",
            body='{"subject": NaN}',
            headers={"Authorization": f"Bearer {away.tokens['ada.rusk']}"},
        ).status
        == 400
    )


@pytest.mark.parametrize("outlive", [False, True])
def test_tokens_of_what_was_ended_die_with_it_or_outlive_it(away: Away, outlive: bool) -> None:
    account, place = Account(away), "brindlemoor/sensing-prod/streams/mast-4"
    account.grant("stream-reader", "brindlemoor/sensing-prod")
    away.sandbox.control("tenants", {"describe": {away.name: {"tokens_outlive": outlive}}})
    token = account.token().json()["access_token"]
    assert account.work("GET", place, token).status == 200
    away.scim("DELETE", f"/Credentials/{account.credential['id']}")
    answer = account.work("GET", place, token)
    assert answer.status == (200 if outlive else 401)  # RFC 6750 section 3.1
    assert outlive or 'error="invalid_token"' in answer.headers["WWW-Authenticate"]
    away.scim("DELETE", f"/Users/{account.id}")
    assert account.work("GET", place, token).status == (403 if outlive else 401)


def test_a_credential_is_accepted_late_and_still_taken_after_its_end(away: Away, sandbox: Sandbox) -> None:
    away.sandbox.control("tenants", {"limits": {away.name: {"accepted_late_seconds": 3600, "ended_still_taken_seconds": 3600}}})
    account = Account(away)
    assert account.token().status == 400  # not yet
    away.limits(accepted_late_seconds=0, ended_still_taken_seconds=3600)
    assert account.token().status == 200
    away.scim("DELETE", f"/Credentials/{account.credential['id']}")
    away.limits(accepted_late_seconds=0, ended_still_taken_seconds=0)
    assert account.token().status == 400


def test_a_token_is_for_its_own_audience_and_type(away: Away) -> None:
    account = Account(away)
    answer = away.sandbox.pool.request(
        "DELETE",
        f"{account.base}/work/boards/brindlemoor/timetable/prod",
        headers={"Authorization": f"Bearer {account.token().json()['access_token']}"},
    )
    assert (answer.status, answer.headers["Allow"]) == (405, "GET, POST")
    sandbox = away.sandbox
    sandbox.control("tenants", {"open": {"abroad": {"organisations": [away.name], "admins": []}}})
    elsewhere = sandbox.control("tenants", {})["tenants"]["abroad"].removesuffix("/scim/v2")
    other = account.post(
        "/oauth/token", grant_type=JWT_BEARER, assertion=account.signer.sign(account.claims()), resource=elsewhere
    )
    assert other.status == 200
    refused = account.work("GET", "brindlemoor/sensing-prod/streams/mast-4", other.json()["access_token"])
    assert (refused.status, 'error="invalid_token"' in refused.headers["WWW-Authenticate"]) == (401, True)  # RFC 9068 section 4


def test_a_password_is_no_form(away: Away) -> None:
    account = Account(away)
    account.grant("stream-reader", "brindlemoor/sensing-prod")
    away.make(
        "/Credentials",
        {
            "schemas": [OWN + "Credential"],
            "principal": {"$ref": f"../Users/{account.id}"},
            "name": "word",
            "kind": "password",
            "password": "a+b%41 c:d-2027-x",
            "mustChange": False,
            "mailed": False,
            "active": True,
        },
    )

    def enters(password: str) -> int:
        pair = base64.b64encode(f"camera-archive:{password}".encode()).decode()
        return int(
            away.sandbox.pool.request(
                "GET",
                f"{account.base}/work/streams/brindlemoor/sensing-prod/streams/mast-4",
                headers={"Authorization": f"Basic {pair}"},
            ).status
        )

    assert (enters("a+b%41 c:d-2027-x"), enters("a bA c:d-2027-x")) == (200, 401)  # RFC 7617 section 2
