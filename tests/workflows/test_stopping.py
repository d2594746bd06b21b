"""Retirements and what is due, in process: what is written and removed only where all has ended."""

from __future__ import annotations

import dataclasses
from datetime import timedelta
from pathlib import Path

import pytest

from sigillum.cli.views.words import closing
from sigillum.core.kinds.changes import Change, End
from sigillum.core.records.steps import HELD, NOT_OFF
from sigillum.core.undertakings.loans import LOANS
from sigillum.core.values.errors import Outcome, SomebodyError, UsageError
from sigillum.workflows.handing.handover import connected
from sigillum.workflows.lending.lend import LoanWish, lend, propose
from sigillum.workflows.stopping.plan import plan
from sigillum.workflows.stopping.retire import Retired, retire
from sigillum.workflows.stopping.suspend import Stopped, reinstate, suspend
from sigillum.workflows.stopping.sweep import due, sweep
from workflows.memory import CHARTER, USUAL, House, Memory, house


def retired(our: House) -> Retired:
    with our.office() as office:
        return retire(office, plan(office, "gauge"), "not needed")


def keys_here(our: House) -> list[str]:
    return sorted(p.name for p in (our.folder / ".sigillum" / "keys").rglob("*.json") if "current" not in p.parts)


def test_a_retirement_of_which_a_step_failed_closes_nothing_and_keeps_its_keys(tmp_path: Path) -> None:
    our = house(tmp_path, Memory())
    our.enact()
    our.away.refusing = lambda doing: isinstance(doing, End) and doing.kind.name == "account"
    before = keys_here(our)
    assert before
    failed = retired(our)
    with our.office() as office:
        assert (failed.done, office.books.history("gauge")[1].retired_at) == (False, "")
    assert keys_here(our) == before
    our.away.refusing = lambda doing: False
    assert retired(our).done
    with our.office() as office:
        assert office.books.history("gauge")[1].retired_at
    assert keys_here(our) == []


def test_a_retirement_recalls_what_was_lent(tmp_path: Path) -> None:
    our = house(tmp_path, Memory())
    our.enact()
    with our.office() as office:
        lend(office, propose(office, LoanWish("reader", "root/b", "gauge", "a look", 3600)))
    assert any(r.body.place == "root/b" for r in our.away.things["grant"])
    assert retired(our).done
    assert our.away.things["grant"] == []
    with our.office() as office:
        assert [loan.closed for loan in office.books.begun(LOANS, ended=True)] == ["recalled"]
        assert office.books.begun(LOANS) == []


def test_a_token_that_was_never_taken_is_no_pair(tmp_path: Path) -> None:
    """A refusal of what did not work before shows nothing: neither of the key, nor of a token."""
    our = house(tmp_path, Memory())
    our.enact()
    our.away.deaf = True
    ways = retired(our).ways
    assert [w.refused for w in ways] == [None]
    assert "not let in before" in ways[0].said


@pytest.mark.parametrize(("room", "begun"), [(4, True), (1, False)])
def test_sweep_renews_only_where_there_is_room_for_another_one(tmp_path: Path, room: int, begun: bool) -> None:
    our = house(tmp_path, Memory(profile=dataclasses.replace(USUAL, keys_per_principal=room)))
    our.enact(our.charter(CHARTER.replace("lasts: 90d", "lasts: 30d, renew_before: 20d")))
    with our.office() as office:
        assert due(office) == []
    our.away.ahead += timedelta(days=11)
    with our.office() as office:
        assert [i.kind for i in due(office)] == (["renewal"] if begun else [])


def stopped(our: House, because: str, seconds: int | None = None) -> Stopped:
    with our.office() as office:
        until = (lambda now: now + timedelta(seconds=seconds)) if seconds is not None else (lambda now: None)
        [found] = suspend(office, office.charters(["gauge"]), because, until)
        return found


def test_a_suspension_that_failed_has_failed(tmp_path: Path) -> None:
    our = house(tmp_path, Memory())
    our.enact()
    our.away.refusing = lambda doing: isinstance(doing, Change)
    failed = stopped(our, "a leak")
    assert ([*failed.off.values()], failed.outcome()) == ([False], Outcome.REFUSED)
    told = our.enact()
    assert told.outline is not None
    assert (told.outline.count(NOT_OFF), told.outline.count(HELD)) == (1, 0)
    assert "it is to be suspended and is on" in closing(told)
    our.away.refusing = lambda doing: False
    assert [*stopped(our, "a leak").off.values()] == [True]
    assert our.enact().outline.count(HELD) == 1  # type: ignore[union-attr]


