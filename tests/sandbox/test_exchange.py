"""Attacks on tokens from outside, each against our own verifier and against the sandbox's exchange (RFC 8693): refused by both, or taken by
both where the RFC says so. What is signed is signed by hand.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any
from urllib.parse import urlencode

import pytest

from conftest import CHARTER as WIND
from conftest import Away, Desk, Sandbox
from sandbox.test_oauth import Signer, b64
from sigillum.core.federation.conditions import Condition
from sigillum.core.federation.trusts import Trust, match
from sigillum.core.kinds.trusting import text_of
from sigillum.protocols.tokens import TokenRefusedError, verify

Json = dict[str, Any]
ISSUER = "https://outside.example"
EXCHANGE = "urn:ietf:params:oauth:grant-type:token-exchange"


class Outside:
    """An issuer with a key, and an account of a tenant that trusts it."""

    def __init__(self, away: Away, algorithm: str = "ES256") -> None:
        self.away, self.base = away, away.address.removesuffix("/scim/v2")
        self.signer, self.other = Signer(algorithm), Signer(algorithm)
        self.key_set = [{**self.signer.public, "kid": "k1", "use": "sig"}]
        self.now = int(datetime.fromisoformat(away.sandbox.clock().replace("Z", "+00:00")).timestamp())
        self.account = away.make(
            "/Users", {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "userName": "mast-reader"}
        )["id"]
        self.trust = ""

    def claims(self, **changed: Any) -> Json:
        made = {
            "iss": ISSUER,
            "sub": "4712:reader",
            "aud": "summit",
            "iat": self.now,
            "nbf": self.now,
            "exp": self.now + 300,
            "jti": "j1",
            "account": "4712",
            **changed,
        }
        return {n: v for n, v in made.items() if v is not ...}

    def trusted(self, keys: Any = None, name: str = "outside", **more: Any) -> str:
        body = {
            "schemas": ["urn:sigillum:scim:1.0:Trust"],
            "principal": {"value": self.account, "$ref": self.account},
            "name": name,
            "issuer": ISSUER,
            "audience": "summit",
            "subject": "4712:reader",
            "keys": json.dumps({"keys": keys if keys is not None else self.key_set}),
            "conditions": [text_of(Condition(("account",), "equals", "4712"))],
            **more,
        }
        return str(self.away.make("/Trusts", body)["id"])

    def exchanged(self, token: str, trust: str = "", **more: str) -> tuple[int, Json]:
        self.trust = trust or self.trust or self.trusted()
        form = {
            "grant_type": EXCHANGE,
            "subject_token": token,
            "subject_token_type": "urn:ietf:params:oauth:token-type:jwt",
            "audience": self.trust,
            "act_as": self.account,
            **more,
        }
        answer = self.away.sandbox.pool.request(
            "POST",
            f"{self.base}/oauth/token",
            body=urlencode(form),
            headers={"Content-Type": "application/x-www-form-urlencoded"},
        )
        return answer.status, answer.json()

    def verified(self, token: str, keys: Any = None) -> bool:
        """By ours: genuine, and matching the same trust."""
        trust = Trust("outside", ISSUER, "summit", subject="4712:reader", when=(Condition(("account",), "equals", "4712"),))
        try:
            claims = verify(
                token,
                lambda anew: keys if keys is not None else self.key_set,
                issuer=ISSUER,
                audience="summit",
                now=datetime.fromtimestamp(self.now, UTC),
            )
        except TokenRefusedError as problem:
            assert problem.reason, problem
            return False
        return match(trust, claims).holds

    def raw(self, header: str, claims: str) -> str:
        """Signed whatever it says."""
        real = self.signer.sign({}, kid="k1")
        assert real
        return self.by_hand(b64(header.encode()), b64(claims.encode()))

    def by_hand(self, header: str, claims: str) -> str:
        message = f"{header}.{claims}".encode()
        return f"{header}.{claims}.{b64(self.signature(message))}"

    def signature(self, message: bytes) -> bytes:
        from cryptography.hazmat.primitives import hashes
        from cryptography.hazmat.primitives.asymmetric import ec
        from cryptography.hazmat.primitives.asymmetric.utils import decode_dss_signature

        r, s = decode_dss_signature(self.signer.ec.sign(message, ec.ECDSA(hashes.SHA256())))
        return r.to_bytes(32, "big") + s.to_bytes(32, "big")

    def header(self, **changed: Any) -> str:
        return json.dumps({"alg": "ES256", "typ": "JWT", "kid": "k1", **changed})


@pytest.fixture
def outside(sandbox: Sandbox) -> Outside:
    return Outside(sandbox.tenant("summit"))


def nested(depth: int) -> Any:
    return {"a": nested(depth - 1)} if depth else 1


# each attack: the token that it makes; and whether it is taken, since some only look like one
ATTACKS: dict[str, tuple[Callable[[Outside], str], bool]] = {
    "an honest token": (lambda o: o.signer.sign(o.claims(), kid="k1"), True),
    "aud as a list of one": (lambda o: o.signer.sign(o.claims(aud=["summit"]), kid="k1"), True),
    "a key of its own in the header does not spoil a good signature": (
        lambda o: o.by_hand(b64(o.header(jwk=o.other.public).encode()), b64(json.dumps(o.claims()).encode())),
        True,
    ),
    "no kid, one key": (lambda o: o.signer.sign(o.claims()), True),
    "no typ": (lambda o: o.raw('{"alg":"ES256","kid":"k1"}', json.dumps(o.claims())), True),
    "algorithm none": (lambda o: b64(b'{"alg":"none"}') + "." + b64(json.dumps(o.claims()).encode()) + ".", False),
    "algorithm none in other letters": (
        lambda o: b64(b'{"alg":"nOnE"}') + "." + b64(json.dumps(o.claims()).encode()) + ".",
        False,
    ),
    "the signature left out": (lambda o: o.signer.sign(o.claims(), kid="k1").rpartition(".")[0] + ".", False),
    "key confusion: the public key as a shared secret": (
        lambda o: (
            (m := b64(b'{"alg":"HS256","kid":"k1"}') + "." + b64(json.dumps(o.claims()).encode()))
            + "."
            + b64(hmac.new(json.dumps(o.signer.public).encode(), m.encode(), hashlib.sha256).digest())
        ),
        False,
    ),
    "another algorithm than the key's": (lambda o: o.raw(o.header(alg="RS256"), json.dumps(o.claims())), False),
    "signed by somebody else": (lambda o: o.other.sign(o.claims(), kid="k1"), False),
    "signed by the key in its header": (lambda o: o.other.sign(o.claims(), kid="k1", jwk=json.dumps(o.other.public)), False),
    "keys by address": (lambda o: o.other.sign(o.claims(), kid="k1", jku="https://evil.example/keys"), False),
    "claims changed": (
        lambda o: (
            (t := o.signer.sign(o.claims(), kid="k1").split("."))[0]
            + "."
            + b64(json.dumps(o.claims(account="4712", x=1)).encode())
            + "."
            + t[2]
        ),
        False,
    ),
    "a key that is not registered": (lambda o: o.signer.sign(o.claims(), kid="k2"), False),
    "unknown crit": (lambda o: o.raw(o.header(crit=["exp"]), json.dumps(o.claims())), False),
    "an access token": (lambda o: o.raw(o.header(typ="at+jwt"), json.dumps(o.claims())), False),
    "an access token in other letters": (lambda o: o.raw(o.header(typ="application/AT+JWT"), json.dumps(o.claims())), False),
    "exp at the second": (lambda o: o.signer.sign(o.claims(exp=o.now), kid="k1"), False),
    "exp over": (lambda o: o.signer.sign(o.claims(exp=o.now - 1), kid="k1"), False),
    "no exp": (lambda o: o.signer.sign(o.claims(exp=...), kid="k1"), False),
    "exp as text": (lambda o: o.signer.sign(o.claims(exp=str(o.now + 60)), kid="k1"), False),
    "exp as true": (lambda o: o.signer.sign(o.claims(exp=True), kid="k1"), False),
    "nbf far ahead": (lambda o: o.signer.sign(o.claims(nbf=o.now + 3600), kid="k1"), False),
    "another audience": (lambda o: o.signer.sign(o.claims(aud="winch"), kid="k1"), False),
    "a look-alike audience": (lambda o: o.signer.sign(o.claims(aud="ѕummit"), kid="k1"), False),
    "audience in capitals": (lambda o: o.signer.sign(o.claims(aud="Summit"), kid="k1"), False),
    "two audiences": (lambda o: o.signer.sign(o.claims(aud=["summit", "winch"]), kid="k1"), False),
    "no audience": (lambda o: o.signer.sign(o.claims(aud=...), kid="k1"), False),
    "issuer with a trailing slash": (lambda o: o.signer.sign(o.claims(iss=ISSUER + "/"), kid="k1"), False),
    "issuer with its port": (lambda o: o.signer.sign(o.claims(iss=ISSUER + ":443"), kid="k1"), False),
    "issuer in capitals": (lambda o: o.signer.sign(o.claims(iss="https://OUTSIDE.example"), kid="k1"), False),
    "issuer with an escape": (lambda o: o.signer.sign(o.claims(iss="https://outside%2eexample"), kid="k1"), False),
    "a look-alike issuer": (lambda o: o.signer.sign(o.claims(iss="https://оutside.example"), kid="k1"), False),
    "mix-up of two issuers": (lambda o: o.signer.sign(o.claims(iss="https://elsewhere.example"), kid="k1"), False),
    "subject is the inner principal id": (lambda o: o.signer.sign(o.claims(sub=o.account), kid="k1"), False),
    "a separator inside a part": (lambda o: o.signer.sign(o.claims(sub="4712:reader:extra"), kid="k1"), False),
    "another customer of a shared issuer": (lambda o: o.signer.sign(o.claims(account="9900"), kid="k1"), False),
    "a condition that matches by accident: a number": (lambda o: o.signer.sign(o.claims(account=4712), kid="k1"), False),
    "a condition that matches by accident: a list": (lambda o: o.signer.sign(o.claims(account=["4712"]), kid="k1"), False),
    "a condition that matches by accident: a longer text": (
        lambda o: o.signer.sign(o.claims(account="47120"), kid="k1"),
        False,
    ),
    "duplicate claims": (lambda o: o.raw(o.header(), json.dumps(o.claims())[:-1] + ',"account":"4712"}'), False),
    "duplicate claims, deep": (lambda o: o.raw(o.header(), json.dumps(o.claims())[:-1] + ',"x":{"a":1,"a":2}}'), False),
    "duplicate header": (lambda o: o.raw('{"alg":"ES256","kid":"k1","alg":"ES256"}', json.dumps(o.claims())), False),
    "oversized": (lambda o: o.signer.sign(o.claims(x="y" * 20_000), kid="k1"), False),
    "deeply nested": (lambda o: o.signer.sign(o.claims(x=nested(12)), kid="k1"), False),
    "claims that are a list": (lambda o: o.raw(o.header(), "[]"), False),
    "NaN": (lambda o: o.raw(o.header(), json.dumps(o.claims())[:-1] + ',"x":NaN}'), False),
}


@pytest.mark.parametrize("attack", ATTACKS)
def test_attack(outside: Outside, attack: str) -> None:
    make, taken = ATTACKS[attack]
    token = make(outside)
    status, answer = outside.exchanged(token)
    assert (status == 200, outside.verified(token)) == (taken, taken), answer
    assert (answer.get("error") in ("invalid_grant", "invalid_request")) is not taken


KEY_SETS: dict[str, tuple[Callable[[Outside], list[Json]], bool]] = {
    "a secret key in the set": (lambda o: [{"kty": "oct", "k": b64(b"x" * 32), "kid": "k1"}], False),
    "a key for encryption": (lambda o: [{**o.key_set[0], "use": "enc"}], False),
    "a key of another algorithm": (lambda o: [{**o.key_set[0], "alg": "ES512"}], False),
    "twin kids, the right one second": (lambda o: [{**o.other.public, "kid": "k1"}, *o.key_set], True),
    "the key set swapped": (lambda o: [{**o.other.public, "kid": "k1"}], False),
    "an empty set": (lambda o: [], False),
    "a withdrawn key": (lambda o: [{**o.signer.public, "kid": "k0"}], False),
    "a broken key beside it": (lambda o: [{"kty": "EC", "crv": "P-256", "x": "!", "y": "!", "kid": "k1"}, *o.key_set], True),
}


@pytest.mark.parametrize("which", KEY_SETS)
def test_key_set(outside: Outside, which: str) -> None:
    make, taken = KEY_SETS[which]
    token, keys = outside.signer.sign(outside.claims(), kid="k1"), make(outside)
    status, answer = outside.exchanged(token, outside.trusted(keys))
    assert (status == 200, outside.verified(token, keys)) == (taken, taken), answer


@pytest.mark.parametrize("algorithm", ["Ed25519", "RS256"])
def test_other_algorithms(sandbox: Sandbox, algorithm: str) -> None:
    outside = Outside(sandbox.tenant("summit"), algorithm)
    token = outside.signer.sign(outside.claims(), kid="k1")
    assert (outside.exchanged(token)[0], outside.verified(token)) == (200, True)


def test_what_is_got_is_the_accounts_and_ends_with_what_it_was_got_for(outside: Outside) -> None:
    token = outside.signer.sign(outside.claims(exp=outside.now + 60), kid="k1")
    status, answer = outside.exchanged(token)
    assert (status, answer["issued_token_type"].rpartition(":")[2], answer["expires_in"] <= 60) == (200, "access_token", True)
    assert outside.exchanged(token)[0] == 200  # a workload's token recurs all day
    for more, error in (
        ({"audience": "none"}, "invalid_target"),
        ({"act_as": "none"}, "invalid_target"),
        ({"subject_token_type": "x"}, "invalid_request"),
        ({"actor_token": "x"}, "invalid_request"),
        ({"requested_token_type": "x"}, "invalid_request"),
    ):
        assert outside.exchanged(token, **more)[1]["error"] == error, more
    watcher = {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "userName": "watcher"}
    actor = outside.away.scim("POST", "/Users", watcher).json()["id"]
    theirs = outside.exchanged(token)[1]["access_token"]
    for extra, good in (({}, True), ({"may_act": {"sub": outside.account}}, True), ({"may_act": {"sub": actor}}, False)):
        subject = outside.signer.sign(outside.claims(exp=outside.now + 60, **extra), kid="k1")
        status, answer = outside.exchanged(
            subject, actor_token=theirs, actor_token_type="urn:ietf:params:oauth:token-type:access_token"
        )
        assert (status == 200) == good, extra
        assert not good or json.loads(base64.urlsafe_b64decode(answer["access_token"].split(".")[1] + "=="))["act"] == {
            "sub": outside.account
        }
    second = outside.trusted(name="second", subject="4712:other")
    assert outside.exchanged(token, second)[0] == 400  # a token of another trust
    outside.away.scim(
        "PATCH",
        f"/Users/{outside.account}",
        {
            "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
            "Operations": [{"op": "replace", "path": "active", "value": False}],
        },
    )
    assert outside.exchanged(token)[0] == 400
    for body in (
        {"conditions": ['{"claim":["a"]}']},
        {"conditions": ["x"]},
        {"conditions": ['{"claim":["a"],"equals":1,"has":1}']},
        {"issuer": ""},
    ):
        answer_ = outside.away.scim(
            "POST",
            "/Trusts",
            {
                "schemas": ["urn:sigillum:scim:1.0:Trust"],
                "principal": {"value": outside.account, "$ref": outside.account},
                "name": "x",
                "issuer": ISSUER,
                "audience": "y",
                **body,
            },
        )
        assert answer_.status == 400, body


CHARTER = """\
charter: mast-reader
tenant: summit
owner: mara.teel@brindlemoor.example
purpose: Reads the wind from the neighbour's cloud
identity: {{kind: service-account, name: mast-reader, display: Mast reader}}
trusts:
  - name: valley
    issuer: valley
    audience: summit
    subject: {{account: "4712", machine_role: mast-reader}}
    when: [{{claim: account, equals: "4712"}}, {{claim: tags, has: {tag}}}]
