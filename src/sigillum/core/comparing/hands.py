"""Who does what: each step goes to an administrator who has its power, or becomes a request to somebody who does."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import NamedTuple

from sigillum.core.records.steps import Ask, Note, Outline, Step, StepKind


class Hand(NamedTuple):
    """One administrator of a tenant. `powers` None: all, as far as is known; `here`: this workspace acts as them."""

    name: str
    powers: frozenset[str] | None = None
    here: bool = True
    contact: str = ""

    def can(self, power: str) -> bool:
        return self.powers is None or power in self.powers


def assign(outline: Outline, hands: Mapping[str, Sequence[Hand]]) -> Outline:
    """Give each step to a hand; the first of a tenant is the usual one. What nobody here can do becomes a request."""
    notes = list(outline.notes)

    def one(step: Step) -> Step:
        all_ = hands.get(step.tenant, ())
        if not step.power or not all_ or all_[0].can(step.power) or isinstance(step.action, Ask):
            return step
        other = next((h for h in all_ if h.here and h.can(step.power)), None)
        if other is not None:
            notes.append(
                Note(
                    "other-hand",
                    f"{other.name} acts where the power `{step.power}` is needed at {step.tenant}; {all_[0].name} lacks it",
                    warning=False,
                )
            )
            return replace(step, by=other.name)
        holder = next((h for h in all_ if not h.here and h.powers is not None and step.power in h.powers), None)
        who = holder.name if holder is not None else f"somebody who holds `{step.power}`"
        notes.append(
            Note("power-lacking", f"nobody here has the power `{step.power}` at {step.tenant}: a request goes to {who}")
        )
        return replace(
            step,
            kind=StepKind.ASK,
            about=f"{who} to {step.kind} {step.about}",
            action=Ask(
                step.doing, holder.name if holder is not None else "", holder.contact if holder is not None else "", step.about
            ),
        )

    steps = tuple(one(s) for s in outline.steps)
    return replace(outline, steps=steps, notes=tuple(dict.fromkeys(notes)))
