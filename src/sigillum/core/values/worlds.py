"""Where a statement comes from: what a tenant showed, what is predicted from it, and what the ledger says.

These are markers for the type checker, and cost nothing when the program runs. What is decided on predicted facts has another
type than what is decided on observed ones, so that nobody can tell a prediction as what is so now.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Generic, TypeVar


class Observed:
    """Seen at a tenant, at a time. No object of it is ever made."""


class Predicted:
    """What would be seen if something were done, or were otherwise. No object of it is ever made."""


W = TypeVar("W", Observed, Predicted)
T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Logged(Generic[T]):
    """What the ledger says, and nobody looked at: a view tells it as *by the ledger*."""

    value: T

    def __str__(self) -> str:
        return f"{self.value}, by the ledger"
