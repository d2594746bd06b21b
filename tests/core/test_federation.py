"""Trusts and tokens in the core: conditions by hand-written vectors, subjects, what is too wide, and what a token says."""

from __future__ import annotations

import base64
import json
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examples
from sigillum.core.federation.assertions import NoTokenError, Unverified, in_words, look, moment, read, whole
from sigillum.core.federation.conditions import Condition, judge, kind_of, same
from sigillum.core.federation.subjects import SubjectPart, difference, doubts, subject_of
from sigillum.core.federation.trusts import Issuer, Trust, about, match
from sigillum.core.kinds.trusting import Trust as Shown
from sigillum.core.kinds.trusting import condition_of, text_of
from sigillum.core.values.outside import json_of
from sigillum.sandbox.deciding import trusts as theirs

VECTORS = [
    tuple(p.strip(" ") for p in line.split(" | "))
    for line in (Path(__file__).parent / "vectors_trust.txt").read_text().splitlines()
    if line and not line.startswith("#")
]
NOW = datetime(2026, 11, 26, 8, tzinfo=UTC)
AT = int(NOW.timestamp())


def condition(claim: str, op: str, value: str) -> Condition:
    found = json.loads(value)
    return Condition(tuple(claim.split("/")), op, tuple(found) if op == "one_of" else found)


@pytest.mark.parametrize(("claims", "claim", "op", "value", "holds"), VECTORS)
def test_a_condition_holds_just_where_it_is_said_to(claims: str, claim: str, op: str, value: str, holds: str) -> None:
    if holds == "bad":
        with pytest.raises(ValueError, match=r"Expecting|delimiter"):
            json_of(claims, once=True)
        return
    test, found = condition(claim, op, value), json_of(claims, once=True)
    verdict = judge(test, found)
    assert (verdict.holds, bool(verdict.why)) == (holds == "yes", holds == "no"), verdict
    sent = {"claim": list(test.claim), op: json.loads(value)}
    assert theirs.holds(sent, found) is verdict.holds  # the other side judges alike, by code of its own
    if "900719925474099" not in value or value.endswith("1"):
        assert condition_of(text_of(test)) == test
    assert verdict.agrees <= min(len(verdict.found), len(verdict.wanted)) or not verdict.wanted


def test_there_are_vectors_enough() -> None:
    assert len(VECTORS) >= 150


TRUST = Trust("valley", "https://valley.example", "summit", subject="4712:reader", when=(Condition(("tags",), "has", "masts"),))
CLAIMS = {"iss": "https://valley.example", "aud": "summit", "sub": "4712:reader", "tags": ["masts"]}


@pytest.mark.parametrize(
    ("change", "holds"),
    [
        ({}, True),
        ({"aud": ["summit"]}, True),
        ({"aud": ["summit", "x"]}, False),
        ({"aud": []}, False),
        ({"aud": "summit/"}, False),
        ({"aud": "SUMMIT"}, False),
        ({"aud": None}, False),
        ({"aud": [["summit"]]}, False),
        ({"iss": "https://valley.example/"}, False),
        ({"iss": "https://valley.example:443"}, False),
        ({"iss": "https://VALLEY.example"}, False),
        ({"iss": "https://valley.example%2f"}, False),
        ({"iss": "http://valley.example"}, False),
        ({"sub": "4712:reader:x"}, False),
        ({"sub": ["4712:reader"]}, False),
        ({"sub": "9900:reader"}, False),
        ({"tags": "masts"}, False),
        ({"more": 1}, True),
    ],
)
def test_issuer_and_audience_are_looked_at_exactly(change: dict[str, Any], holds: bool) -> None:
    claims = {**CLAIMS, **change}
    assert match(TRUST, claims).holds is holds
    shown = {
        "issuer": TRUST.issuer,
        "audience": TRUST.audience,
        "subject": TRUST.subject,
        "conditions": [text_of(c) for c in TRUST.when],
    }
    assert theirs.matches(shown, claims, "x") is holds


