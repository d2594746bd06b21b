"""Advice as text and JSON."""

from __future__ import annotations

from typing import Any

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from sigillum.core.charter.advice import NAMES, RUNS, SIGNS_IN, Advice, Wish

from .common import pairs, table


def text(wish: Wish, found: Advice) -> RenderableType:
    """The answers with their reasons, what is to be chosen, what a thief gets, and the draft."""
    there = "nobody is there" if wish.unattended else "somebody is there"
    head = f"{SIGNS_IN[wish.signs_in]}, {RUNS[wish.runs]}, {NAMES[wish.in_the_name_of]}; {there}"
    rows = [
        (name, f"{reason.answer}: {reason.why}")
        for name, reason in (("kind", found.kind), ("credential", found.credential), ("identities", found.number))
    ]
    parts: list[RenderableType] = [Text.assemble((wish.name, "bold"), f"  {head}"), "", pairs(rows)]
    parts += [Padding(Text(line, "dim"), (0, 0, 0, 12)) for line in wish.by]
    if len(found.names) > 1:
        parts.append(Padding(Text(", ".join(found.names), "dim"), (0, 0, 0, 12)))
    for number, choice in enumerate(found.choices, 1):
        parts += ["", Text(f"choose {number}: {choice.about}", "bold yellow")]
        parts += [
            Padding(Group(Text(f"{letter}) {way}"), Text(f"   {consequence}", "dim")), (0, 0, 0, 2))
            for letter, (way, consequence) in zip("abc", choice.ways, strict=False)
        ]
    shown = [
        (("advised: " if loss.chosen else "") + loss.credential, loss.travels, loss.acts_as, loss.until)
        for loss in found.losses
    ]
    parts += ["", Text("What a thief would get", "bold"), table(("credential", "it travels", "it acts as", "until"), shown)]
    parts += [
        "",
        Text("Draft charter" + (f", one for each of {len(found.names)}" if len(found.names) > 1 else ""), "bold"),
        Padding(Text(found.draft.rstrip()), (0, 0, 0, 2)),
    ]
    return Group(*parts)


def as_json(wish: Wish, found: Advice) -> dict[str, Any]:
    return {
        "wish": wish._asdict(),
        "identity": found.kind._asdict(),
        "credential": found.credential._asdict(),
        "number": found.number._asdict(),
        "names": list(found.names),
        "draft": found.draft,
        "choices": [{"about": c.about, "ways": [{"do": w, "consequence": k} for w, k in c.ways]} for c in found.choices],
        "thief": [loss._asdict() for loss in found.losses],
    }
