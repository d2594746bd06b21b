"""Rotations: who is known to have the new one, how long silence has to last, and what keeps the next one from being made."""

from __future__ import annotations

import dataclasses
from datetime import timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from core.fake import NOW, PROFILE, thing
from core.test_compare import DAY, KEY, TOKEN
from sigillum.core.charter.charter import CredentialWant
from sigillum.core.charter.rules import Consumer, HouseRules
from sigillum.core.facets.quiet import named, quiet
from sigillum.core.kinds.changes import End
from sigillum.core.kinds.kind import Fact, Record
from sigillum.core.records.history import Generation, State
from sigillum.core.undertakings.bridging import bridged, ends, not_bridged
from sigillum.core.undertakings.consuming import LastUse, Told, known, missing, observed, picked_up
from sigillum.core.undertakings.guards import elsewhere, full, uncaught
from sigillum.core.undertakings.rotation import Around, Asked, Rotation
from sigillum.core.undertakings.undertaking import Look
from sigillum.core.values.marks import Mark
from sigillum.core.values.times import format_instant

HOUR = 3600
MARK = Mark("credential", "away", (("name", "main"),))
MADE: dict[str, Any] = {"state": State.MADE, "made_at": format_instant(NOW)}


def consumers(every: st.SearchStrategy[int | None], picks: st.SearchStrategy[int | str]) -> st.SearchStrategy[list[Consumer]]:
    return st.lists(st.builds(Consumer, st.text("abc", min_size=1), every, picks), max_size=4)


@given(
    consumers(st.none() | st.integers(1, 9 * DAY), st.integers(0, DAY) | st.sampled_from(["restart", "by-hand"])),
    st.integers(1, 9 * DAY),
    st.sampled_from([None, 60, HOUR]),
    st.sampled_from([None, 0, 12]),
    st.sampled_from(["", "second", "day"]),
)
def test_silence_lasts_longer_than_that_of_any_consumer(
    who: list[Consumer], usual: int, token: int | None, late: int | None, grain: str
) -> None:
    profile = dataclasses.replace(PROFILE, token_seconds=token, arrival_seconds=late, last_used=grain)
    found = quiet(profile, who, usual)
    assert found.seconds - (late or 0) >= max([token or HOUR, *(c.used_every or usual for c in who)])
    assert quiet(profile, who[1:], usual).seconds <= found.seconds
    assert grain != "day" or found.seconds >= 2 * DAY
    slowest = [c for c in who if c.picks_up in ("restart", "by-hand")]
    assert not slowest or found.seconds >= usual  # a restart is not zero
    assert found.why
    within = picked_up(profile, who)
    assert (within is None) is bool(slowest)
    assert within is None or within >= max([c.picks_up for c in who if isinstance(c.picks_up, int)], default=0)


def test_what_is_not_described_is_named_and_counts_as_usual() -> None:
    rules = HouseRules(consumers={"fast": Consumer("fast", 10, 0)})
    who = named(["fast", "stranger"], rules)
    assert who == (Consumer("fast", 10, 0), Consumer("stranger"))
    assert "stranger does not say how often" in quiet(PROFILE, who, rules.quiet_seconds).why


def test_of_each_consumer_is_known_what_was_told_last_and_nothing_else() -> None:
    """One credential has one last use: it speaks of those alone whose address is their own."""
    a, b, c = Consumer("a", address="192.0.2.1"), Consumer("b", address="192.0.2.0/28"), Consumer("c", address="2001:db8::/64")
    late, early = NOW, NOW - timedelta(hours=1)
    told = observed((a, b, c), [LastUse(late, "2001:db8::9", True), LastUse(early, "2001:db8::9", False)])
    assert told == {"c": Told(True, "the new one was used from 2001:db8::9")}
    assert observed((a, b), [LastUse(late, "192.0.2.1", True)]) == {}  # it could be either
    assert observed((a, b), [LastUse(late, "192.0.2.2", False)])["b"].has is False
    assert observed((a, b, Consumer("d")), [LastUse(late, "no address", True), LastUse(late, "", True)]) == {}
    every = known((a, b, c), {"a": Told(False, "the old one was used"), "c": Told(True, "a receipt")})
    assert [k.has for k in every] == [False, None, True]
    assert missing(every) == "not known to have the new one: a (the old one was used), b (nothing tells it)"
    assert missing(every[2:]) == ""


