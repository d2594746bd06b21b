"""Marks: how one thing that a charter asks for is named, and how a step and what it will yield are named by it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple


class Mark(NamedTuple):
    """One thing that a charter asks for in one tenant: which facet asks, and the natural key, as pairs of name and value.

    It is never one text that has to be taken apart; a name may stand in it more than once.
    """

    facet: str
    tenant: str
    key: tuple[tuple[str, str], ...] = ()

    def get(self, name: str) -> str:
        """The first value of that name; empty where there is none."""
        return next((v for n, v in self.key if n == name), "")

    def all(self, name: str) -> tuple[str, ...]:
        return tuple(v for n, v in self.key if n == name)

    def body(self) -> dict[str, Any]:
        """As it stands in the ledger."""
        return {"facet": self.facet, "tenant": self.tenant, "key": [list(pair) for pair in self.key]}

    def __str__(self) -> str:
        return " ".join([self.facet, *(v for _, v in self.key)])


def mark_of(body: Mapping[str, Any]) -> Mark:
    """A mark from an entry of the ledger."""
    return Mark(str(body["facet"]), str(body["tenant"]), pairs((n, v) for n, v in body["key"]))


def pairs(key: Iterable[tuple[Any, Any]]) -> tuple[tuple[str, str], ...]:
    return tuple((str(n), str(v)) for n, v in key)


class StepId(NamedTuple):
    """A step: what it is about, which generation of it, and what is done."""

    mark: Mark
    generation: int
    verb: str

    def __str__(self) -> str:
        number = f" #{self.generation}" if self.generation > 1 else ""
        return f"{self.verb}-{self.mark}{number} in {self.mark.tenant}"


class Ref(NamedTuple):
    """A value that an earlier step will yield."""

    step: StepId
    field: str


Id = str | Ref
