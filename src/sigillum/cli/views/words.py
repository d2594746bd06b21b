"""Sentences that need no drawing: a run that shows only these loads nothing to draw with."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sigillum.core.records.steps import CHANGED, DARK, HELD, HIDDEN, NEVER_HERE, NOT_OFF, TURNING, Outline
from sigillum.core.values.errors import Outcome

if TYPE_CHECKING:  # a rehearsal shows these words, too, and enacts nothing
    from sigillum.workflows.enacting.enact import Enacted


def plural(count: int, word: str) -> str:
    return f"{count} {word}{'' if count == 1 else 's'}"


def open_ends(outline: Outline) -> str:
    """What is left of what the charter asks for, and cannot be done: now, or ever; empty where nothing is."""
    hidden, never, dark = outline.count(HIDDEN), outline.count(NEVER_HERE), outline.count(DARK)
    told = [
        *([f"{plural(hidden, 'thing')} that it asks for cannot be looked up now"] if hidden else []),
        *([f"{plural(never, 'thing')} can never be there"] if never else []),
    ]
    if dark and not told:
        return f"Not known whether it is as the charter says: {plural(dark, 'field')} not shown now."
    return f"Not as the charter says: {', and '.join(told)}." if told else ""


def nothing_to_do(outline: Outline | None) -> str:
    """That there is nothing to do, and what is under way all the same."""
    held, turning = (outline.count(HELD), outline.count(TURNING)) if outline is not None else (0, 0)
    changed = outline.count(CHANGED) if outline is not None else 0
    if outline is not None and outline.count(NOT_OFF):
        return "Nothing to do here: it is to be suspended and is on. `sigillum suspend` switches it off."
    extra = sum(1 for n in outline.notes if n.code.endswith("-extra")) if outline is not None else 0
    if extra:
        return f"Nothing to do here, and not all is as the charter says: {plural(extra, 'thing')} that no charter asks for."
    if changed:
        return f"Nothing to do here, and not all is as the charter says: {plural(changed, 'value')} changed there by somebody."
    return (
        "Nothing to do: it is suspended."
        if held
        else f"Nothing to do here: {plural(turning, 'rotation')} under way."
        if turning
        else "Nothing to do: everything is as the charter says."
    )


def closing(done: Enacted) -> str:
    """The one line that says how it ended."""
    outcome = done.outcome()
    left = open_ends(done.outline) if done.outline is not None else ""
    changed = sum(1 for r in done.results if r.state == "done" and r.step.kind not in ("prove", "wait"))
    ended = sum(1 for r in done.results if r.state == "skipped" and r.step.kind == "end")
    if outcome is not Outcome.INTERRUPTED and left and (not done.results or outcome is Outcome.SOMEBODY):
        reached = f"{plural(changed, 'step')} carried out and read back. " if changed else ""
        return f"{reached}{left}"
    if outcome is Outcome.DONE and not done.results:
        return nothing_to_do(done.outline)
    if outcome is Outcome.DONE:
        proven = "" if done.proofs is None else f", {plural(len(done.proofs.results), 'proof')} held"
        if done.proofs is not None and done.proofs.waited_seconds >= 1:
            proven += f" after {done.proofs.waited_seconds:.0f} s"
        return f"Done: {plural(changed, 'step')} carried out and read back{proven}."
    if ended and all(r.state != "failed" for r in done.results):
        return f"{plural(ended, 'ending')} left out: in the stage prod it also wants --end."
    if outcome is Outcome.NOT_YET and done.proofs is not None and all(r.state == "done" for r in done.results):
        return (
            f"Done: {plural(changed, 'step')} carried out and read back; not felt yet. Go on with `sigillum prove "
            f"{done.charter.name} --wait 10m`."
        )
    return {
        Outcome.NO: "Done, and a proof does not hold.",
        Outcome.REFUSED: "The tenant refused; the rest was done.",
        Outcome.UNREACHABLE: "Not finished: the tenant could not be reached. Run the same command again.",
        Outcome.SOMEBODY: "Not finished: somebody has to act or decide first.",
        Outcome.NOT_YET: "Not finished: changes are on their way. Run the same command again.",
        Outcome.INTERRUPTED: f"Stopped: {plural(changed, 'step')} carried out and read back; the rest was not begun."
        if done.results
        else "not begun.",
    }.get(outcome, "Not finished.")
