"""A refusal is worth something only if the right was what was missing: each cause alone, and two at once."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from datetime import timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from access.worlds import BASE, questions, seconds, tenants
from conftest import examples
from core.fake import NOW, otherwise
from core.test_deciding import world_of
from sigillum.core.charter.charter import ProofWant
from sigillum.core.deciding.proofs import Manner, Result, Trial, control_for, judge
from sigillum.core.deciding.refusals import ABOUT, Cause
from sigillum.core.deciding.shown import EARLY, SILENT, neutral, shown, worth
from sigillum.core.deciding.values import (
    Asks,
    Consent,
    Held,
    Hidden,
    KnownPlace,
    KnownPrincipal,
    Membership,
    Question,
    Right,
    Team,
)
from sigillum.core.deciding.world import World
from sigillum.core.kinds.profile import Operation
from sigillum.core.values.worlds import Observed

LATER, AGO = NOW + timedelta(hours=1), NOW - timedelta(seconds=10)
ASKED = Question("w", "a.b", "top/x", NOW, "k")


def good() -> World[Observed]:
    """Everything in order, and the right is there."""
    return World(
        principals={
            "w": KnownPrincipal("w", "wind", location="north"),
            "c": KnownPrincipal("c", "app", "client"),
            "p": KnownPrincipal("p", "kai", "person"),
        },
        teams={"t": Team("t", "crew", ("top",))},
        memberships=[Membership("w", "t")],
        licensed={"w": frozenset({"seat"})},
        places={
            "top": KnownPlace("top", "root", (("store", None),), "north"),
            "top/x": KnownPlace("top/x", "room", labels=(("stage", "dev"),)),
        },
        roles={"r": frozenset({"a.b"})},
        rights=[Right("g", "w", "r", "top")],
        credentials={"k": Held("k", "w", "k")},
        felt=timedelta(seconds=60),
        operations={
            "a.b": Operation("a.b", "looks", "GET", "", "store", True, licence="seat"),
            "m.s": Operation("m.s", "looks", "GET", "", api="mail"),
        },
        asks={"c": Asks("c", frozenset({("mail", "m.s", "alone")}))},
        consents={"c": [Consent("n", "c", "m.s", "alone")]},
    )


def right(**more: object) -> Callable[[World[Observed]], World[Observed]]:
    return lambda w: otherwise(w, rights=[r._replace(**more) for r in w.rights])  # type: ignore[arg-type]


def who(**more: object) -> Callable[[World[Observed]], World[Observed]]:
    return lambda w: otherwise(w, principals={**w.principals, "w": w.principals["w"]._replace(**more)})  # type: ignore[arg-type]


def key(**more: object) -> Callable[[World[Observed]], World[Observed]]:
    return lambda w: otherwise(w, credentials={"k": w.credentials["k"]._replace(**more)})  # type: ignore[arg-type]


def place(path: str, **more: object) -> Callable[[World[Observed]], World[Observed]]:
    return lambda w: otherwise(w, places={**w.places, path: w.places[path]._replace(**more)})  # type: ignore[arg-type]


def unlicensed(world: World[Observed]) -> World[Observed]:
    return otherwise(world, licensed={})


def unfit(world: World[Observed]) -> World[Observed]:
    return otherwise(
        world,
        credentials={i: c._replace(kind="password") for i, c in world.credentials.items()},
        operations={**world.operations, "a.b": world.operations["a.b"]._replace(takes=("trust",))},
    )


OTHERWISE = {  # the right is there, and something else refuses
    Cause.SUSPENDED: who(active=False, held="a leak"),
    Cause.PRINCIPAL_OFF: who(active=False),
    Cause.PRINCIPAL_UNFINISHED: who(ready=False),
    Cause.PLACE_NOT_FELT: place("top/x", made=AGO),
    Cause.SERVICE_OFF: place("top", services=()),
    Cause.SERVICE_NOT_FELT: place("top", services=(("store", AGO),)),
    Cause.LOCATION_DIFFERS: who(location="south"),
    Cause.CREDENTIAL_INACTIVE: key(active=False),
    Cause.CREDENTIAL_WAITING: key(start=LATER),
    Cause.CREDENTIAL_ENDED: key(until=AGO),
    Cause.NOT_FELT: right(made=AGO),
    Cause.GRANT_UNFINISHED: right(ready=False),
    Cause.WINDOW_WAITING: right(start=LATER),
    Cause.LICENCE_MISSING: unlicensed,
    Cause.SIGN_IN_KIND: unfit,
}
MISSING = {  # the right is not there, or does not reach so far
    Cause.NOTHING_GRANTED: lambda w: otherwise(w, rights=[]),
    Cause.PLACE_ELSEWHERE: right(place="other"),
    Cause.WINDOW_ENDED: right(until=AGO),
    Cause.LABEL_DIFFERS: right(labels=(("stage", frozenset({"prod"})),)),
    Cause.ROLE_LACKS: lambda w: otherwise(w, roles={"r": frozenset({"c.d"})}),
    Cause.REACH_ELSEWHERE: lambda w: otherwise(
        w, rights=[Right("g", "t", "r", "top")], teams={"t": Team("t", "crew", ("elsewhere",))}
    ),
    Cause.LIMITS_NARROWER: key(limits=frozenset({"c.d"})),
}


@pytest.mark.parametrize("cause", OTHERWISE)
def test_a_refusal_for_another_cause_shows_nothing(cause: Cause) -> None:
    assert good().decide(ASKED).allowed is True
    world = OTHERWISE[cause](good())
    assert world.decide(ASKED).cause is cause
    found = shown(world, ASKED)
    assert (found.yes, found.cause, found.early) == (False, cause, cause in EARLY)
    assert "right is missing" not in worth(cause)
    assert (
        (cause is Cause.WINDOW_WAITING)
        == (found.begins is not None)
        == ("does not hold from 2027-03-01T13:00:00Z on" in found.text)
    )


@pytest.mark.parametrize("cause", MISSING)
def test_a_refusal_for_want_of_the_right_is_shown_whatever_else_is_wrong(cause: Cause) -> None:
    world = MISSING[cause](good())
    assert world.decide(ASKED).cause is cause
    found = shown(world, ASKED)
    assert worth(cause).startswith("that the right is missing")
    assert (found.yes, found.cause, "this key only" in found.text) == (True, cause, cause is Cause.LIMITS_NARROWER)
    for other in OTHERWISE.values():
        both = shown(other(world), ASKED)
        assert (both.yes, both.cause) == (True, cause)


def test_two_other_causes_at_once_show_nothing_either() -> None:
    for one, other in itertools.permutations(OTHERWISE.values(), 2):
        assert shown(other(one(good())), ASKED).yes is False


@pytest.mark.parametrize(
    ("question", "cause"),
    [
        (ASKED._replace(principal="nobody"), Cause.PRINCIPAL_UNKNOWN),
        (ASKED._replace(place="top/y"), Cause.PLACE_UNKNOWN),
        (ASKED._replace(credential="z"), Cause.CREDENTIAL_UNKNOWN),
        (ASKED._replace(permission="a.c"), Cause.PERMISSION_UNKNOWN),
        (ASKED._replace(person="p", credential=""), Cause.NO_DELEGATE),
    ],
)
def test_what_is_not_known_shows_nothing(question: Question, cause: Cause) -> None:
    assert cause in SILENT
    assert shown(otherwise(good(), rights=[]), question)[:2] == (False, cause)


def test_clients_need_the_consent_and_not_the_request() -> None:
    asked = Question("c", "m.s", "top/x", NOW)
    silent = otherwise(good(), asks={"c": Asks("c", frozenset())})
    assert (silent.decide(asked).cause, shown(silent, asked).yes) == (Cause.NOT_REQUESTED, False)
    without = otherwise(good(), consents={})
    assert shown(without, asked)[:2] == (True, Cause.NOT_CONSENTED)
    narrow = otherwise(good(), consents={"c": [Consent("n", "c", "m.s", "alone", ("elsewhere",))]})
    assert shown(narrow, asked)[:2] == (True, Cause.CONSENT_NARROWER)


def test_hidden_facts_and_facts_that_disagree_are_said() -> None:
    hidden = otherwise(good(), rights=[], hidden={Hidden("rights", "w"): "not for you"})
    assert (shown(hidden, ASKED).yes, "cannot be told" in shown(hidden, ASKED).text) == (None, True)
    assert (shown(good(), ASKED).yes, "disagree" in shown(good(), ASKED).text) == (False, True)


@settings(max_examples=examples(60), deadline=None)
@given(tenants(), st.lists(st.tuples(questions, seconds), min_size=6, max_size=6))
def test_what_is_shown_is_refused_in_every_better_world(
    described: dict[str, object], asked: list[tuple[tuple[str, str, str, bool], int]]
) -> None:
    world = world_of(described)
    for (principal, permission, at, with_credential), second in asked:
        question = Question(principal, permission, at, BASE + timedelta(seconds=second), "key" if with_credential else "")
        found, allowed = shown(world, question), world.allowed(*question)
        assert not (found.yes and allowed)
        if found.yes:
            assert neutral(world).allowed(*question) is False
            assert found.cause not in SILENT
        elif not allowed and found.cause not in SILENT:
            assert neutral(world).allowed(*question) is True
        assert found.cause is Cause.ALLOWED or found.cause in ABOUT


def result(
    permission: str, at: str, *, allowed: bool = True, held: bool | None = True, manner: Manner = Manner.TRIED, person: str = ""
) -> Result:
    proof = ProofWant(allowed, permission, at, person=person)
    return judge(proof, manner, Trial(held if held is None else held is allowed))


def test_a_control_is_what_held_at_the_same_place_by_the_same_service_in_the_same_way() -> None:
    operations = {
        "a.b": Operation("a.b", "looks", "GET", "", "store"),
        "a.c": Operation("a.c", "looks", "GET", "", "store"),
        "x.y": Operation("x.y", "looks", "GET", "", "other"),
        "m.s": Operation("m.s", "looks", "GET", "", api="mail"),
        "m.r": Operation("m.r", "looks", "GET", "", api="mail"),
    }
    refused, good = result("a.b", "top", allowed=False), result("a.c", "top")
    assert control_for(refused, [refused, good], operations) is good
    for wrong in (
        result("x.y", "top"),
        result("a.c", "other"),
        result("a.c", "top", held=None),
        result("a.c", "top", held=False),
        result("a.c", "top", manner=Manner.ASKED),
        result("a.c", "top", person="kai"),
        result("a.c", "top", allowed=False),
    ):
        assert control_for(refused, [wrong], operations) is None
    asked = refused._replace(manner=Manner.ASKED)
    assert control_for(asked, [good._replace(manner=Manner.ASKED)], operations) is not None
    assert control_for(result("m.s", "top", allowed=False), [result("m.r", "top")], operations) is not None
    assert control_for(result("m.s", "top", allowed=False), [good], operations) is None


def test_a_refusal_at_sign_in_is_not_judged_as_one_of_rights() -> None:
    no = Trial(False, "refused (status 401)", unauthenticated=True)
    assert [judge(ProofWant(allowed, "a.b", "top"), Manner.TRIED, no).held for allowed in (True, False)] == [False, None]
    assert judge(ProofWant(False, "a.b", "top"), Manner.TRIED, Trial(False, "refused (status 403)")).held is True
