"""Explanations as text, as a matrix and as JSON."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from sigillum.cli.forms import Column, Listing
from sigillum.core.deciding.explanations import Explanation, name_of, place_name, right_words
from sigillum.core.values.times import format_edge, format_instant, whole_second
from sigillum.workflows.surveying.explain import Explained

from .common import Ident, masked
from .hints import advised

_GOOD = {True: ("yes", "green"), False: ("no", "bold red"), None: ("-", "dim")}


def texts(found: list[Explained], ident: Ident) -> RenderableType:
    return Group(*[part for explained in found for part in ("", text(explained, ident))][1:])


def text(found: Explained, ident: Ident) -> RenderableType:
    """The verdict, the chain link by link, what else would allow it, and the smallest change that would."""
    told, world = found.explanation, found.world
    question, decision = told.question, told.decision
    grid = Table.grid(padding=(0, 2, 0, 0))
    grid.add_column(no_wrap=True)
    grid.add_column(no_wrap=True, style="dim")
    grid.add_column(overflow="fold")
    for link in told.links:
        word, style = _GOOD[link.good]
        decides = link is told.deciding
        arrow = ("  <- decides", "bold") if decides else ""
        grid.add_row(Text(word, style), link.name, Text.assemble(masked(link.text, ident), arrow))
    parts: list[RenderableType] = [headline(found, ident), "", grid]
    if told.decision.allowed:
        for other in decision.also:
            parts.append(
                Text.assemble(
                    ("also     ", "dim"),
                    "it would be allowed as well by ",
                    masked(right_words(world, other, question.principal), ident),
                )
            )
    if found.theirs is not None:
        answer = {True: "allowed", False: "refused", None: "no answer"}[found.theirs.allowed]
        parts += ["", Text.assemble(("the tenant says  ", "dim"), (answer, "bold"), f": {found.theirs.reason}")]
    if told.mends:
        head = "what would tell" if decision.allowed is None else "the smallest change that would allow it"
        parts += ["", Text(head, "bold")]
        parts += [
            Text(f"{number}  {masked(advised(mend.cause, mend.words(ours=found.ours)), ident)}")
            for number, mend in enumerate(told.mends, 1)
        ]
        parts += [
            Text(f"   {masked(line, ident)}", "dim", no_wrap=True, overflow="ignore")
            for line in _lend_lines(told, name_of(world, question.principal))
        ]
    if told.changes_at is not None:
        later = world.allowed(*question._replace(at=told.changes_at))
        word = {True: "allowed", False: "refused", None: "not known"}[later]
        parts += ["", Text(f"At {format_edge(told.changes_at)} it will be {word}.")]
    return Group(*parts)


def headline(found: Explained, ident: Ident) -> Text:
    question, decision = found.explanation.question, found.explanation.decision
    verdict = {
        True: ("allowed", "bold green"),
        False: (f"refused: {decision.cause}", "bold red"),
        None: ("not known", "bold yellow"),
    }[decision.allowed]
    who, where = name_of(found.world, question.principal), place_name(found.world, question.place)
    when = format_instant(whole_second(question.at))
    return Text.assemble(verdict, "\n" + masked(f"{who}, {question.permission} at {where}, {when}", ident))


def _lend_lines(told: Explanation, who: str) -> list[str]:
    return [
        line
        for m in told.mends
        if m.role and not m.place.startswith("@")
        for line in (f"sigillum lend {m.role} --to {m.to or who} --for 1h --because '...' \\", f"  --at {m.place}")
    ]


def difference(found: Explained) -> str:
    """A difference between ours and theirs is said loudly."""
    ours = "allowed" if found.explanation.decision.allowed else "refused"
    theirs = "allowed" if found.theirs is not None and found.theirs.allowed else "refused"
    seconds = int(found.world.felt.total_seconds())
    late = f"theirs is late (a change may take {seconds} s there)" if seconds else "theirs is late"
    return f"DIFFERENT: from the facts it is {ours}, and the tenant says {theirs}. Either ours is wrong, or {late}."


def listing(found: list[Explained]) -> Listing[list[Explained]]:
    """Places down, permissions across."""
    rows: dict[str, list[Explained]] = {}
    for explained in found:
        rows.setdefault(place_name(explained.world, explained.explanation.question.place), []).append(explained)
    permissions = list(dict.fromkeys(f.explanation.question.permission for f in found))
    rules = found[0].world.operations if found else {}
    return Listing(
        "places",
        list(rows.values()),
        [
            Column("place", lambda row: place_name(row[0].world, row[0].explanation.question.place), mask="in"),
            *(
                Column(p, _verdict(p), head=f"{p}\n{rules[p].class_.replace('-', ' ')}" if p in rules else p)
                for p in permissions
            ),
        ],
    )


def _verdict(permission: str) -> Callable[[list[Explained]], str]:
    def of(row: list[Explained]) -> str:
        explained = next(f for f in row if f.explanation.question.permission == permission)
        decision = explained.explanation.decision
        differs = " (the tenant differs)" if explained.differs else ""
        return {True: "yes", False: f"no: {decision.cause}", None: "not known"}[decision.allowed] + differs

    return of


def matrix(found: list[Explained], ident: Ident) -> RenderableType:
    question = found[0].explanation.question
    who = name_of(found[0].world, question.principal)
    return Group(
        Text.assemble((masked(who, ident), "bold"), f"  at {format_instant(whole_second(question.at))}"),
        "",
        listing(found).table(ident),
    )


def as_json(found: Explained) -> dict[str, Any]:
    told = found.explanation
    question, decision, world = told.question, told.decision, found.world
    return {
        "principal_id": question.principal,
        "principal": name_of(world, question.principal),
        "permission": question.permission,
        "place": place_name(world, question.place),
        "at": format_instant(question.at),
        "credential_id": question.credential,
        "allowed": decision.allowed,
        "cause": str(decision.cause),
        "not_shown": list(decision.hidden),
        "chain": [{"link": k.name, "good": k.good, "text": k.text, "decides": k is told.deciding} for k in told.links],
        "also": [right_words(world, r, question.principal) for r in decision.also] if decision.allowed else [],
        "mends": [
            {"cause": str(m.cause), "text": advised(m.cause, m.words(ours=found.ours)), "role": m.role, "place": m.place}
            for m in told.mends
        ],
        "changes_at": format_instant(told.changes_at) if told.changes_at else None,
        "tenant": {"allowed": found.theirs.allowed, "reason": found.theirs.reason, "differs": found.differs}
        if found.theirs is not None
        else None,
    }
