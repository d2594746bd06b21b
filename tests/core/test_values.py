"""The small values: times, windows, clocks, canonical JSON, the chain, text, rules, proofs, outcomes."""

from __future__ import annotations

import dataclasses
import inspect
import json
import pickle
import pkgutil
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from importlib import import_module
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import sigillum
from core.fake import thing
from sigillum.cli.views.hints import mistake_json
from sigillum.core.charter import rules
from sigillum.core.charter.charter import Charter, CredentialWant, GrantWant, Identity, ProofWant
from sigillum.core.deciding import proofs
from sigillum.core.deciding.proofs import Manner, Trial, judge, manner_of
from sigillum.core.facets.registry import LINES, check
from sigillum.core.kinds.kind import Record, compared
from sigillum.core.kinds.profile import Operation, Profile
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.records import chain
from sigillum.core.values import text, times
from sigillum.core.values.asked import fault_of, fits
from sigillum.core.values.canonical import canonical, digest, external_id, thumbprint
from sigillum.core.values.errors import Mistake, Outcome, Position, SigillumError, worst
from sigillum.core.values.marks import Mark
from sigillum.core.values.secret import Secret, could_be_secret
from sigillum.core.values.times import Window

NOW = datetime(2027, 3, 1, 12, 0, tzinfo=UTC)


@pytest.mark.parametrize(
    ("written", "seconds"),
    [
        ("10m", 600),
        ("8h", 28_800),
        ("90d", 7_776_000),
        ("2w", 1_209_600),
        ("45s", 45),
        ("P90D", 7_776_000),
        ("PT10M", 600),
        ("P1DT2H", 93_600),
        ("P2W", 1_209_600),
        ("PT1H30M5S", 5405),
    ],
)
def test_durations(written: str, seconds: int) -> None:
    assert times.parse_duration(written) == seconds


@pytest.mark.parametrize(
    "written",
    ["", "0d", "10", "m", "1.5h", "-5m", "P", "PT", "P1DT", "P1M", "P1Y", "3 months", "10m ", "99999w", "P1W2D", "１０m"],
)
def test_what_is_no_duration(written: str) -> None:
    with pytest.raises(ValueError, match=r"duration|between"):
        times.parse_duration(written)


@given(st.integers(1, times.LONGEST_SECONDS))
def test_a_duration_survives_being_written(seconds: int) -> None:
    if len(times.format_duration(seconds)) <= 7:
        assert times.parse_duration(times.format_duration(seconds)) == seconds
    assert times.rough_duration(seconds)


@given(st.datetimes(timezones=st.timezones()).filter(lambda d: 1900 < d.year < 9000))
def test_an_instant_survives_being_written(moment: datetime) -> None:
    whole = moment.astimezone(UTC)
    assert times.parse_instant(times.format_instant(whole)) == whole


@pytest.mark.parametrize(
    "written", ["2027-03-01", "2027-03-01T08:00:00", "2027-03-01 08:00:00Z", "tomorrow", "2027-13-01T08:00Z"]
)
def test_what_is_no_instant(written: str) -> None:
    with pytest.raises(ValueError, match=r"."):
        times.parse_instant(written)


def test_a_window_is_half_open_to_the_second() -> None:
    window = times.Window(NOW, NOW + timedelta(minutes=10))
    tick = timedelta(microseconds=1)
    states = [window.state(m) for m in (NOW - tick, NOW, NOW + timedelta(minutes=10) - tick, NOW + timedelta(minutes=10))]
    assert states == ["waiting", "in-force", "in-force", "ended"]
    assert times.Window().state(NOW) == "in-force"
    for start, until in ((NOW, NOW), (NOW.replace(tzinfo=None), None)):
        with pytest.raises(ValueError, match="window"):
            times.Window(start, until)


