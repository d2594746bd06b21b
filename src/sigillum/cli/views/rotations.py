"""Rotations as text and JSON."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from sigillum.core.undertakings.consuming import Knows, missing
from sigillum.core.values.times import format_instant, rough_duration
from sigillum.workflows.rotating.exposed import Exposure
from sigillum.workflows.rotating.rotate import Rotated, RotationStatus

from .common import Ident, masked
from .hints import problem_json, problem_lines
from .steps import step_rows

QUESTIONS = {
    "end-old": "End the old one now? Whoever still uses it cannot sign in any more.",
    "exposed": "Switch the old one off now? Nobody can sign in with it until the new one is picked up.",
    "pause": "Switch the old one off for a while? Whoever still uses it is refused, until `rotate --back`.",
    "gap": "Let the new one take the old one's place? Who has not picked it up cannot sign in.",
}
_KNOWN = {True: "has the new one", False: "has the old one", None: "not known"}
_STAGES = {
    "begun": "begun",
    "kept": "the new key is kept",
    "beside": "consumers that try both can read the new one",
    "made": "the new one is made",
    "accepted": "the tenant takes the new one",
    "given": "consumers can read the new one",
    "taken": "the new one is used",
    "paused": "the old one is off, to see who misses it",
    "ended": "the old one is ended",
    "dead": "the old one is proved dead",
    "cleared": "what was left of it is removed",
}


def rotated(done: Rotated, ident: Ident) -> RenderableType:
    """What was done of one, and what it waits for."""
    rotation = done.rotation
    parts: list[RenderableType] = [
        Text.assemble(
            (f"{done.charter}: {rotation.name}", "bold"), f"  generation {rotation.old.number}, since {rotation.because}"
        )
    ]
    if done.results:
        parts += ["", step_rows(done.results)]
    if done.waits is not None:
        parts += ["", *(Text(line, "yellow") for line in problem_lines(done.waits))]
    failed = next((r.error for r in done.results if r.error is not None), None)
    end = (
        f"Rotated: generation {rotation.old.number} of {rotation.name} is dead, and its successor serves."
        if rotation.closed == "done"
        else f"Closed: {rotation.closed}."
        if rotation.closed
        else f"Not finished: {_STAGES[rotation.stage]}."
        if failed is not None
        else f"Under way: {_STAGES[rotation.stage]}. The deadline is {format_instant(rotation.deadline)}."
        + (" Before the old one ends, it is off for a while." if rotation.pausing else "")
    )
    if rotation.closed == "done" and (unknown := missing(done.consumers)):
        end += f" {unknown[0].upper()}{unknown[1:]}."
    if done.exposure is not None:
        parts += ["", *_exposure(done.exposure, ident)]
    return Group(*parts, "", Text(end, "bold"), "")


def _exposure(found: Exposure, ident: Ident) -> list[RenderableType]:
    """Where it was, who used it, what stands that nobody here made, and until when stolen tokens live."""
    used = (
        "the tenant does not tell when it was used"
        if not found.told
        else "as far as the tenant tells, it was never used"
        if found.used_at is None
        else f"it was used last at {format_instant(found.used_at)}"
        + (f" from {ident(found.used_from)}" if found.used_from else "")
    )
    grid = Table.grid(padding=(0, 2, 0, 2))
    grid.add_column(no_wrap=True)
    grid.add_column(overflow="fold")
    for number, place in enumerate(found.places):
        grid.add_row("it was" if not number else "", masked(place, ident))
    grid.add_row("use", f"{used}: was that yours?")
    for number, suspicion in enumerate(found.suspicions):
        grid.add_row(
            "look at" if not number else "", Text.assemble((masked(suspicion.what, ident), "yellow"), f"\n{suspicion.stops}")
        )
    if not found.suspicions:
        grid.add_row("look at", "nothing hangs on the identity that nobody here made; what else it changed is not told there")
    until = format_instant(found.tokens_until)
    grid.add_row("tokens", f"got with it live until {until}; `sigillum suspend` until then stops them")
    return [Text("The exposed one", "bold"), grid]


def standing(all_: Sequence[RotationStatus], ident: Ident) -> RenderableType:
    """Where each stands, since when, what it waits for, and who uses what."""
    if not all_:
        return Text("No rotation is under way.")
    parts: list[RenderableType] = []
    for s in all_:
        rotation, now = s.rotation, s.now
        grid = Table.grid(padding=(0, 2, 0, 2))
        grid.add_column(no_wrap=True)
        grid.add_column(overflow="fold")
        since = f", for {rough_duration((now - rotation.since).total_seconds())}" if now is not None else ""
        grid.add_row("stands", Text(f"{_STAGES[rotation.stage]}{since}"))
        grid.add_row("waits", Text(s.waits, "yellow" if not s.late else "bold red"))
        grid.add_row("old", Text(_used(rotation.old.number, s.old_used, s.old_from, s.old_whose, rotation.old.live, ident)))
        for made in rotation.bridges:
            grid.add_row(
                "bridge",
                Text(
                    f"the old key again, until {made.terms['until']}, accepted by "
                    f"{made.terms['accepted_by']}{'' if made.live else '; ended'}"
                ),
            )
        for known in s.consumers:
            grid.add_row(known.consumer, Text(f"{_KNOWN[known.has]}: {known.why}"))
        if rotation.new is not None:
            grid.add_row("new", Text(_used(rotation.new.number, s.new_used, "", s.new_whose, rotation.new.live, ident)))
        left = rough_duration(abs((rotation.deadline - now).total_seconds())) if now is not None else ""
        grid.add_row("deadline", Text(f"{format_instant(rotation.deadline)}, {'over for' if s.late else 'in'} {left}"))
        parts += [
            Text.assemble((f"{s.charter}: {rotation.name}", "bold"), f"  in {rotation.tenant}, since {rotation.because}"),
            grid,
            "",
        ]
    return Group(*parts)


def _used(number: int, used: Any, address: str, whose: str, live: bool, ident: Ident) -> str:
    if not live:
        return f"generation {number}, ended"
    last = f"used last {whose} at {format_instant(used)}" if used is not None else "no use is shown"
    return f"generation {number}, {last}{f' from {ident(address)}' if address and used is not None else ''}"


DATA = "charter credential tenant old new stage since deadline because exposed closed"  # what a table of them has


def _json(one: Any) -> dict[str, Any]:
    return {
        "rotation": one.key,
        "credential": one.name,
        "tenant": one.tenant,
        "old": one.old.number,
        "new": one.number,
        "stage": str(one.stage),
        "since": format_instant(one.since),
        "deadline": format_instant(one.deadline),
        "quiet_seconds": one.quiet_seconds,
        "because": one.because,
        "exposed": one.exposed,
        "closed": one.closed,
        "bridges": [{**{n: g.terms[n] for n in ("until", "accepted_by")}, "live": g.live} for g in one.bridges],
    }


def standing_json(s: RotationStatus) -> dict[str, Any]:
    return {
        "charter": s.charter,
        **_json(s.rotation),
        "waits": s.waits,
        "late": s.late,
        "old_used_at": format_instant(s.old_used) if s.old_used else None,
        "old_used_from": s.old_from,
        "new_used_at": format_instant(s.new_used) if s.new_used else None,
        "old_used_by": s.old_whose,
        "new_used_by": s.new_whose,
        "consumers": _consumers(s.consumers),
    }


def _consumers(all_: Sequence[Knows]) -> list[dict[str, Any]]:
    return [{"consumer": k.consumer, "has": k.has, "why": k.why} for k in all_]


def as_json(done: Rotated) -> dict[str, Any]:
    return {
        "charter": done.charter,
        **_json(done.rotation),
        "outcome": int(done.outcome()),
        "consumers": _consumers(done.consumers),
        "steps": [
            {
                "step": str(r.step.kind),
                "about": r.step.about,
                "state": str(r.state),
                **({"error": problem_json(r.error)} if r.error else {}),
            }
            for r in done.results
        ],
        "waits": problem_json(done.waits) if done.waits is not None else None,
        "exposure": _exposure_json(done.exposure) if done.exposure is not None else None,
    }


def _exposure_json(found: Exposure) -> dict[str, Any]:
    return {
        "places": list(found.places),
        "told": found.told,
        "used_from": found.used_from,
        "used_at": format_instant(found.used_at) if found.used_at is not None else None,
        "suspicions": [suspicion._asdict() for suspicion in found.suspicions],
        "tokens_until": format_instant(found.tokens_until),
    }
