"""Retirements and what is due, in process: what is written and removed only where all has ended."""

from __future__ import annotations

import dataclasses
from datetime import timedelta
from pathlib import Path

import pytest

from sigillum.core.kinds.changes import End
from sigillum.core.undertakings.loans import LOANS
from sigillum.workflows.lending.lend import LoanWish, lend, propose
from sigillum.workflows.stopping.plan import plan
from sigillum.workflows.stopping.retire import Retired, retire
from sigillum.workflows.stopping.sweep import due
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
