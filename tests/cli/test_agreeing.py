"""Where somebody agrees to steps, whatever the steps send is on the screen."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

from core.fake import Fake
from core.test_stories import STORIES, prepare
from sigillum.cli.views.rehearsal import ABOVE, details
from sigillum.core.kinds.changes import Change, Make
from sigillum.core.records.steps import Ask, Step


def leaves(value: Any) -> Iterator[str]:
    """The texts in a value that is sent; ids of what an earlier step makes have none yet."""
    if type(value) is tuple:
        for inner in value:
            yield from leaves(inner)
    elif isinstance(value, str) and value and not value.startswith("@("):
        yield value


def sent(step: Step) -> dict[str, Any]:
    doing = step.action.action if isinstance(step.action, Ask) else step.action
    return dict(doing.part) if isinstance(doing, (Make, Change)) else {}


@pytest.mark.parametrize("story", STORIES)
def test_all_that_is_sent_is_shown_in_words(story: str) -> None:
    """Of what is made or changed here, and of what somebody else is asked to make or change."""
    fake = Fake(losing=True)
    for turn in STORIES[story]:
        prepare(fake, turn)
        outline = fake.compare(turn.charter, turn.rules, adopt=turn.adopt, end_extra=turn.end_extra, switch_on=turn.switch_on)
        for step in outline.steps:
            rows = details(step)
            shown = " ".join([step.about, *(f"{name} {value}" for name, value in rows)])
            assert not any(word in shown for word in ("Ref(", "StepId(", "Mark(", "datetime", "None", "('")), shown
            lacking = [
                (name, leaf)
                for name, value in sent(step).items()
                if name not in ABOVE
                for leaf in leaves(value)
                if leaf not in shown
            ]
            assert not lacking, f"{step.about}: {lacking}"
        if not turn.look:
            fake.enact(turn.charter, adopt=turn.adopt, most=turn.most, switch_on=turn.switch_on)
