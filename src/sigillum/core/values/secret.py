"""A secret that shows nothing: not in `repr`, `str`, formatting, pickling or JSON."""

from __future__ import annotations

from typing import Any, NoReturn


class Secret:
    """Holds a value that only `reveal()` gives. Two are equal where their values are."""

    __slots__ = ("_value",)

    def __init__(self, value: str) -> None:
        if not isinstance(value, str) or not value:
            raise ValueError("a secret is a text that is not empty")
        self._value = value

    def reveal(self) -> str:
        """The value itself. Every use of this is a place to look at in a review."""
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