def turning(new: Generation | None = None, old: Generation | None = None, **more: Any) -> Rotation:
    first = old or Generation(MARK, 1, id="c-1", kept="x", **MADE)
    return Rotation("u", "k", 5, "away", MARK, first, new, NOW, NOW + timedelta(days=7), DAY, **more)


def around(want: CredentialWant | None = KEY, **more: Any) -> Around:
    profile = dataclasses.replace(PROFILE, **more.pop("profile", {}))
    return Around(want, profile, bearer="a-1", **more)


def standing(*records: Record[Any], unknown: str = "") -> Look:
    return Look(lambda query: Fact(records, unknown=unknown) if unknown else Fact(records))


def key(identity: str, name: str = "", days: int = 30, **more: Any) -> Record[Any]:
    fields = {"principal": "a-1", "name": name, "type": "key-pair", "until": NOW + timedelta(days=days)}
    return thing("credential", identity, **{**fields, **more})


@pytest.mark.parametrize(
    ("old", "more", "waits"),
    [
        ({"kept_by": "there"}, {}, True),
        ({"kept_by": "here"}, {}, False),
        ({}, {}, False),  # from before copies had names
        ({"kept_by": "there"}, {"held": {("main", 1): "x"}}, False),
        ({"kept_by": "there", "adopted": True}, {}, False),
        ({"kept_by": "there", "given_away": True}, {}, False),
        ({"kept_by": "there", "state": State.ENDED}, {}, False),
        ({"kept_by": "there"}, {"want": None}, False),
        ({"kept_by": "there"}, {"want": KEY._replace(keep_in="holder")}, False),
    ],
)
def test_what_another_copy_keeps_is_left_to_it(old: dict[str, Any], more: dict[str, Any], waits: bool) -> None:
    generation = Generation(MARK, 1, id="c-1", **{**MADE, **old})
    for one in (turning(old=generation), turning(new=dataclasses.replace(generation, number=1), old=Generation(MARK, 0))):
        said = elsewhere(one, around(**{"copy": "here", **more}))
        assert (said != "") is waits
        assert not waits or "generation 1 of main is kept by the copy there" in said


STANDING, STRANGE, OVER = key("c-1", "main-1"), key("c-9", "theirs"), key("c-8", "main-0", -1)


@pytest.mark.parametrize(
    ("most", "singles", "more", "records", "code"),
    [
        (None, (), {}, (STANDING, STRANGE), None),
        (3, (), {}, (STANDING, STRANGE), None),
        (2, (), {}, (STANDING, STRANGE), "room"),
        (1, (), {}, (STANDING,), "gap"),
        (1, (), {"replaces": True}, (STANDING,), "in-place"),
        (2, (), {}, (STANDING, OVER), None),
        (2, (), {"ended_count": True}, (STANDING, OVER), "end"),
        (2, (), {"ended_count": True}, (STANDING, key("c-7", "old", -1)), "room"),  # a stranger's is never cleared
    ],
)
def test_there_has_to_be_room_for_one_more(
    most: int | None, singles: tuple[str, ...], more: dict[str, Any], records: tuple[Record[Any], ...], code: str | None
) -> None:
    typed = KEY._replace(kind="password") if more.get("replaces") else KEY
    look = around(typed, profile={"keys_per_principal": most, **more}, ours=((MARK, 1, "c-1"), (MARK, 0, "c-8")))
    found = full(turning(), look, standing(*records), NOW)
    if code is None or found is None:
        assert (found, code) == (None, None)
    elif code == "end":
        assert [s.action.id for s in found.steps if isinstance(s.action, End)] == ["c-8"]
    else:
        assert (found.code, found.steps, bool(found.waits)) == (code, (), True)


LOST = Generation(Mark("credential", "away", (("name", "tok"),)), 2, external_id="mark-2", unanswered=True)


