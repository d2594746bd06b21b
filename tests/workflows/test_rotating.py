"""Rotations in process: when the new one counts as accepted, and the old one as dead."""

from __future__ import annotations

import dataclasses
from datetime import timedelta
from pathlib import Path

import pytest

from sigillum.core.charter.charter import Charter
from sigillum.core.facets.seen import Choices
from sigillum.core.kinds.changes import End
from sigillum.core.records.history import OURS
from sigillum.core.undertakings.rotation import Stage
from sigillum.core.values.errors import UsageError
from sigillum.workflows.enacting.doubts import said_ours
from sigillum.workflows.enacting.rehearse import compared
from sigillum.workflows.rotating.rotate import Rotated, RotationWish, rotate
from workflows.memory import CHARTER, USUAL, House, Memory, house

LATE = 300


def error(done: Rotated) -> str:
    """What stopped it, or what it waits for."""
    found = [r.error for r in done.results if r.error is not None] + [done.waits]
    return found[0].what if found[0] is not None else ""


def turned(our: House, charter: Charter, **wish: object) -> Rotated:
    with our.office() as office:
        return next(iter(rotate(office, [charter], RotationWish(**wish))))  # type: ignore[arg-type]


def test_a_new_key_is_accepted_by_a_second_sign_in_after_the_arrival_time(tmp_path: Path) -> None:
    """One part of a tenant that knows the key is not all of it."""
    our = house(tmp_path, Memory(profile=dataclasses.replace(USUAL, arrival_seconds=LATE)))
    charter = our.charter()
    our.enact(charter)
    first = turned(our, charter)
    assert "it is tried again from" in error(first)
    assert Stage.ACCEPTED not in first.rotation.staged
    our.away.ahead += timedelta(seconds=LATE - 60)
    assert Stage.ACCEPTED not in turned(our, charter).rotation.staged
    our.away.ahead += timedelta(seconds=61)
    assert Stage.ACCEPTED in turned(our, charter).rotation.staged


def test_a_token_whose_life_is_over_shows_nothing_by_its_refusal(tmp_path: Path) -> None:
    """What is said of the old one rests on the time that has passed then, and not on that token."""
    for late, words in ((0, "and with a token that it got before"), (60, "its tokens have come to their end")):
        our = house(tmp_path / str(late), Memory())
        charter = our.charter()
        our.enact(charter)
        turned(our, charter)
        away = our.away
        away.letting_in = lambda proof, away=away: not any(isinstance(r, End) for r in away.requests)  # type: ignore[misc]
        turned(our, charter, taken="jon")
        away.ahead += timedelta(hours=1)  # the old one is quiet
        stopped = turned(our, charter).rotation
        assert stopped.ended_at is not None
        assert Stage.DEAD not in stopped.staged
        away.letting_in = lambda proof: True
        away.ahead += timedelta(seconds=(USUAL.token_seconds or 0) * bool(late) + late)
        assert words in turned(our, charter).rotation.staged[Stage.DEAD]["how"]


def test_why_it_is_rotated_is_kept(tmp_path: Path) -> None:
    our = house(tmp_path, Memory())
    charter = our.charter()
    our.enact(charter)
    assert turned(our, charter, because="jon has left").rotation.because == "jon has left"
    our = house(tmp_path / "exposed", Memory())
    charter = our.charter()
    our.enact(charter)
    assert turned(our, charter, because="in a log", exposed=True).rotation.because == "it was exposed: in a log"


def test_who_leaves_the_charter_has_the_key_still(tmp_path: Path) -> None:
    our = house(tmp_path, Memory())
    our.enact(our.charter())

    def codes(charter: Charter) -> list[str]:
        with our.office() as office:
            return [n.code for n in compared(office, charter, Choices())[1].notes if "left" in n.code]

    without = our.charter(CHARTER.replace(", consumers: [mast]", ""))
    assert (codes(our.charter()), codes(without)) == ([], ["consumer-left"])
    turned(our, without)
    turned(our, without, end=True)
    our.away.ahead += timedelta(hours=1)
    turned(our, without)
    assert codes(without) == []


def test_of_two_rotations_one_that_is_over_is_not_begun_anew(tmp_path: Path) -> None:
    our = house(tmp_path, Memory())
    charter = our.charter(CHARTER.replace("  - {name: key,", "  - {name: old, kind: key-pair, lasts: 90d}\n  - {name: key,"))
    our.enact(charter)

    def all_(**wish: object) -> list[Rotated]:
        with our.office() as office:
            return list(rotate(office, [charter], RotationWish(**wish)))  # type: ignore[arg-type]

    assert [r.rotation.name for r in all_()] == ["old", "key"]
    with our.office() as office:
        [_] = rotate(office, [charter], RotationWish("old", end=True))
    our.away.ahead += timedelta(hours=1)
    assert [(r.rotation.name, r.rotation.closed) for r in all_()] == [("old", "done"), ("key", "")]
    wishes: list[dict[str, object]] = [{}, {"because": "x"}, {"end": True}]
    for wish in wishes:
        assert [(r.rotation.name, r.rotation.old.number) for r in all_(**wish)] == [("key", 1)]
    our.away.ahead += timedelta(hours=1)
    assert [(r.rotation.name, r.rotation.closed) for r in all_()] in ([("key", "done")], [("old", ""), ("key", "")])


def test_whose_hand_it_was_is_asked_and_a_word_ends_the_doubt(tmp_path: Path) -> None:
    """Nothing in the ledger ended the new key: nobody is blamed, and a person's word lets the rotation go on."""
    our = house(tmp_path, Memory())
    charter = our.charter()
    our.enact(charter)

    def ours(who: str) -> None:
        with our.office() as office:
            said_ours(office, [charter], who)

    new = turned(our, charter).rotation.new
    assert new is not None
    for who in ("mara", " "):  # nothing is in doubt, and then nobody is named
        with pytest.raises(UsageError):
            ours(who)
    our.away.things["credential"] = [r for r in our.away.things["credential"] if r.id != new.id]
    our.away.ahead += timedelta(hours=1)
    for _ in range(2):
        assert error(turned(our, charter)) == "the new key is gone, and no step of this ledger ended it"
    ours("mara")
    went_on = turned(our, charter).rotation.new
    assert went_on is not None
    assert went_on.number == new.number + 1
    with our.office() as office:
        uid = office.books.history(charter.name)[0]
        assert [e.body["who"] for e in office.books.entries(uid) if e.kind == OURS] == ["mara"]
