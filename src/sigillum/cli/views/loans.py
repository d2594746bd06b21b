"""Loans as text, rows and JSON."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sigillum.cli.forms import Column, Listing
from sigillum.core.undertakings.loans import Loan
from sigillum.core.values.errors import SigillumError
from sigillum.core.values.times import format_instant
from sigillum.workflows.lending.lend import Proposal

from .common import Ident, masked
from .hints import advised

COLUMNS: tuple[Column[tuple[Loan, str]], ...] = (
    Column("loan", lambda f: f[0].number, unbroken=True),
    Column("state", lambda f: f[1], people=False),
    Column("is", lambda f: f[1].replace("-", " "), head="state", data=False, unbroken=True),
    Column("tenant", lambda f: f[0].tenant, people=False),
    Column("until", lambda f: f[0].until, unbroken=True),
    Column("role", lambda f: f[0].grant.role, unbroken=True),
    Column("at", lambda f: f[0].at),
    Column("to", lambda f: f[0].principal_name, mask="in"),
    Column("principal_id", lambda f: f[0].grant.principal, people=False, mask="whole"),
    Column("because", lambda f: f[0].grant.reason),
    Column("by", lambda f: f[0].by, people=False, mask="whole"),
)


def listing(found: Sequence[tuple[Loan, str]]) -> Listing[tuple[Loan, str]]:
    """Loans, each with its state."""
    return Listing("loans", found, COLUMNS, empty="Nothing is lent.")


def before(proposal: Proposal) -> str:
    """What is about to be lent, with the class of each permission, and what speaks against it."""
    lines = [
        f"{proposal.wish.role} allows {proposal.allows}",
        *(
            f"{'note' if o.usual else 'warning'}  {o.what}{f'; {mend}' if (mend := advised(o.code, o.mend)) else ''}"
            for o in proposal.objections
        ),
    ]
    return "\n".join(lines)


def lent(loan: Loan, stood: bool, failed: Sequence[SigillumError], ident: Ident) -> str:
    """How lending ended."""
    what, who = f"{loan.grant.role} at {loan.at}", masked(loan.principal_name, ident)
    number, until = loan.number, format_instant(loan.until)
    if failed:
        return f"Not lent: {failed[0].what}\n  do     {failed[0].mend}"
    if stood:
        return f"{what} is lent to {who} already, until {until} (loan {number}); its end stays."
    ends = "It ends by itself." if loan.by_itself else "This tenant ends none by itself: let `sigillum sweep` run then."
    if loan.grant.over:
        ends += f" {loan.grant.over} gave way to it and comes back."
    return f"Lent: {what} to {who}, until {until} (loan {number}), and read back. {ends}"


def as_json(loan: Loan, state: str, failed: Sequence[SigillumError]) -> dict[str, Any]:
    error = {"error": {"code": failed[0].code, "what": failed[0].what, "do": failed[0].mend}} if failed else {}
    return {**listing([(loan, state)]).data()[0], **error}
