"""The manners of proving beside calls with a credential: which expectations one is for, and what puts them to the test.

`prove`, `prove --before` and `enact` fold them alike; what a charter does not expect is not loaded.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from importlib import import_module
from typing import NamedTuple

from sigillum.core.charter.charter import Charter, ProofWant
from sigillum.core.deciding.proofs import Result, unjudged
from sigillum.core.records.history import History
from sigillum.keeping.files import FileKeeping
from sigillum.workflows.desk.office import Office

NOBODY = "there is no such identity yet"


class Proving(NamedTuple):
    """Whose expectations, and with what. `principal`: empty where there is no identity yet; `tokens`: from outside, at hand."""

    office: Office
    charter: Charter
    state: History
    keys: FileKeeping
    principal: str
    tokens: Sequence[str] = ()


class ProofManner(NamedTuple):
    """One manner. `module` has a function `prove`; `without_identity`: something can be said though nobody is there yet."""

    module: str
    expected: Callable[[Charter], tuple[ProofWant, ...]]
    said: str = ""
    without_identity: bool = False

    def prove(self, proving: Proving) -> list[Result]:
        """All of its expectations, each with what it rests on."""
        wanted = self.expected(proving.charter)
        if not proving.principal and not self.without_identity:
            return [unjudged(p, NOBODY) for p in wanted]
        found: list[Result] = import_module(f"sigillum.workflows.{self.module}").prove(proving)
        return found


MANNERS = (
    ProofManner("surveying.sign_in", lambda c: tuple(p for p in c.sign_ins if p.sign_in is not None and not p.sign_in.outside)),
    ProofManner("proving.by_trust", lambda c: tuple(p for p in c.sign_ins if p.sign_in is not None and p.sign_in.outside)),
    ProofManner("proving.by_delegation", lambda c: c.delegated, "and for people, with a token for each person and scope"),
    ProofManner("surveying.links", lambda c: c.runs, without_identity=True),
)


def beside(proving: Proving) -> Iterator[tuple[ProofManner, list[Result]]]:
    """What is expected beside calls, in all manners that the charter asks for."""
    for manner in MANNERS:
        if manner.expected(proving.charter):
            yield manner, manner.prove(proving)