@given(st.floats(-4000, 4000), st.floats(0, 3), st.floats(0, 3), st.datetimes())
def test_a_clock_reading_contains_the_truth(shift: float, there: float, back: float, start: datetime) -> None:
    sent = datetime(2027, 1, 1, tzinfo=UTC) + timedelta(microseconds=start.microsecond)
    stamped = sent + timedelta(seconds=there + shift)
    reading = times.ClockReading.of(stamped.replace(microsecond=0), sent, sent + timedelta(seconds=there + back))
    assert reading.low - 1e-5 <= shift <= reading.high + 1e-5
    assert abs(reading.skew_seconds) <= abs(shift) + 1e-5
    twice = reading.narrowed(times.ClockReading(shift - 0.1, shift + 0.1))
    assert twice.high - twice.low <= 0.2 + 1e-9
    moved = reading.narrowed(times.ClockReading(9000, 9001))
    assert (moved.low, moved.shift) == (9000, timedelta(seconds=9000.5))


# RFC 8785 §3.2.3: the order is by UTF-16 code units.
RFC_KEYS = ["\r", "1", "\u0080", "\u00f6", "\u20ac", "\U0001f600", "\ufb33"]


def test_canonical_json_by_its_vectors() -> None:
    assert list(json.loads(canonical(dict.fromkeys(reversed(RFC_KEYS), 0)))) == RFC_KEYS
    assert canonical({"b": [1, None, True, {"y": '\u20ac"\\\n\u000f', "x": -0}], "a": ""}) == (
        '{"a":"","b":[1,null,true,{"x":0,"y":"€\\"\\\\\\n\\u000f"}]}'.encode()
    )
    rsa = {
        "kty": "RSA",
        "n": "0vx7agoebGcQSuuPiLJXZptN9nndrQmbXEps2aiAFbWhM78LhWx4cbbfAAtVT86zwu1RK7aPFFxuhDR1L6tSoc_BJECPebWKR"
        "XjBZCiFV4n3oknjhMstn64tZ_2W-5JsGY4Hc5n9yBXArwl93lqt7_RN5w6Cf0h4QyQ5v-65YGjQR0_FDW2QvzqY368QQMicAtaSqzs8KJZgnYb9c7d0zgd"
        "AZHzu6qMQvRL5hajrn1n91CbOpbISD08qNLyrdkt-bFTWhAI4vMQFh6WeZu0fM4lFd2NcRwr3XPksINHaQ-G_xBniIqbw0Ls1jF44-csFCur-kEgU8awa"
        "pJzKnqDKgw",
        "e": "AQAB",
        "alg": "RS256",
        "kid": "2011-04-29",
    }
    assert thumbprint(rsa) == "NzbLsXh8uDCcd-6MNwXF4W_7noWXFZAfHkxZsRGC9Xs"  # RFC 7638 §3.1
    with pytest.raises(ValueError, match="JWK"):
        thumbprint({"kty": "oct", "k": "x"})


@pytest.mark.parametrize("value", [1.5, 2**53, {1: 2}, {"a": {1}}, [b"x"], "\ud800"])
def test_what_canonical_json_does_not_hold(value: Any) -> None:
    with pytest.raises(ValueError, match=r"."):
        canonical(value)


def test_external_ids_differ_where_anything_does() -> None:
    def mark(facet: str, tenant: str, *key: tuple[str, str]) -> dict[str, Any]:
        return Mark(facet, tenant, key).body()

    one = mark("f", "t", ("n", "v"))
    parts = [
        ("w", "c", one, 1),
        ("x", "c", one, 1),
        ("w", "d", one, 1),
        ("w", "c", one, 2),
        ("w", "c", mark("g", "t", ("n", "v")), 1),
        ("w", "c", mark("f", "u", ("n", "v")), 1),
        ("w", "c", mark("f", "t", ("nv", "")), 1),
        ("w", "c", mark("f", "t", ("n", "v"), ("n", "")), 1),
    ]
    assert len({external_id(*p) for p in parts}) == len(parts)


def sealed(entries: list[dict[str, Any]]) -> list[chain.LedgerEntry]:
    out, previous = [], chain.GENESIS
    for number, body in enumerate(entries, 1):
        entry = chain.LedgerEntry("s", number, previous, "t", "w", "k", "kind", "c", body)
        previous = chain.hash_of(entry)
        out.append(dataclasses.replace(entry, hash=previous, signature=digest([previous, "key"])))
    return out


