"""Suspensions as text and JSON."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from sigillum.core.undertakings.suspension import Closed, Suspension
from sigillum.core.values.times import format_instant
from sigillum.workflows.stopping.suspend import Found, Stopped

from .common import Ident, masked
from .hints import problem_json, problem_lines

_REFUSED = {True: ("refused", "green"), False: ("not refused", "bold red"), None: ("not shown", "yellow")}
_CLOSED = {
    Closed.ON_AGAIN: "is on again",
    Closed.WAS_ON: "was switched on by somebody else meanwhile, and is left so",
    Closed.STAYS_OFF: "stays off: somebody else switched it off, too, or it was off before",
    Closed.UNSURE: "stays off: whether it was us is not known, since an answer was lost; `sigillum enact --ours WHO` "
    "notes who says so and switches it on, `--switch-on` switches it on regardless",
    Closed.GONE: "is gone",
}


def found(key: Found, ident: Ident) -> Iterator[str]:
    """Where a key is registered, and whose it is."""
    for target, owner in zip(key.targets, key.owners, strict=True):
        whose = owner or "nobody here: it is a stranger's"
        yield f"{target.tenant}: {masked(target.name, ident)} of {ident(target.record.body.principal)}, made by {whose}"
    for name, why in key.unsearched:
        yield f"{name}: could not be searched ({why})"


def suspended(done: Stopped, ident: Ident) -> RenderableType:
    """What is off now, until when, and which ways in were shown to be refused."""
    parts: list[RenderableType] = []
    parts += [
        Text.assemble(
            (masked(suspension.about, ident), "bold"), f" in {suspension.tenant} {_off(suspension, done)}: {suspension.because}"
        )
        for suspension in done.suspensions
    ]
    grid = Table.grid(padding=(0, 2, 0, 2))
    for _ in range(2):
        grid.add_column(no_wrap=True)
    grid.add_column(overflow="fold")
    for way in done.ways:
        word, style = _REFUSED[way.refused]
        grid.add_row(Text(word, style), way.what, Text("" if way.said == word else way.said, "dim"))
    unknown = sorted({s.tenant for s in done.suspensions if s.sent and not s.left and not s.agreed})
    return Group(*parts, *([grid] if done.ways else []), *map(Text, map(without_versions, unknown)), *_problems(done))


def without_versions(tenant: str) -> str:
    """What is said beforehand, and once more afterwards."""
    return (
        f"{tenant} shows no versions, so it cannot be known later whether somebody else switched it off, too: "
        "`sigillum reinstate --switch-on` brings it back, or `suspend --for 8h --back-anyway` agrees to that now."
    )


def _off(suspension: Suspension, done: Stopped) -> str:
    """What the tenant shows now, and until when it is to be so."""
    off, until = (
        done.off.get(suspension.key),
        f", until {format_instant(suspension.until)}" if suspension.until is not None else "",
    )
    if off is None:
        return "is to be off; whether it is off is not shown"
    if not off:
        return "is on"
    if suspension.found_off:
        return "was off already, and stays so"
    if suspension.unsure:
        return "is off; whether it was us is not known, since an answer was lost"
    return f"is off{' already' if done.stood and not done.results else ''}{until}"


def reinstated(done: Stopped, ident: Ident) -> RenderableType:
    """What became of each."""
    lines = [
        Text.assemble((masked(suspension.about, ident), "bold"), f" in {suspension.tenant} {_word(suspension)}.")
        for suspension in done.suspensions
    ]
    return Group(*lines, *_problems(done))


def _word(suspension: Suspension) -> str:
    return _CLOSED[Closed(suspension.closed)] if suspension.closed else "is not on again yet"


def _problems(done: Stopped) -> list[Text]:
    return [Text(line, "red") for e in done.problems for line in problem_lines(e)]


def as_json(done: Stopped) -> dict[str, Any]:
    return {
        "name": done.name,
        "outcome": int(done.outcome()),
        "suspensions": [
            {
                "suspension": s.key,
                "tenant": s.tenant,
                "thing": s.thing,
                "id": s.id,
                "name": s.name,
                "because": s.because,
                "by": s.by,
                "until": format_instant(s.until) if s.until else None,
                "found_off": s.found_off,
                "off": done.off.get(s.key),
                "unsure": s.unsure,
                "closed": s.closed,
            }
            for s in done.suspensions
        ],
        "ways": [w.body() for w in done.ways],
        "errors": [problem_json(e) for e in done.problems],
    }
