"""Loans in process: each is of one role to one borrower at one place."""

from __future__ import annotations

from pathlib import Path

from sigillum.core.undertakings.loans import Loan
from sigillum.workflows.lending.lend import LoanWish, lend, propose
from workflows.memory import House, Memory, house


def lent(our: House, role: str, place: str, to: str = "gauge") -> Loan:
    with our.office() as office:
        return lend(office, propose(office, LoanWish(role, place, to, "a look", 3600)))[0]


def test_a_loan_of_the_same_is_used_again_and_one_of_something_else_is_not(tmp_path: Path) -> None:
    our = house(tmp_path, Memory())
    our.enact()
    first = lent(our, "reader", "root/b")
    assert lent(our, "reader", "root/b").uid == first.uid
    others = [lent(our, "reader", "root"), lent(our, "keeper", "root/b"), lent(our, "reader", "root/b", "crew")]
    assert len({first.uid, *(o.uid for o in others)}) == 4
    made = sorted((r.body.role, r.body.place, r.body.principal[0]) for r in our.away.things["grant"] if r.body.until)
    assert made == [("keeper", "root/b", "a"), ("reader", "root", "a"), ("reader", "root/b", "a"), ("reader", "root/b", "t")]
