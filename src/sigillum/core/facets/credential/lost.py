"""A key that was kept and is not here: another copy of the workspace may keep and use it, so a person says that it is lost."""

from __future__ import annotations

from sigillum.core.charter.charter import CredentialWant
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import Standing
from sigillum.core.records.steps import Ask, Step, StepKind
from sigillum.core.values.marks import StepId


def asked(seen: Seen, draft: Draft, want: CredentialWant, standing: Standing) -> tuple[StepId, ...]:
    """The question about one that serves; nothing replaces or ends it before. Nothing where there is nothing to ask."""
    record, generation = standing.record, standing.generation
    if (
        record is None
        or generation is None
        or seen.choices.lost
        or not want.held_here
        or not generation.kept
        or generation.elsewhere
        or seen.held.get((want.name, generation.number))
        or record.value("active") is not True
        or record.over(seen.now)
    ):
        return ()
    by = f" by the copy {generation.kept_by} of this workspace" if generation.kept_by else ""
    what = "private key" if want.is_a.signs else "secret"
    step = Step(
        StepId(generation.mark, generation.number, "lost"),
        StepKind.ASK,
        f"about {want.name}, whose {what} was kept{by} and is not here",
        Ask(
            advice="another copy of this workspace may keep it: run this there; where it is lost, enact with --lost, which "
            "begins the next generation"
        ),
        why="what is not kept here may be kept and used elsewhere",
    )
    return (draft.add(step),)
