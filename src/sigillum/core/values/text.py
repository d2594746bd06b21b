"""Names: what may be one, near misses, and making a tenant's text safe to show."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import Any

from .secret import masked

CHARTER_NAME = re.compile(r"[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?\Z")
ACCOUNT_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._@+-]{0,126}\Z")
_SEGMENT = r"""(?:[A-Za-z0-9_][\w.-]*|"[^"/\x00-\x1f]+")"""  # a name of a database server may stand in double quotes
PLACE_PATH = re.compile(rf"{_SEGMENT}(?:/{_SEGMENT})*\Z")
PERMISSION = re.compile(r"[a-z][a-z0-9-]*\.[a-z][a-z0-9-]*\Z")
# Beside what is not printable (control, format, surrogate, private, unassigned): what is, and shows nothing.
_BLANK = re.compile("[\u034f\u115f\u1160\u17b4\u17b5\u180b-\u180f\u2800\u3164\ufe00-\ufe0f\uffa0\U000e0100-\U000e01ef]")
SHOWN_CHARACTERS, SOME = 500, 10
CLASSES = ("looks", "changes-data", "manages", "administers")  # of permissions, from the least to the most
BECAUSE_CLASSES = frozenset(CLASSES[1:])


def near(word: str, known: Iterable[str]) -> str | None:
    """The known word that `word` was probably meant to be."""
    import difflib  # only mistakes need it

    found = difflib.get_close_matches(word.lower(), list(known), n=1, cutoff=0.6)
    return found[0] if found else None


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """`did you mean X?`, or the known words, or nothing."""
    words = sorted(set(known))
    close = near(word, words)
    if close:
        return f"did you mean {close}?"
    return f"known here: {', '.join(words[:8])}{' ...' if len(words) > 8 else ''}" if words else ""


def some(names: Sequence[str], what: str) -> str:
    """Names with their number first: a few of them, where they are many."""
    count = f"{len(names)} {what}{'' if len(names) == 1 else 's'}"
    return f"{count} ({', '.join(names)})" if len(names) <= SOME else f"{count}, first ten: {', '.join(sorted(names)[:SOME])}"


def visible(text: str) -> str:
    """A text as it is written for people: a space for whatever cannot be seen; line ends stay.

    It is for showing alone. Two texts can look the same and be two ids (RFC 7643 §3.1: an id is opaque), so what was shown is
    never compared, kept or sent.
    """
    if text.isprintable() and not _BLANK.search(text):
        return text
    return "".join(c if c == "\n" or (c.isprintable() and not _BLANK.match(c)) else " " for c in text)


def whole(text: object) -> str:
    """A text of somebody else's in one line and uncut, where somebody agrees to what it says; for showing alone. A secret of
    ours that is said back in it is not shown.
    """
    return visible(masked(str(text))).replace("\n", " ")


def plain(text: object) -> str:
    """A text of somebody else's in one line and bounded, for a message or a table; like `visible` for showing alone."""
    cleaned = whole(text)
    return cleaned if len(cleaned) <= SHOWN_CHARACTERS else cleaned[:SHOWN_CHARACTERS] + " ..."


def unseen(value: Any) -> str:
    """The first text in a value from JSON that holds something which cannot be seen (line ends and tabs can); or nothing."""
    if isinstance(value, str):
        shown = value.replace("\n", "").replace("\t", "")
        return value if not shown.isprintable() or _BLANK.search(shown) else ""
    inner = (*value.keys(), *value.values()) if isinstance(value, dict) else value if isinstance(value, list) else ()
    return next((found for one in inner if (found := unseen(one))), "")


def is_within(path: str, place: str) -> bool:
    """Is `path` the place or below it?"""
    return path == place or path.startswith(place + "/")


def lines(places: Iterable[str]) -> list[str]:
    """Each place and all above it, once; principals as places are left out."""
    found: dict[str, None] = {}
    for path in places:
        parts = path.split("/")
        if not path.startswith("@"):
            found |= dict.fromkeys("/".join(parts[:n]) for n in range(len(parts), 0, -1))
    return list(found)
