"""Loans as text, rows and JSON."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sigillum.core.undertakings.loans import Loan
from sigillum.core.values.errors import SigillumError
from sigillum.core.values.times import format_instant
from sigillum.workflows.lending.lend import Proposal

from .common import Ident, masked
from .hints import advised

COLUMNS = ("loan", "state", "until", "role", "at", "to", "because", "by")
WHOLE = COLUMNS[:4]


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


def row(loan: Loan, state: str, ident: Ident) -> tuple[str, ...]:
    return (
        loan.number,
        state.replace("-", " "),
        format_instant(loan.until),
        loan.grant.role,
        loan.at,
        masked(loan.principal_name, ident),
        loan.grant.reason,
        ident(loan.by),
    )


def as_json(loan: Loan, state: str, failed: Sequence[SigillumError]) -> dict[str, Any]:
    return {
        "loan": loan.number,
        "state": state,
        "tenant": loan.tenant,
        "role": loan.grant.role,
        "at": loan.at,
        "to": loan.principal_name,
        "principal_id": loan.grant.principal,
        "until": format_instant(loan.until),
        "because": loan.grant.reason,
        "by": loan.by,
        **({"error": {"code": failed[0].code, "what": failed[0].what, "do": failed[0].mend}} if failed else {}),
    }