def test_a_suspension_is_prolonged_and_keeps_every_reason(tmp_path: Path) -> None:
    our = house(tmp_path, Memory())
    our.enact()
    first = stopped(our, "a leak", 7200).suspensions[0]
    [longer] = stopped(our, "the mast is moved", 14_400).suspensions
    assert first.until is not None
    assert longer.until is not None
    assert (longer.because, longer.until > first.until) == ("a leak; the mast is moved", True)
    [same] = stopped(our, "a leak", 60).suspensions  # never an earlier end, and no further entry
    assert (same.until, same.because) == (longer.until, longer.because)
    our.away.ahead += timedelta(hours=3)  # its first end is over, its later one is not
    with our.office() as office:
        assert due(office) == []
    [endless] = stopped(our, "until further notice").suspensions
    our.away.ahead += timedelta(hours=3)
    with our.office() as office:
        assert (endless.until, due(office)) == (None, [])
        [back] = reinstate(office, office.charters(["gauge"]), "found")
        assert ([*back.off.values()], back.suspensions[0].closed) == ([False], "on-again")


def test_switched_on_again_by_another_hand_is_on(tmp_path: Path) -> None:
    """Sweep reports it and leaves it on; who suspends it once more has it off, and back again as before."""
    our = house(tmp_path, Memory())
    our.enact()
    stopped(our, "a leak")
    [record] = our.away.things["account"]
    our.away.put(record, active=True)
    our.away.ahead += timedelta(hours=1)
    with our.office() as office:
        assert [i.kind for i in due(office)] == ["suspension"]
        [swept] = sweep(office, due(office))
        assert (swept.outcome(), "on although it is suspended" in str(swept.problem)) == (Outcome.SOMEBODY, True)
    assert our.away.things["account"][0].body.active is True
    again = stopped(our, "a leak")
    assert ([*again.off.values()], our.away.things["account"][0].body.active, again.errors) == ([True], False, [])
    our.away.ahead += timedelta(hours=1)
    with our.office() as office:
        [back] = reinstate(office, office.charters(["gauge"]), "found")
    assert (back.suspensions[0].closed, our.away.things["account"][0].body.active) == ("on-again", True)


def test_what_was_never_made_is_neither_retired_nor_connected(tmp_path: Path) -> None:
    """A proof or a sheet makes a charter known to the ledger, and makes nothing at its tenant."""
    our = house(tmp_path, Memory())
    our.charter()
    with our.office() as office:
        office.books.writable_ledger()
        office.books.make_known("gauge")
        with pytest.raises(UsageError, match="never enacted"):
            plan(office, "gauge")
        [charter] = office.charters(["gauge"])
        with pytest.raises(SomebodyError, match="nothing of gauge was made yet"):
            connected(office, charter, "gateway", "4711")
    our.enact()
    with our.office() as office:
        connected(office, office.charters(["gauge"])[0], "gateway", "4711")


@pytest.mark.parametrize("agreed", [False, True])
def test_where_no_versions_are_shown_it_comes_back_when_a_person_says_so(tmp_path: Path, agreed: bool) -> None:
    """Off, on, off again by another hand would look the same: nobody is blamed, and nothing comes back unasked."""
    our = house(tmp_path, Memory(stamped=False))
    our.enact()
    with our.office() as office:
        [done] = suspend(office, office.charters(["gauge"]), "moved", lambda now: now + timedelta(hours=1), back=agreed)
    assert ([*done.off.values()], done.suspensions[0].agreed) == ([True], agreed)
    our.away.ahead += timedelta(hours=2)
    with our.office() as office:
        [swept] = sweep(office, due(office))
        told = str(swept.problem)
    assert (our.away.things["account"][0].body.active, "cannot be known" in told) == (agreed, not agreed)
    if not agreed:
        with our.office() as office:
            [asked] = reinstate(office, office.charters(["gauge"]), "found")
            assert (asked.outcome(), asked.suspensions[0].closed) == (Outcome.SOMEBODY, "")
            [back] = reinstate(office, office.charters(["gauge"]), "found", switch_on=True)
        assert (our.away.things["account"][0].body.active, back.suspensions[0].closed) == (True, "on-again")