def signed(pairs: Sequence[tuple[bytes, str]]) -> list[bool]:
    return [digest([message.decode(), "key"]) == signature for message, signature in pairs]


@given(st.lists(st.fixed_dictionaries({"x": st.integers(0, 5)}), min_size=1, max_size=6), st.data())
def test_the_chain_shows_any_single_change(bodies: list[dict[str, Any]], data: st.DataObject) -> None:
    entries = sealed(bodies)
    head, findings = chain.check(entries, "s", signed)
    assert (findings, head.sequence, head.hash) == ([], len(entries), entries[-1].hash)
    assert all(e.hash == digest(e.content()) == chain.hash_of(e, canonical(e.body)) for e in entries)
    at = data.draw(st.integers(0, len(entries) - 1))
    name = data.draw(st.sampled_from(["stream", "previous", "at", "writer", "key_id", "kind", "charter", "hash", "signature"]))
    spoiled = [*entries]
    spoiled[at] = dataclasses.replace(entries[at], **{name: "other"})  # type: ignore[arg-type]
    assert chain.check(spoiled, "s", signed)[1]
    assert at == len(entries) - 1 or chain.check([e for e in entries if e is not entries[at]], "s", signed)[1]
    resealed = sealed([*bodies[:at], {"x": 99}, *bodies[at + 1 :]])  # by somebody with the key: only a checkpoint shows it
    hashes = {e.sequence: e.hash for e in resealed}
    kept = chain.Head("s", len(entries), entries[-1].hash)
    now = chain.check(resealed, "s", signed)[0]
    assert "was rewritten" in chain.compare_heads(now, kept, hashes.get)[0].what
    assert chain.compare_heads(head, kept, {kept.sequence: kept.hash}.get) == []
    assert chain.compare_heads(chain.Head("s", 0, ""), kept, hashes.get)[0].what.startswith("the ledger was rolled back")
    assert chain.compare_heads(chain.Head("other", 9, ""), kept, hashes.get)[0].what.startswith("the checkpoint is of another")


def test_text_of_strangers_is_made_plain() -> None:
    assert text.plain("a\x1b[2Jb\u202ec\nd") == "a [2Jb c d"
    assert len(text.plain("x" * 9999)) < 600
    assert text.did_you_mean("stream-writter", ["stream-writer", "reader"]) == "did you mean stream-writer?"
    assert text.did_you_mean("zzz", [f"n{i}" for i in range(9)]).endswith("...")
    assert text.did_you_mean("zzz", []) == ""
    assert [text.is_within(p, "a/b") for p in ("a/b", "a/b/c", "a/bc", "a")] == [True, True, False, False]


def test_house_rules() -> None:
    grant, key = GrantWant("owner", "p"), CredentialWant("k", "key-pair", 400 * 86400, 1)
    proof = ProofWant(True, "a.b", "p")
    charter = Charter(
        "c",
        "nowhere",
        "",
        "x",
        "",
        Identity("service-account", "c", "c"),
        grants=(grant, grant),
        credentials=(key, key),
        proofs=(proof, dataclasses.replace(proof, allowed=False)),
    )
    found = check(charter, rules.HouseRules(forbidden_roles=frozenset({"owner"}), named=("owner", "deputy")), ["summit"])
    assert [m.code for m in found] == [
        "owner-missing",
        "deputy-missing",
        "tenant-unknown",
        "credential-twice",
        "grant-twice",
        "proof-contradiction",
        "role-forbidden",
        "role-forbidden",
        "life-house",
        "life-house",
    ]
    assert (
        "sigillum tenant add"
        in mistake_json(rules.check(dataclasses.replace(charter, tenant="q"), rules.HouseRules(), [])[1])["do"]
    )


LOOK, CHANGE = Operation("a.read", "looks", "GET", "/"), Operation("a.write", "changes-data", "POST", "/")
MANAGE = Operation("a.run", "manages", "POST", "/")
TEST, REAL = thing("place", "1", test=True), thing("place", "2", test=False)
BOTH = Profile(work="https://w", decisions="https://d")


