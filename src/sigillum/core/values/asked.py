"""Values that only somebody else can give: what is asked, and what counts as an answer."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any, NamedTuple

from sigillum.core.values.errors import Position
from sigillum.core.values.text import unseen

MOST_ANSWER = 500  # characters
MOST_VARYING = 3  # parts of a pattern


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


def fault_of(form: str) -> str:
    """Why a pattern is not one that is matched here, in a few words; empty where it is.

    It may come from somebody else, so it has to end in bounded time: nothing repeats that could be split in several ways, and
    few parts vary in length.
    """
    parser = getattr(re, "_parser")  # noqa: B009 - what `re` itself reads patterns with
    try:
        re.compile(form)
        varying = _varying(parser.parse(form), inside=False)
    except (re.error, OverflowError, RecursionError):
        return "it is not a pattern"
    if varying is None:
        return "it repeats what repeats, and could take for ever"
    return "" if varying <= MOST_VARYING else "too many of its parts vary in length"


def _varying(parsed: Any, *, inside: bool) -> int | None:
    """How many parts vary in length; None: one does `inside` what repeats, or could be read in several ways there."""
    count = 0
    for operation, value in parsed:
        name = str(operation)
        repeats = name in ("MAX_REPEAT", "MIN_REPEAT", "POSSESSIVE_REPEAT")
        varies = repeats and value[0] != value[1]
        if name.startswith(("GROUPREF", "ASSERT")) or (inside and (varies or name == "BRANCH")):
            return None
        for part in (p for p in _parts(value) if type(p).__name__ == "SubPattern"):
            found = _varying(part, inside=inside or (repeats and value[1] > 1))
            if found is None:
                return None
            count += found
        count += varies
    return count


def _parts(value: Any) -> Iterator[Any]:
    """What an operation is about, through lists and tuples."""
    if isinstance(value, (list, tuple)):
        for one in value:
            yield from _parts(one)
    else:
        yield value


def fits(answer: str, form: str) -> bool:
    """Is it one line of text, not long, of which everything can be seen, and which fits a pattern whole?"""
    seen = bool(answer) and len(answer) <= MOST_ANSWER and answer.isprintable() and not unseen(answer)
    return seen and (not form or (not fault_of(form) and re.fullmatch(form, answer) is not None))
