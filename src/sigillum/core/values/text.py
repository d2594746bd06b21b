"""Names: what may be one, near misses, and making a tenant's text safe to show."""

from __future__ import annotations

import re
from collections.abc import Iterable

CHARTER_NAME = re.compile(r"[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?\Z")
ACCOUNT_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._@+-]{0,126}\Z")
PLACE_PATH = re.compile(r"[A-Za-z0-9][\w.-]*(?:/[A-Za-z0-9][\w.-]*)*\Z")
PERMISSION = re.compile(r"[a-z][a-z0-9-]*\.[a-z][a-z0-9-]*\Z")
_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f\u200b-\u200f\u2028-\u202e\u2066-\u2069\ufeff]")
SHOWN_CHARACTERS = 500
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


def plain(text: object) -> str:
    """A tenant's text without control characters and bounded, so that it can meet a terminal."""
    cleaned = _CONTROL.sub(" ", str(text))
    return cleaned if len(cleaned) <= SHOWN_CHARACTERS else cleaned[:SHOWN_CHARACTERS] + " ..."


def thing_of(permission: str) -> str:
    """The `thing` of `thing.verb`."""
    return permission.partition(".")[0]


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