def test_whoever_may_be_acted_as_is_named_by_a_claim() -> None:
    trust = TRUST._replace(acts_as=("may", "act_as"))
    assert match(trust, {**CLAIMS, "may": {"act_as": "reader"}}, "reader").holds
    for claims in (CLAIMS, {**CLAIMS, "may": {"act_as": "Reader"}}, {**CLAIMS, "may": {"act_as": ["reader"]}}):
        found = match(trust, claims, "reader")
        assert not found.holds
        assert found.nearest is not None
    assert match(TRUST, CLAIMS).nearest is None
    shown = Shown(
        "p",
        "valley",
        "https://valley.example",
        "summit",
        "discovery",
        "4712:reader",
        tuple(map(text_of, TRUST.when)),
        '["may","act_as"]',
    )
    assert shown.terms == trust
    for bad in ("{}", "[1]", '{"claim":["a"]}', "x"):
        with pytest.raises(ValueError, match="conditions"):
            _ = shown._replace(when=(bad,)).terms


PARTS = (
    SubjectPart("cluster", "name", "yard"),
    SubjectPart("account", "number"),
    SubjectPart("role", "name"),
    SubjectPart("id", "uuid"),
)


@pytest.mark.parametrize(
    ("values", "told"),
    [
        ({"account": "0712", "role": "mast-reader", "id": "6a1f4c1e-02b7-4c0b-9b52-6f0a1d4e7c11"}, ""),
        ({"role": "r", "id": "6a1f4c1e-02b7-4c0b-9b52-6f0a1d4e7c11"}, "account is not given"),
        ({"account": "47x", "role": "r"}, "has to be a number"),
        ({"account": "4７"}, "has to be a number"),
        ({"account": "-1"}, "has to be a number"),
        ({"account": "47:12"}, "parts the subjects"),
        ({"role": "reаder"}, "mixes scripts"),
        ({"role": "a b"}, "has to be a name"),
        ({"role": "x\u200b"}, "cannot be seen"),
        ({"id": "6A1F4C1E-02B7-4C0B-9B52-6F0A1D4E7C11"}, "has to be a UUID"),
        ({"rolle": "x"}, "no part 'rolle'"),
    ],
)
def test_a_subject_is_put_together_exactly_or_refused(values: dict[str, str], told: str) -> None:
    subject, wrong = subject_of(PARTS, ":", values)
    if told:
        assert any(told in w.what for w in wrong), wrong
    else:
        assert (subject, wrong) == ("yard:0712:mast-reader:6a1f4c1e-02b7-4c0b-9b52-6f0a1d4e7c11", [])


def test_what_cannot_be_seen_in_a_text_is_told() -> None:
    assert [bool(list(doubts(t))) for t in ("plain", "漢字かな", "naïve", "e\u0301", "pаypal", "a\u202eb", "тест", "αb")] == [
        False,
        False,
        False,
        True,
        True,
        True,
        False,
        True,
    ]
    assert "U+0430 CYRILLIC SMALL LETTER A" in difference("pаy", "pay", 1)
    assert "its end" in difference("pa", "pay", 2)


@pytest.mark.parametrize(
    ("trust", "issuer", "codes"),
    [
        (TRUST, None, {}),
        (Trust("a", "i", "x"), None, {"all-of-issuer": False}),
        (Trust("a", "i", "x", when=(Condition(("r",), "equals", "y"),)), None, {"no-subject": False}),
        (Trust("a", "i", "x", subject="s", when=(Condition(("r",), "starts", "org"),)), None, {"inside-name": True}),
        (
            Trust("a", "i", "x", subject="s", when=(Condition(("r",), "starts", "org", "they end so"),)),
            None,
            {"prefix-wide": False},
        ),
        (Trust("a", "i", "x", subject="s", when=(Condition(("r",), "one_of", ("ok", "οk")),)), None, {"look-alike": True}),
        (Trust("a", "i", "ѕummit", subject="s"), None, {"look-alike": True}),
        (Trust("a", "i", "x", subject="s"), Issuer("i", owner=(("owner",),)), {"shared-issuer": True}),
        (
            Trust("a", "i", "x", subject="s", when=(Condition(("owner",), "equals", "we"),)),
            Issuer("i", owner=(("owner",),)),
            {},
        ),
        (
            Trust("a", "i", "x", subject="s", when=(Condition(("branch",), "equals", "main"),)),
            Issuer("i", free=(("branch",),)),
            {"free-claim": False},
        ),
        (Trust("a", "i", "x", subject="s", when=(Condition(("n",), "equals", 2**53),)), None, {"number-big": True}),
        (Trust("a", "i", "x", when=(Condition(("sub",), "starts", "yard:st:"),)), None, {"subject-wide": False}),
        (Trust("a", "i", "x", subject="yard:st:default"), None, {"default-account": False}),
        (Trust("a", "i", "x", subject="s"), Issuer("i", lasting=("id",)), {"recycled": False}),
    ],
)
def test_what_is_wrong_or_too_wide_about_a_trust_is_told(trust: Trust, issuer: Issuer | None, codes: dict[str, bool]) -> None:
    assert {d.code: d.wrong for d in about(trust, issuer)} == codes


