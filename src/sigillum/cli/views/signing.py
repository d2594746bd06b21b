"""What decides at a sign-in, as text and JSON."""

from __future__ import annotations

from typing import Any

from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from sigillum.workflows.surveying.sign_in import SignInTold

from .common import Ident

_STATES = {"met": "green", "unmet": "bold red", "makes no difference": "dim"}


def text(told: SignInTold, ident: Ident) -> RenderableType:
    attempt, verdict = told.attempt, told.verdict
    how = [
        "interactive" if attempt.interactive else "unattended",
        "with a second factor" if attempt.second_factor else "without a second factor",
        f"from {ident(attempt.address)}" if attempt.address else "from no address that was named",
    ]
    grid = Table.grid(padding=(0, 2, 0, 0))
    grid.add_column(no_wrap=True)
    grid.add_column(no_wrap=True)
    grid.add_column(overflow="fold")
    for excused in verdict.told:
        decides = (
            "  <- decides" if not verdict.allowed and (excused.rule, excused.why) == (verdict.rule, verdict.demand) else ""
        )
        grid.add_row(excused.rule, Text(excused.state, _STATES[excused.state]), Text(excused.why + decides))
    said = Text(
        "can sign in" if verdict.allowed else f"cannot sign in: {verdict.rule} ({verdict.demand})",
        "bold green" if verdict.allowed else "bold red",
    )
    parts: list[RenderableType] = [
        Text.assemble((ident(told.account.name), "bold"), f"  at {told.tenant}, {', '.join(how)}"),
        said,
        "",
        grid,
    ]
    if told.theirs is not None:
        answer = "allowed" if told.theirs.allowed else "refused"
        parts += ["", Text(f"the tenant says: {answer} ({told.theirs.reason})" + (", which DIFFERS" if told.differs else ""))]
    return Group(*parts)


def as_json(told: SignInTold) -> dict[str, Any]:
    return {
        "tenant": told.tenant,
        "principal_id": told.account.id,
        "principal": told.account.name,
        "attempt": told.attempt._asdict(),
        "allowed": told.verdict.allowed,
        "rule": told.verdict.rule,
        "demand": told.verdict.demand,
        "rules": [t._asdict() for t in told.verdict.told],
        "asked": {"allowed": told.theirs.allowed, "reason": told.theirs.reason, "differs": told.differs}
        if told.theirs is not None
        else None,
    }