"""


def test_a_charter_without_any_key_is_enacted_tried_and_retired(bare: Desk, sandbox: Sandbox) -> None:
    away = sandbox.tenant("summit")
    bare.know(away)
    valley = bare.know_valley(away)
    bare.charter(CHARTER.format(tag="masts"), "mast-reader")
    tokens = {
        name: sandbox.pool.request("GET", f"{valley}/machines/{name}/token?audience=summit").json()["token"]
        for name in ("reader-1", "clerk-1", "stranger")
    }
    for name, token in tokens.items():
        (bare.folder / f"{name}.jwt").write_text(token)
    assert bare.run("enact", "mast-reader", "--yes").code == 0
    assert bare.run("rehearse", "mast-reader", "--format", "json").json["charters"][0]["steps"] == []
    [trust] = away.state()["resources"]["Trust"]
    form = {
        "grant_type": EXCHANGE,
        "subject_token_type": "urn:ietf:params:oauth:token-type:jwt",
        "audience": trust["id"],
        "act_as": trust["principal"]["value"],
    }
    for name, taken in (("reader-1", True), ("clerk-1", False), ("stranger", False)):
        ran = bare.run("trust", "try", str(bare.folder / f"{name}.jwt"), "mast-reader", "--format", "json")
        answer = sandbox.pool.request(
            "POST",
            f"{away.address.removesuffix('/scim/v2')}/oauth/token",
            body=urlencode({**form, "subject_token": tokens[name]}),
            headers={"Content-Type": "application/x-www-form-urlencoded"},
        )
        assert (ran.code == 0, ran.json["matches"] == ["valley"], answer.status == 200) == (taken, taken, taken), ran.out
    ran = bare.run("trust", "try", str(bare.folder / "clerk-1.jwt"), "mast-reader")
    assert ("after 5 characters: 'n', wanted 'm'" in ran.out, tokens["clerk-1"] in ran.out) == (True, False), ran.out
    ran = bare.run("token", "read", str(bare.folder / "reader-1.jwt"), "--tenant", "summit", "--audience", "summit")
    assert (ran.code, "Verified: a key of" in ran.out, tokens["reader-1"] in ran.out) == (0, True, False), ran.out
    assert "Unverified" in bare.run("token", "read", str(bare.folder / "reader-1.jwt")).out
    (bare.folder / "bad.jwt").write_text(tokens["reader-1"][:-6] + "AAAAAA")
    ran = bare.run("token", "read", str(bare.folder / "bad.jwt"), "--tenant", "summit", "--format", "json")
    assert (ran.code, ran.json["verified"], "signature" in {f["code"] for f in ran.json["findings"]}) == (1, False, True), (
        ran.out
    )
    (bare.folder / "bad.jwt").write_text(tokens["reader-1"][:-6] + "AAAAAA")
    words: tuple[str, ...]
    for file, words, code, told in (
        ("reader-1", ("--out", "a.token"), 0, "by the trust valley"),
        ("reader-1", ("--out", "a.token"), 3, "a file already"),
        ("clerk-1", ("--out", "b.token"), 6, "matches no trust"),
        ("bad", ("--out", "b.token"), 4, "invalid_request"),
        ("reader-1", ("--fd", "9999"), 3, "is not open"),
        ("reader-1", ("--out", "b.token", "--trust", "vally"), 2, "did you mean valley?"),
    ):
        words = tuple(str(bare.folder / m) if m.endswith(".token") else m for m in words)
        ran = bare.run("token", "swap", "mast-reader", str(bare.folder / f"{file}.jwt"), *words)
        assert (ran.code, told in ran.out + ran.err) == (code, True), ran.out + ran.err
    got = bare.folder / "a.token"
    assert (got.stat().st_mode & 0o777, (bare.folder / "b.token").exists()) == (0o600, False)
    called = sandbox.pool.request(
        "POST",
        f"{away.address.removesuffix('/scim/v2')}/access/v1/evaluation",
        headers={"Authorization": f"Bearer {got.read_text().strip()}", "Content-Type": "application/json"},
        body=json.dumps(
            {
                "subject": {"type": "service-account", "id": trust["principal"]["value"]},
                "action": {"name": "stream.read"},
                "resource": {"type": "place", "id": "brindlemoor/sensing-prod"},
            }
        ),
    )
    assert (called.status, called.json()["decision"]) == (200, False)  # it is the account's, which may do nothing
    assert bare.run("token", "fetch", "mast-reader", "--out", str(bare.folder / "c.token")).code == 6
    bare.charter(CHARTER.format(tag="night"), "mast-reader")
    assert [
        s["do"] if "do" in s else s["about"]
        for s in bare.run("rehearse", "mast-reader", "--format", "json").json["charters"][0]["steps"]
    ] == ["trust valley", "trust valley"]
    for old, new, told in (
        ('"4712", machine', '"47x", machine', "has to be a number"),
        ("issuer: valley", "issuer: vally", "did you mean valley?"),
        (
            "[{claim: account, equals",
            "[{claim: tags, has: x}, {claim: machine_role, equals",
            "issues tokens for all its customers",
        ),
        ("equals:", "equal:", "did you mean `equals`?"),
        ('equals: "4712"', 'equals: "4712", has: x', "just one test"),
        ("audience: summit", "audience: ѕummit", "mixes scripts"),
    ):
        text = CHARTER.format(tag="masts")
        bare.charter(text.replace(old, new), "mast-reader")
        ran = bare.run("charter", "check", "mast-reader")
        assert (ran.code, told in ran.out + ran.err) == (3, True), ran.out + ran.err
    bare.charter(CHARTER.format(tag="masts"), "mast-reader")
    ran = bare.run("retire", "mast-reader", "--because", "over", "--yes")
    assert (ran.code, away.state()["resources"]["Trust"]) == (0, []), ran.out + ran.err
    assert not list((bare.folder / ".sigillum" / "keys").glob("*/*"))


def test_an_assertion_says_what_was_shown_and_is_taken(bare: Desk, sandbox: Sandbox) -> None:
    away = sandbox.tenant("summit")
    bare.know(away)
    bare.charter(WIND)
    out = bare.folder / "a.jwt"
    assert bare.run("token", "mint", "wind-ingest", "--out", str(out)).code == 6
    assert bare.run("enact", "wind-ingest", "--yes").code == 0
    ran = bare.run("token", "mint", "wind-ingest", "--out", str(out), "--format", "json")
    assertion = out.read_text().strip()
    assert (ran.code, assertion in ran.out + ran.err) == (0, False)
    from sigillum.core.federation.assertions import read

    assert (dict(read(assertion).header), dict(read(assertion).claims)) == (ran.json["header"], ran.json["claims"])
    form = urlencode({"grant_type": "urn:ietf:params:oauth:grant-type:jwt-bearer", "assertion": assertion})
    answer = sandbox.pool.request(
        "POST",
        f"{away.address.removesuffix('/scim/v2')}/oauth/token",
        body=form,
        headers={"Content-Type": "application/x-www-form-urlencoded"},
    )
    assert answer.status == 200, answer.data
    assert bare.run("token", "read", str(out), "--tenant", "summit").code == 0
    more = str(bare.folder / "b.jwt")
    for words, told in (
        (("--lives", "1h"), "takes 5m at most, as its profile says"),
        (("--lives", "soon"), "is not a duration"),
        (("--credential", "x"), "keeps no credential"),
    ):
        ran = bare.run("token", "mint", "wind-ingest", "--out", more, *words)
        assert (ran.code, told in ran.err) == (2, True), ran.err
    assert bare.run("token", "mint", "wind-ingest", "--out", more).out.count("iss") == 1
    ran = bare.run("token", "fetch", "wind-ingest", "--out", str(bare.folder / "c.token"))
    assert (ran.code, "it lives" in ran.out) == (0, True), ran.out + ran.err