@pytest.mark.parametrize(
    ("new", "want", "more", "look", "ended"),
    [
        (LOST, TOKEN, {}, standing(key("c-2")), "c-2"),
        (LOST, TOKEN, {"unmarked": frozenset({"credential"})}, standing(key("c-3", "tok-1"), key("c-2", "tok-2")), "c-2"),
        (LOST, TOKEN, {"unmarked": frozenset({"credential"})}, standing(key("c-3", "tok-1")), ""),
        (LOST, TOKEN, {}, standing(), ""),
        (LOST, TOKEN, {}, standing(unknown="403"), "waits"),
        (LOST, TOKEN, {"secret_delivery": "sealed"}, standing(key("c-2")), ""),
        (LOST, TOKEN, {"confirmed_by": "person"}, standing(key("c-2")), ""),
        (LOST, KEY._replace(name="tok"), {}, standing(key("c-2")), ""),
        (dataclasses.replace(LOST, unanswered=False), TOKEN, {}, standing(key("c-2")), ""),
        (None, TOKEN, {}, standing(key("c-2")), ""),
    ],
)
def test_what_an_interrupted_making_left_ends_where_nobody_has_its_secret(
    new: Generation | None, want: CredentialWant, more: dict[str, Any], look: Look, ended: str
) -> None:
    profile = {"secret_delivery": "once", "confirmed_by": "", **more}
    found = uncaught(turning(new), around(want, profile=profile), look)
    if ended == "waits":
        assert found is not None
        assert (found.early, found.steps, "403" in found.waits) == (True, (), True)
    else:
        steps = found.steps if found is not None else ()
        assert [s.action.id for s in steps if isinstance(s.action, End)] == ([ended] if ended else [])
    if new is not None:
        assert uncaught(turning(new), around(want, profile=profile, held={("tok", 2): "t"}), look) is None


LATER = NOW + timedelta(days=5)


@pytest.mark.parametrize(
    ("one", "want", "profile", "look", "until", "against"),
    [
        ({}, KEY, {}, standing(STANDING), LATER, []),
        ({}, TOKEN, {}, standing(STANDING), LATER, ["is no key pair"]),
        ({}, None, {}, standing(STANDING), LATER, ["is no key pair"]),
        ({"exposed": True}, KEY, {}, standing(STANDING), LATER, ["known to others"]),
        ({"staged": {Asked.END: {}}}, KEY, {}, standing(STANDING), LATER, ["is being ended"]),
        ({}, KEY, {"repeated_keys": None}, standing(STANDING), LATER, ["one public key twice"]),
        ({}, KEY, {"credential_seconds": DAY}, standing(STANDING), LATER, ["longer than away allows"]),
        ({}, KEY, {}, standing(STANDING), NOW + timedelta(days=11), ["longer than a house rule allows"]),
        ({}, KEY, {}, standing(unknown="403"), LATER, ["cannot be seen: 403"]),
        ({}, KEY, {"keys_per_principal": 2}, standing(STANDING), LATER, ["the next generation still needs a place"]),
    ],
)
def test_what_stands_against_a_bridge(
    one: dict[str, Any], want: CredentialWant | None, profile: dict[str, Any], look: Look, until: Any, against: list[str]
) -> None:
    seen = around(want, profile={"repeated_keys": True, **profile})
    found = list(not_bridged(turning(**one), seen, look, NOW, until, 10 * DAY))
    assert len(found) == len(against)
    assert all(part in said for part, said in zip(against, found, strict=True))


def test_a_bridge_that_was_agreed_is_made_once_with_the_old_ones_limits() -> None:
    asked = {
        "bridge": 1,
        "public_key": {"kty": "OKP", "crv": "Ed25519", "x": "A" * 43},
        "until": format_instant(LATER),
        "at": format_instant(NOW),
        "accepted_by": "mara",
    }
    old = Generation(MARK, 1, id="c-1", terms={"limits": ["stream.read"]}, **MADE)
    one = turning(old=old, staged={Asked.BRIDGE: asked})
    steps = bridged(one, around(), standing(STANDING))
    assert steps
    making = next(s for s in steps if s.id.verb == "make")
    assert "stream.read" in str(making.action)
    assert bridged(turning(old=old), around(), standing()) == ()
    assert bridged(one, around(None), standing()) == ()
    made = Generation(making.mark, 1, id="c-2", **MADE)
    there = dataclasses.replace(one, bridges=(made,))
    assert bridged(there, around(), standing()) == ()  # it is not shown: nothing is sent again
    assert [s.id.verb for s in bridged(there, around(), standing(key("c-2", active=False)))] != []
    on = dataclasses.replace(there, bridges=(dataclasses.replace(made, on_at=format_instant(NOW)),))
    assert bridged(on, around(), standing(key("c-2"))) == ()
    assert ends(one, NOW, HOUR) >= NOW + timedelta(hours=1)
