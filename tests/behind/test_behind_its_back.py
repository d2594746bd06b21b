"""Behind somebody's back: another hand changes what a charter made, and no command says the opposite of what the tenant decides.

A class is a kind and a change of it. What is sent and has moved since is never passed over by `rehearse --strict`.
"""

from __future__ import annotations

import json
from collections.abc import Iterator

import pytest

from behind.estate import CHARTERS, SENT, Case, Estate, Said, estate

CHANGES = ("deleted", "twin")
AS_SAID = "everything is as the charter says"
CLASSES = [
    f"{kind} {change}" for kind, attributes in SENT.items() for change in (*(CHANGES if "'s " not in kind else ()), *attributes)
]


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Estate]:
    yield from estate(tmp_path_factory.mktemp("estate"))


@pytest.fixture(scope="module")
def cases(whole: Estate) -> dict[str, list[Case]]:
    found: dict[str, list[Case]] = {}
    for case in whole.cases():
        found.setdefault(case.name, []).append(case)
    return found


def opposite(said: list[Said]) -> list[Said]:
    """Sentences of which the tenant says the opposite; what is not shown contradicts nothing."""
    return [s for s in said if s.said is not None and s.true is not None and s.said is not s.true]


def judge(whole: Estate, case: Case) -> list[str]:
    """What is wrong about what is said after a change."""
    try:
        whole.change(case)
        code, told = whole.strict(case.made.charter)
        charter = case.made.charter
        said = [*whole.said(charter), *whole.told_of_loans(), *whole.linked(), *whole.attested(charter)]
        wrong = [f"{case}: {s.command} says {s.said} of {s.about}" for s in opposite(said)]
        if code == 0 and case.change != "twin" and case.made.kind != "loan":
            wrong.append(f"{case}: rehearse --strict is silent")
        if AS_SAID in told and case.change != "twin" and case.made.kind != "loan":
            wrong.append(f"{case}: {AS_SAID}")
        return wrong
    finally:
        whole.back()


def test_nothing_is_said_that_the_tenant_denies_where_nothing_was_changed(whole: Estate) -> None:
    for charter in CHARTERS:
        assert opposite(whole.said(charter)) == [], charter
        assert whole.strict(charter)[0] == 0, charter  # what is advised at any time is no difference
    assert whole.run("rehearse", "station-heartbeat", "--strict-advice")[0] == 1


@pytest.mark.parametrize("name", CLASSES)
def test_one_of_each_class(whole: Estate, cases: dict[str, list[Case]], name: str) -> None:
    assert name in cases, "a class without a case"
    assert judge(whole, cases[name][0]) == []


def test_what_is_suspended_is_off(whole: Estate) -> None:
    """It is switched off, and somebody switches it on again: `sweep` reports it, and another `suspend` switches it off."""
    made = next(m for m in whole.made if (m.charter, m.kind) == ("visitor-statistics", "account"))
    try:
        assert opposite(whole.stopped(made.charter, made)) == []
        assert whole.data(made.tenant, made.kind)[made.id]["active"] is False
        whole.change(Case(made, "active"))
        whole.control("clock", {"move": 60})
        code, out, err = whole.run("sweep", "--yes")
        assert (code, "on although it is suspended" in out + err, whole.data(made.tenant, made.kind)[made.id]["active"]) == (
            6,
            True,
            True,
        )
        assert opposite(whole.stopped(made.charter, made)) == []
        assert whole.data(made.tenant, made.kind)[made.id]["active"] is False
    finally:
        whole.back()


@pytest.mark.parametrize(
    ("kind", "charter"),
    [("trust", "wind-ingest"), ("delegation", "roster-helper"), ("grant", "wind-ingest"), ("team's membership", "wind-ingest")],
)
def test_power_that_the_charter_does_not_ask_for_is_seen(whole: Estate, kind: str, charter: str) -> None:
    """Whatever lets somebody become the identity, or gives it power, differs: also of a kind that its charter never mentions."""
    made = next(
        m
        for m in whole.made
        if m.kind == kind and m.charter != charter and m.tenant in {t for c, t in whole.ids if c == charter}
    )
    try:
        whole.give(made, charter)
        code, told = whole.strict(charter)
        assert (code, AS_SAID in told) == (1, False), told
    finally:
        whole.back()


@pytest.mark.parametrize("gone", ["", "new", "old"])
def test_where_a_rotation_stands(whole: Estate, gone: str) -> None:
    """Either generation may be ended by another hand: then it is said what is missing."""
    first = next(m for m in whole.made if (m.charter, m.kind) == ("wind-ingest", "credential"))
    try:
        before = set(whole.data("summit", "credential"))
        assert whole.run("rotate", "wind-ingest")[0] == 7
        [fresh] = set(whole.data("summit", "credential")) - before
        if gone:
            whole.change(Case(first._replace(id=fresh) if gone == "new" else first, "deleted"))
            whole.control("clock", {"move": 60})  # until then it may still be on its way
        told = whole.turning("wind-ingest")
        assert told and opposite(told) == []
    finally:
        whole.back()


def test_what_asks_no_tenant_says_so(whole: Estate) -> None:
    """`due` reads charters and the ledger: that stands beside what it says, and is no sentence about now."""
    code, out, err = whole.run("due", "--within", "400d", "--format", "json")
    assert (code != 4, json.loads(out)["by"], "by the charters and the ledger" in err) == (True, "ledger", True)


@pytest.mark.soak
def test_every_case(whole: Estate, cases: dict[str, list[Case]]) -> None:
    wrong = {case: w for all_ in cases.values() for case in all_ if (w := judge(whole, case))}
    print(f"{sum(map(len, cases.values()))} cases of {len(cases)} classes")
    assert not wrong, "\n".join(t for w in wrong.values() for t in w)
