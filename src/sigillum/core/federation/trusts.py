"""A trust: whose tokens may act as a principal, and under which conditions. What is too wide about one is told."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

from .conditions import ENDS, EQUALS, HAS, ONE_OF, STARTS, Condition, Ref, Tested, at, judge, same, scalar
from .subjects import doubts

DISCOVERY = "discovery"  # an issuer's keys are found by its own configuration
SUBJECT: Ref = ("sub",)
DEFAULT = "default"  # so local accounts are called that nobody chose


class Issuer(NamedTuple):
    """What is known of who issues tokens. `owner`: the claims that tell its customers apart, where it has many;
    `free`: claims that the workload's own user sets; `lasting`: the claim that no later namesake gets.
    """

    address: str
    owner: tuple[Ref, ...] = ()
    free: tuple[Ref, ...] = ()
    lasting: Ref = ()


class Trust(NamedTuple):
    """One trust. `acts_as`: the claim that has to be the name of the account that is acted as; none: whoever matches may."""

    name: str
    issuer: str
    audience: str
    keys: str = DISCOVERY
    subject: str = ""
    when: tuple[Condition, ...] = ()
    acts_as: Ref = ()

    @property
    def tests(self) -> tuple[Condition, ...]:
        """All that has to hold, the subject first."""
        return (*((Condition(SUBJECT, EQUALS, self.subject),) if self.subject else ()), *self.when)


class Match(NamedTuple):
    """Whether claims match a trust, condition by condition."""

    holds: bool
    verdicts: tuple[Tested, ...]

    @property
    def nearest(self) -> Tested | None:
        """Of what does not hold, the one that comes nearest."""
        missed = [v for v in self.verdicts if not v.holds]
        return max(missed, key=lambda v: v.agrees, default=None)


def match(trust: Trust, claims: Mapping[str, Any], account: str = "") -> Match:
    """Do claims match, whose token was shown to be genuine, of this issuer, for this audience, and in time?

    Who issued it and for whom is looked at again: a match never rests on what somebody else has checked.
    """
    verdicts = [
        judge(Condition(("iss",), EQUALS, trust.issuer), claims),
        _audience(trust, claims),
        *(judge(t, claims) for t in trust.tests),
    ]
    if trust.acts_as:
        verdicts.append(judge(Condition(trust.acts_as, EQUALS, account), claims))
    return Match(all(v.holds for v in verdicts), tuple(verdicts))


def supposed(trust: Trust, subject: str, account: str) -> dict[str, Any]:
    """Claims of an outside subject for which all else is as the trust demands: only the subject itself decides then."""
    claims: dict[str, Any] = {}
    wanted = [(t.claim, _holding(t)) for t in trust.when] + ([(trust.acts_as, account)] if trust.acts_as else [])
    for claim, value in wanted:
        here = claims
        for name in claim[:-1]:
            here = here.setdefault(name, {})
        here[claim[-1]] = value
    return {**claims, "iss": trust.issuer, "aud": trust.audience, "sub": subject}


def _holding(test: Condition) -> Any:
    """A value that holds a condition."""
    if test.op == ONE_OF:
        return test.value[0]
    return [test.value] if test.op == HAS else f"{test.value}x" if test.op == STARTS else test.value


def _audience(trust: Trust, claims: Mapping[str, Any]) -> Tested:
    """A text, or a list of one (RFC 7519 §4.1.3): for one of several audiences nobody here answers."""
    value = at(claims, ("aud",))
    test = Condition(("aud",), EQUALS, trust.audience)
    if isinstance(value, list) and len(value) == 1 and same(value[0], trust.audience):
        return Tested(test, True)
    if isinstance(value, list) and len(value) != 1:
        return Tested(test, False, f"it is for {len(value)} audiences")
    return judge(test, claims)


# --- what a trust says of itself ----------------------------------------------------------------------------------------
class Doubt(NamedTuple):
    """Something about a trust: a stable code, what, and what mends it. `wrong`: it is a mistake, not just worth knowing."""

    code: str
    what: str
    mend: str
    wrong: bool = False
    test: int = -1  # which of `when`


def about(trust: Trust, issuer: Issuer | None = None) -> Iterator[Doubt]:
    """What is wrong or too wide about it."""
    for number, test in enumerate(trust.when):
        yield from _test(test, number)
    for text in (trust.subject, trust.audience):
        for doubt in doubts(text):
            yield Doubt("look-alike", f"{text!r}: {doubt.what}", doubt.mend, True)
    yield from _wide(trust)
    if not trust.tests:
        yield Doubt("all-of-issuer", f"every token of {trust.issuer} matches", "name a `subject`, or conditions under `when`")
    if not trust.acts_as and trust.tests and not any(t.claim == SUBJECT for t in trust.tests):
        yield Doubt(
            "no-subject", "whoever matches may act as it, whatever its subject is", "name the `subject`, where there is one"
        )
    if issuer is not None:
        yield from _issuer(trust, issuer)


def _wide(trust: Trust) -> Iterator[Doubt]:
    """Of a subject: one that is whatever lies below a beginning, and the one of whatever names none of its own."""
    for test in trust.tests:
        if test.claim == SUBJECT and test.op == STARTS:
            yield Doubt(
                "subject-wide",
                f"every subject below {test.value!r} matches: all of a compartment, and what is made in it later",
                "name the whole `subject`",
            )
    if re.split(r"[:/]", trust.subject)[-1] == DEFAULT:
        yield Doubt(
            "default-account",
            f"{trust.subject} is the subject of whatever names no account of its own",
            "trust one that was made for it",
        )


def _test(test: Condition, number: int) -> Iterator[Doubt]:
    name = " > ".join(test.claim)
    values = test.value if test.op == ONE_OF else (test.value,)
    for value in values:
        if not scalar(value):
            yield Doubt(
                "number-big",
                f"{name}: {value} is not the same number everywhere, so nothing matches it",
                "write a number below 2^53, or demand another claim",
                True,
                number,
            )
        for doubt in doubts(value) if isinstance(value, str) else ():
            yield Doubt("look-alike", f"{name}: {doubt.what}", doubt.mend, True, number)
    if test.op == STARTS and not test.value.endswith(ENDS):
        if not test.inside_name:
            yield Doubt(
                "inside-name",
                f"{name}: {test.value!r} ends inside a name, so {test.value}x matches, too",
                "end it with / or :, or say `inside_name: WHY`",
                True,
                number,
            )
        else:
            yield Doubt(
                "prefix-wide",
                f"{name}: whatever begins with {test.value!r} matches ({test.inside_name})",
                "end it with / or :",
                False,
                number,
            )


def _issuer(trust: Trust, issuer: Issuer) -> Iterator[Doubt]:
    conditioned = {t.claim for t in trust.tests}
    if issuer.owner and not conditioned & set(issuer.owner):
        names = ", ".join(" > ".join(r) for r in issuer.owner)
        yield Doubt(
            "shared-issuer",
            f"{trust.issuer} issues tokens for all its customers, and none is demanded ({names})",
            f"add a condition of {names}",
            True,
        )
    for claim in sorted(conditioned & set(issuer.free)):
        yield Doubt("free-claim", f"{' > '.join(claim)} is set by whoever uses the workload", "demand another claim beside it")
    if issuer.lasting and issuer.lasting not in conditioned:
        name = " > ".join(issuer.lasting)
        yield Doubt(
            "recycled",
            f"who is deleted and made anew under the same name matches, too: {name} is not demanded",
            f"add a condition of {name}",
        )