@pytest.mark.parametrize(
    ("operation", "place", "profile", "manner"),
    [
        (LOOK, REAL, BOTH, Manner.TRIED),
        (CHANGE, TEST, BOTH, Manner.TRIED),
        (CHANGE, REAL, BOTH, Manner.ASKED),
        (CHANGE, None, BOTH, Manner.ASKED),
        (MANAGE, TEST, BOTH, Manner.ASKED),
        (None, TEST, BOTH, Manner.ASKED),
        (LOOK, REAL, Profile(decisions="https://d"), Manner.ASKED),
        (CHANGE, REAL, Profile(work="https://w"), Manner.NEITHER),
    ],
)
def test_no_proof_can_harm(operation: Operation | None, place: Record[Any] | None, profile: Profile, manner: Manner) -> None:
    for allowed in (True, False):
        assert manner_of(ProofWant(allowed, "a.x", "p"), operation, place, profile) is manner


CAN = ProofWant(True, "a.read", "p")
ITEMS = ({"unit": "m/s"}, {"unit": "knots"})


@pytest.mark.parametrize(
    ("proof", "trial", "held"),
    [
        (CAN, Trial(True), True),
        (CAN, Trial(False), False),
        (CAN, Trial(None), None),
        (ProofWant(False, "a.read", "p"), Trial(False), True),
        (ProofWant(False, "a.read", "p"), Trial(True), False),
        (dataclasses.replace(CAN, count=2), Trial(True, total=2, items=ITEMS), True),
        (dataclasses.replace(CAN, count=2), Trial(True, total=3, items=ITEMS, capped=True), False),
        (dataclasses.replace(CAN, count=2), Trial(True, items=ITEMS), True),
        (dataclasses.replace(CAN, count=2), Trial(True), None),
        (dataclasses.replace(CAN, at_least=3), Trial(True, total=3, items=ITEMS, capped=True), True),
        (dataclasses.replace(CAN, value={"unit": "knots"}), Trial(True, items=ITEMS), True),
        (dataclasses.replace(CAN, value={"unit": "mph"}), Trial(True, items=ITEMS), False),
        (dataclasses.replace(CAN, value={"unit": "mph"}), Trial(True, total=9, items=ITEMS, capped=True), None),
    ],
)
def test_judging(proof: ProofWant, trial: Trial, held: bool | None) -> None:
    result = judge(proof, Manner.TRIED, trial)
    assert result.held is held
    assert result.said
    assert proof.words().startswith("can")
    if trial.capped and trial.total:
        assert "capped" in result.said
    assert proofs.judge(dataclasses.replace(CAN, count=1), Manner.ASKED, Trial(True, total=1)).held is None


@pytest.mark.parametrize(
    ("found", "one"), [([], 0), ([0, 0], 0), ([0, 1], 1), ([1, 7, 6], 6), ([6, 4, 7], 4), ([4, 5], 5), ([5, 8], 8), ([3, 5], 3)]
)
def test_the_worst_outcome_is_given(found: list[int], one: int) -> None:
    assert worst([Outcome(f) for f in found]) == one


def test_every_exception_of_ours_has_one_root_and_a_code() -> None:
    ours = [
        c
        for m in pkgutil.walk_packages(sigillum.__path__, "sigillum.")
        if ".sandbox" not in m.name and not m.name.endswith("__main__")
        for _, c in inspect.getmembers(import_module(m.name), inspect.isclass)
        if issubclass(c, BaseException) and c.__module__.startswith("sigillum")
    ]
    assert len(set(ours)) >= 10
    for each in set(ours):
        assert issubclass(each, SigillumError)
        assert each.code
    assert str(Position("f.yaml", 2, 3)) == "f.yaml:2:3"
    assert str(Position("f.yaml")) == "f.yaml"
    assert Mistake("c", "w", "m") == Mistake("c", "w", "m")


def test_every_facet_has_its_section() -> None:
    from sigillum.charters import sections

    in_core = {line.name.replace("-", "_") for line in LINES}
    in_files = {import_module(f"sigillum.charters.sections.{m.name}") for m in pkgutil.iter_modules(sections.__path__)}
    assert in_core == {m.FACET for m in in_files if hasattr(m, "FACET")}


