"""The conditions of a trust: one small form without code, in which nothing is folded, trimmed, converted or guessed."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

Ref = tuple[str, ...]  # a claim by its name, or the path to one inside objects; dots belong to names
EQUALS, ONE_OF, HAS, STARTS, PRESENT = "equals", "one_of", "has", "starts", "present"
OPS = (EQUALS, ONE_OF, HAS, STARTS, PRESENT)
MOST_WHOLE = 2**53  # whole numbers from here on are not the same everywhere (RFC 8259 §6)
ENDS = ("/", ":")  # what a beginning ends with, so that it does not end inside a name


class Condition(NamedTuple):
    """One test of one claim. `value`: a scalar; of `one_of` several; of `present` True.

    `inside_name`: why a beginning may end inside a name.
    """

    claim: Ref
    op: str
    value: Any
    inside_name: str = ""

    def words(self) -> str:
        """It as the charter has it, for reading."""
        name = " > ".join(self.claim)
        if self.op == PRESENT:
            return f"{name} is there"
        if self.op == ONE_OF:
            return f"{name} is one of {', '.join(map(shown, self.value))}"
        return f"{name} {({EQUALS: 'is', HAS: 'has', STARTS: 'starts with'})[self.op]} {shown(self.value)}"


class Tested(NamedTuple):
    """What came of one test: whether it holds, and if not, why, and how far what stands there agrees with what is wanted."""

    test: Condition
    holds: bool
    why: str = ""
    found: str = ""  # the text that stands there
    wanted: str = ""  # the nearest text that would do
    agrees: int = 0  # so many characters of both are the same


def at(claims: Mapping[str, Any], ref: Ref) -> Any:
    """What stands at a path of claims; None where nothing does. Only objects are descended into."""
    here: Any = claims
    for name in ref:
        if not isinstance(here, Mapping) or name not in here:
            return None
        here = here[name]
    return here


def scalar(value: Any) -> bool:
    """Is it a text, a whole number that is the same everywhere, or a flag?"""
    if isinstance(value, (str, bool)):
        return True
    return isinstance(value, int) and -MOST_WHOLE < value < MOST_WHOLE


def same(one: Any, other: Any) -> bool:
    """Texts by code point (RFC 7519 §2); values of different types are different: 1, "1", true and 1.0 are four."""
    return scalar(one) and type(one) is type(other) and bool(one == other)


def judge(test: Condition, claims: Mapping[str, Any]) -> Tested:
    """Does a claim hold what the test wants?"""
    value = at(claims, test.claim)
    if value is None:
        return Tested(test, False, "it is not there")
    if isinstance(value, Mapping):
        return Tested(test, False, "it is an object, which matches nothing")
    if test.op == HAS:
        if not isinstance(value, list):
            return Tested(test, False, "it is no list", *_near(value, [test.value]))
        return (
            Tested(test, True)
            if any(same(v, test.value) for v in value)
            else Tested(test, False, "it is not among them", *_nearest(value, [test.value]))
        )
    if test.op == PRESENT:
        return Tested(test, True)
    if isinstance(value, list):
        return Tested(test, False, "it is a list, and only `has` looks into lists", *_nearest(value, _texts(test)))
    if test.op == STARTS:
        return _starts(test, value)
    if any(same(value, wanted) for wanted in (test.value if test.op == ONE_OF else (test.value,))):
        return Tested(test, True)
    return Tested(test, False, _unlike(value, test), *_near(value, _texts(test)))


def _starts(test: Condition, value: Any) -> Tested:
    """The beginning, and something after it."""
    if not isinstance(value, str):
        return Tested(test, False, f"it is {kind_of(value)}, not a text")
    if value.startswith(test.value):
        return (
            Tested(test, True)
            if value != test.value
            else Tested(test, False, "nothing follows after that", value, test.value, len(value))
        )
    return Tested(test, False, "it starts otherwise", *_near(value, [test.value]))


def _unlike(value: Any, test: Condition) -> str:
    wanted = test.value if test.op == ONE_OF else (test.value,)
    if not scalar(value):
        return f"it is {kind_of(value)}, which matches nothing"
    if not any(type(w) is type(value) for w in wanted):
        return f"it is {kind_of(value)}, not {kind_of(wanted[0])}"
    return "it is another one"


def _texts(test: Condition) -> list[Any]:
    return list(test.value) if test.op == ONE_OF else [test.value]


def _near(value: Any, wanted: list[Any]) -> tuple[str, str, int]:
    """The wanted text that agrees furthest with what stands there."""
    texts = [w for w in wanted if isinstance(w, str)]
    if not isinstance(value, str) or not texts:
        return shown(value) if scalar(value) else "", "", 0
    best = max(texts, key=lambda w: agreeing(value, w))
    return value, best, agreeing(value, best)


def _nearest(values: list[Any], wanted: list[Any]) -> tuple[str, str, int]:
    return max((_near(v, wanted) for v in values), key=lambda n: n[2], default=("", "", 0))


def agreeing(one: str, other: str) -> int:
    """How many characters at the beginning are the same."""
    return next((n for n, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), min(len(one), len(other)))


def kind_of(value: Any) -> str:
    """What sort of value it is, in words."""
    if isinstance(value, bool):
        return "a flag"
    if isinstance(value, int):
        return "a whole number" if scalar(value) else "a number that is not the same everywhere"
    if isinstance(value, float):
        return "a number with a fraction"
    return (
        "a text"
        if isinstance(value, str)
        else "a list"
        if isinstance(value, list)
        else ("an object" if isinstance(value, Mapping) else "nothing")
    )


def shown(value: Any) -> str:
    """A scalar as JSON has it."""
    return f'"{value}"' if isinstance(value, str) else str(value).lower() if isinstance(value, bool) else str(value)