SCALARS = st.one_of(
    st.sampled_from(["x", "X", "x ", "org/", "org/a", "", "é", "e\u0301", "1", "true"]),
    st.integers(-2, 2),
    st.sampled_from([2**53 - 1, 2**53, 1.0, 1.5]),
    st.booleans(),
    st.none(),
)
CLAIM_VALUES = st.recursive(
    SCALARS,
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(["a", "b", "a.b"]), inner, max_size=3),
    max_leaves=6,
)
CONDITIONS = st.builds(
    lambda claim, test: Condition(tuple(claim), *test),
    st.lists(st.sampled_from(["a", "b", "a.b"]), min_size=1, max_size=3),
    st.one_of(
        st.tuples(st.sampled_from(["equals", "has"]), st.sampled_from(["x", "", "é", "1", "org/a", 1, 0, True, False])),
        st.tuples(st.just("one_of"), st.tuples(st.sampled_from(["x", 1]), st.sampled_from([True, "1", "org/a"]))),
        st.tuples(st.just("starts"), st.sampled_from(["org/", "x", "é", "o"])),
        st.tuples(st.just("present"), st.just(True)),
    ),
)


def test_the_other_side_judges_alike(request: pytest.FixtureRequest) -> None:
    """2,000 claim sets, each against several trusts; 200,000 in a long run."""
    claim_sets = st.dictionaries(st.sampled_from(["a", "b", "a.b", "sub", "iss", "aud"]), CLAIM_VALUES, max_size=4)

    @settings(max_examples=10_000 if request.config.getoption("--soak") else examples(100), deadline=None)
    @given(
        st.lists(claim_sets, min_size=20, max_size=20),
        st.lists(st.tuples(st.lists(CONDITIONS, max_size=2), st.sampled_from(["", "x"])), min_size=4, max_size=4),
    )
    def alike(all_: list[dict[str, Any]], wanted: list[tuple[list[Condition], str]]) -> None:
        for conditions, subject in wanted:
            trust = Trust("t", "i", "o", subject=subject, when=tuple(conditions))
            shown = {"issuer": "i", "audience": "o", "subject": subject, "conditions": [text_of(c) for c in conditions]}
            for claims in all_:
                for whole_ in (claims, {**claims, "iss": "i", "aud": "o", **({"sub": subject} if subject else {})}):
                    assert match(trust, whole_).holds is theirs.matches(shown, whole_, "x")

    alike()


# --- tokens ---------------------------------------------------------------------------------------------------------------
def token(header: str, claims: str, signature: str = "c2ln") -> str:
    return ".".join([*(base64.urlsafe_b64encode(p.encode()).rstrip(b"=").decode() for p in (header, claims)), signature])


@pytest.mark.parametrize(
    "text",
    [
        "",
        "a",
        "a.b",
        "a.b.c.d",
        "a.b.c.d.e",
        token("{}", "{}") + "=",
        token("[]", "{}"),
        token("{}", "1"),
        token('{"a":1,"a":2}', "{}"),
        token("{}", '{"a":{"b":1,"b":2}}'),
        token("{}", '{"a":NaN}'),
        token("{}", "{" + '"a":{' * 9 + "}" * 9 + "}"),
        token("{}", '{"a":"' + "x" * 20_000 + '"}'),
        token("{}", "{}", "!"),
        "e30=.e30.x",
        "e3 0.e30.x",
        "\u00e9.e30.x",
        token("{}", "{"),
    ],
)
def test_what_is_no_token_is_refused(text: str) -> None:
    with pytest.raises(NoTokenError):
        read(text)


