"""Advice: every answer has its reason, contradictions are shown and never decided silently, drafts are charters."""

from __future__ import annotations

import itertools
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sigillum.core.charter.advice import CREDENTIALS, Wish, advise

wishes = st.builds(
    Wish,
    st.just("feed"),
    st.sampled_from(["", "summit"]),
    st.sampled_from(["tokens", "form", "web"]),
    st.booleans(),
    st.sampled_from(["own", "people"]),
    st.booleans(),
    st.sets(st.sampled_from(CREDENTIALS), max_size=4).map(lambda s: tuple(sorted(s))),
    st.sampled_from(["own", "cloud", "supplier"]),
    st.lists(st.sampled_from(["mail.send", "reader"]), max_size=2, unique=True).map(tuple),
    st.sampled_from([("main",), ("load", "show")]),
    st.sampled_from([("prod",), ("test", "prod")]),
    st.booleans(),
)


@given(wishes)
def test_every_wish_is_answered_with_reasons(wish: Wish) -> None:
    found = advise(wish)
    assert all(r.why for r in (found.kind, found.credential, found.number))
    assert found.kind.answer == "client" or wish.in_the_name_of == "own"  # nobody else acts for people
    assert len(found.names) == int(found.number.answer) == (1 if wish.shared else len(wish.uses) * len(wish.stages))
    assert len(set(found.names)) == len(found.names)
    assert [loss.credential for loss in found.losses if loss.chosen] == [found.credential.answer]
    assert {loss.credential for loss in found.losses} >= set(wish.accepts)
    trusted = found.credential.answer == "trust"
    assert trusted == (
        wish.runs == "cloud"
        and found.kind.answer == "service-account"
        and wish.signs_in == "tokens"
        and not wish.mailbox
        and wish.accepts == CREDENTIALS
    )
    assert all(len(c.ways) > 1 and all(k for _, k in c.ways) for c in found.choices)
    told = " ".join(c.about for c in found.choices)
    assert ("the services take" in told) == (found.credential.answer not in wish.accepts and not trusted)
    assert ("nobody is there" in told) == (wish.in_the_name_of == "people" and wish.unattended)
    assert f"kind: {found.kind.answer}" in found.draft
    assert ("trusts:" if trusted else f"kind: {found.credential.answer}") in found.draft


@pytest.mark.parametrize(
    ("wish", "kind", "credential", "choices"),
    [
        ({}, "service-account", "key-pair", 0),
        ({"accepts": ("api-token",)}, "service-account", "api-token", 0),
        ({"runs": "cloud"}, "service-account", "trust", 0),
        ({"runs": "cloud", "accepts": ("key-pair", "trust")}, "service-account", "trust", 0),
        ({"runs": "cloud", "accepts": ("api-token",)}, "service-account", "api-token", 0),
        ({"runs": "cloud", "accepts": ("password",)}, "service-account", "key-pair", 1),
        ({"signs_in": "form"}, "client", "shared-secret", 0),
        ({"signs_in": "form", "runs": "supplier"}, "client", "shared-secret", 1),
        ({"signs_in": "form", "in_the_name_of": "people", "unattended": False}, "client", "shared-secret", 0),
        ({"signs_in": "web"}, "service-account", "password", 1),
        ({"signs_in": "web", "unattended": False}, "service-account", "password", 0),
        ({"mailbox": True, "accepts": ("password",)}, "service-account", "password", 1),
        ({"in_the_name_of": "people", "mailbox": True}, "client", "key-pair", 2),
        ({"accepts": ("password",)}, "service-account", "key-pair", 1),
        ({"shared": True, "stages": ("test", "prod")}, "service-account", "key-pair", 1),
    ],
)
def test_what_is_advised(wish: dict[str, Any], kind: str, credential: str, choices: int) -> None:
    found = advise(Wish("feed", **wish))
    assert (found.kind.answer, found.credential.answer, len(found.choices)) == (kind, credential, choices)


def test_names_tell_use_and_stage_only_where_there_are_several() -> None:
    for uses, stages in itertools.product((("main",), ("load", "show")), (("prod",), ("test", "prod"))):
        names = advise(Wish("feed", uses=uses, stages=stages)).names
        assert all(
            ("-load" in n or "-show" in n) == (len(uses) > 1) and ("-prod" in n or "-test" in n) == (len(stages) > 1)
            for n in names
        )
