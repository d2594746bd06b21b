"""A secret that shows nothing: not in `repr`, `str`, formatting, pickling or JSON; and one that somebody says back to us."""

from __future__ import annotations

import json
import re
from itertools import pairwise
from typing import Any, NoReturn

MASK = "(secret)"
LAST_USED, SHORT = 64, 8  # secrets that are looked for in what comes in; one of fewer characters could be any word
_used: dict[str, tuple[bytes, ...]] = {}  # the newest last: as UTF-8, and as JSON has it where that differs


class Secret:
    """Holds a value that only `reveal()` gives. Two are equal where their values are."""

    __slots__ = ("_value",)

    def __init__(self, value: str) -> None:
        if not isinstance(value, str) or not value:
            raise ValueError("a secret is a text that is not empty")
        self._value = value

    def reveal(self) -> str:
        """The value itself. Every use of this is a place to look at in a review."""
        known = _used.pop(self._value, None)
        if known is not None or len(self._value) >= SHORT:
            _used[self._value] = known or tuple({self._value.encode(), json.dumps(self._value)[1:-1].encode()})
            if len(_used) > LAST_USED:
                _used.pop(next(iter(tuple(_used))), None)
        return self._value

    def __repr__(self) -> str:
        return "Secret(...)"

    __str__ = __repr__

    def __format__(self, spec: str) -> str:
        return format(repr(self), spec)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Secret) and other._value == self._value

    def __hash__(self) -> int:
        return hash((Secret, self._value))

    def __reduce__(self) -> NoReturn:
        raise TypeError("a secret is not serialised")

    def __getstate__(self) -> Any:
        raise TypeError("a secret is not serialised")


def masked(text: str) -> str:
    """A text of somebody else's without the secrets that were used here last."""
    for secret in tuple(_used):
        if secret in text:
            text = text.replace(secret, MASK)
    return text


def masked_bytes(data: bytes) -> bytes:
    """The same of an answer, whether it is JSON or not."""
    for forms in tuple(_used.values()):
        for form in forms:
            if form in data:
                data = data.replace(form, MASK.encode())
    return data


LONG, MIXED = 20, 5  # characters, and changes between small letters, capitals and digits
_UUID = re.compile(r"[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}\Z", re.I)
_SHORT_HEX = re.compile(r"[0-9a-f]{1,32}\Z", re.I)


def could_be_secret(text: str) -> bool:
    """Is it long and mixed as made-up secrets are, and as names, paths and short identifiers are not?

    Identifiers of that look (thumbprints, say) are taken for one, too: the mistake costs a question, the other one a secret.
    """
    if len(text) < LONG or any(c in "@/. " for c in text) or _UUID.match(text) or _SHORT_HEX.match(text):
        return False
    kinds = ["digit" if c.isdigit() else "capital" if c.isupper() else "small" for c in text if c.isalnum()]
    return sum(1 for one, other in pairwise(kinds) if one != other) >= MIXED
