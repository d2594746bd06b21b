"""Values that only somebody else can give: what is asked, and what counts as an answer."""

from __future__ import annotations

import re
from typing import NamedTuple

from sigillum.core.values.errors import Position
from sigillum.core.values.text import unseen

MOST_ANSWER = 500  # characters


class AskedWant(NamedTuple):
    """A value that only somebody else can give: what the answer is kept as, of whom, a pattern that it fits whole, what for."""

    name: str
    of: str
    form: str = ""
    what: str = ""
    position: Position | None = None

    def fits(self, answer: str) -> bool:
        """Is it an answer? One line of text that fits the pattern."""
        return fits(answer, self.form)


def fits(answer: str, form: str) -> bool:
    """Is it one line of text, not long, of which everything can be seen, and which fits a pattern whole?"""
    seen = bool(answer) and len(answer) <= MOST_ANSWER and answer.isprintable() and not unseen(answer)
    return seen and (not form or re.fullmatch(form, answer) is not None)