def test_a_secret_shows_nothing() -> None:
    secret = Secret("hush")
    assert "hush" not in f"{secret} {secret!r} {secret!s} {[secret]} {secret:>20}"
    assert (secret == Secret("hush"), secret == "hush", hash(secret) == hash(Secret("hush"))) == (True, False, True)
    for spill in (pickle.dumps, json.dumps, lambda s: s.__getstate__()):
        with pytest.raises(TypeError):
            spill(secret)
    with pytest.raises(ValueError, match="not empty"):
        Secret("")
    with pytest.raises(ValueError, match="a text"):
        Secret(5)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("text", "secret"),
    [
        ("avalanche-mailer-production-2", False),
        ("ines.vole@brindlemoor.example", False),
        ("brindlemoor/sensing-prod/streams/mast-4", False),
        ("4f0c1d2e3a4b5c6d", False),
        ("123e4567-e89b-12d3-a456-426614174000", False),
        ("d41d8cd98f00b204e9800998ecf8427e", False),
        ("", False),
        ("ab3def-g7hjkm-n2pqrs-t5uvwx", True),
        ("eYhYyKDswrqvdEkIlcWv4m-qTu0Btgcw", True),
        ("T3lFLJItbAZra7pPAt_QTutPgZu_tjYO-dr7X7NJlzU", True),
        ("da39a3ee5e6b4b0d3255bfef95601890afd80709", True),
    ],
)
def test_what_could_be_a_secret(text: str, secret: bool) -> None:
    assert could_be_secret(text) is secret


def test_a_window_may_have_one_edge_only() -> None:
    at = datetime(2027, 3, 1, tzinfo=UTC)
    assert (Window(start=at).state(at), Window(until=at).state(at), Window().state(at)) == ("in-force", "ended", "in-force")
    with pytest.raises(ValueError, match="must end after"):
        Window(at, at)


def test_what_is_compared_has_three_answers() -> None:
    """Same, different, and not shown: of a tenant that never has a field, of an answer that left one out, and of neither."""
    part = {"name": "key", "thumbprint": "aa", "limits": ()}
    body = CREDENTIAL.type(name="key", thumbprint="bb", limits=())
    for carried, missing, different, now, never in (
        (None, frozenset(), {"thumbprint"}, set(), set()),
        (frozenset({"name", "limits"}), frozenset(), set(), set(), {"thumbprint"}),
        (None, frozenset({"thumbprint", "limits"}), set(), {"thumbprint"}, set()),  # what is wanted empty may be left out
    ):
        record = Record(CREDENTIAL, "1", body, carried=carried, missing=missing)
        held = compared(record, part)
        assert (set(held.different), set(held.dark), set(held.hidden) - set(held.dark)) == (different, now, never)
        assert held.same is not bool(different or now or never)
        assert record.denies(thumbprint="aa") is bool(different)
        assert not record.says(thumbprint="aa")
        assert record.says(name="key")
    assert compared(Record(CREDENTIAL, "1", body), {"name": "key", "thumbprint": "bb"}).same
    with pytest.raises(TypeError, match="say which"):
        bool(held)


@pytest.mark.parametrize(
    ("form", "told"),
    [
        ("", ""),
        ("[0-9]{12}(-[a-z]+)?", ""),
        ("pier-[a-z]+-[0-9]{12}", ""),
        ("(a|b)c", ""),
        ("(", "not a pattern"),
        *((f, "for ever") for f in ("(a+)+b", "(a|a)*b", "(a{1,9}){1,9}", "(a?){500}b", "((a|b)c?)*", r"(a*)\1*b")),
        ("a*a*a*a*b", "vary in length"),
    ],
)
def test_a_pattern_of_somebody_else_ends_in_bounded_time(form: str, told: str) -> None:
    assert told in fault_of(form)
    assert bool(told) is bool(fault_of(form))
    assert fits("a" * 499, form) is (form == "")