GOOD = {"iss": "i", "sub": "s", "aud": "summit", "iat": AT - 10, "exp": AT + 50}


@pytest.mark.parametrize(
    ("header", "claims", "codes"),
    [
        ({}, {}, set()),
        ({"alg": "none"}, {}, {"alg-none"}),
        ({"alg": "None"}, {}, {"alg-none"}),
        ({"alg": 1}, {}, {"alg-none"}),
        ({"alg": "HS256"}, {}, {"alg-unknown"}),
        ({"alg": "RS512"}, {}, {"alg-unknown"}),
        ({"crit": ["x"]}, {}, {"crit-unknown"}),
        ({"jwk": {}}, {}, {"own-key"}),
        ({"jku": "x"}, {}, {"own-key"}),
        ({"kid": None}, {}, {"no-kid"}),
        ({}, {"iss": None}, {"no-iss"}),
        ({}, {"sub": ""}, {"no-sub"}),
        ({}, {"aud": None}, {"no-aud"}),
        ({}, {"aud": ["summit", "x"]}, {"aud-several"}),
        ({}, {"aud": "other"}, {"aud-other"}),
        ({}, {"aud": ["summit"]}, set()),
        ({}, {"exp": None}, {"no-exp"}),
        ({}, {"exp": AT}, {"ended"}),
        ({}, {"exp": AT + 1}, set()),
        ({}, {"exp": "soon"}, {"exp-form"}),
        ({}, {"exp": True}, {"exp-form"}),
        ({}, {"exp": 1e300}, {"exp-form"}),
        ({}, {"nbf": AT}, set()),
        ({}, {"nbf": AT + 1}, {"not-yet"}),
        ({}, {"iat": AT + 61}, {"made-ahead"}),
        ({}, {"iat": AT - 300, "exp": AT + 1}, {"lives-long"}),
        ({}, {"iat": None, "nbf": AT - 300, "exp": AT + 1}, {"lives-long"}),
    ],
)
def test_what_is_wrong_with_a_token_is_told(header: dict[str, Any], claims: dict[str, Any], codes: set[str]) -> None:
    whole_header = {n: v for n, v in ({"alg": "ES256", "kid": "k"} | header).items() if v is not None}
    whole_claims = {n: v for n, v in (GOOD | claims).items() if v is not None}
    assert {f.code for f in look(Unverified(whole_header, whole_claims), NOW, audience="summit", most_seconds=300)} == codes
    assert set(in_words(whole_claims, NOW)) == {n for n in ("iat", "nbf", "exp") if moment(whole_claims.get(n)) is not None}


def test_numbers_that_are_not_the_same_everywhere_are_found_at_any_depth() -> None:
    assert [whole(c) for c in ({"a": 2**53 - 1}, {"a": 2**53}, {"a": [{"b": -(2**53)}]}, {"a": True, "b": 1.5})] == [
        True,
        False,
        False,
        True,
    ]
    values: tuple[Any, ...] = (True, 1, 2**60, 1.5, "x", [], {}, None)
    assert [kind_of(v) for v in values] == [
        "a flag",
        "a whole number",
        "a number that is not the same everywhere",
        "a number with a fraction",
        "a text",
        "a list",
        "an object",
        "nothing",
    ]
    assert moment(AT) == NOW
    assert NOW + timedelta(0) == NOW


@pytest.mark.parametrize(
    ("one", "other", "alike"),
    [
        *((v, v, True) for v in ("a", 1, True)),
        *((v, v, False) for v in (1.0, [1], {"a": 1}, None, 2**53)),
        *((1, v, False) for v in ("1", True, 1.0)),
        ("\u00e9", "e\u0301", False),
    ],
)
def test_only_scalars_of_one_type_are_the_same(one: object, other: object, alike: bool) -> None:
    assert same(one, other) is alike
