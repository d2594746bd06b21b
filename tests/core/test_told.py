"""What a ledger tells in sentences, what is due, and the small things that both rest on."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from typing import Any

import pytest

from sigillum.core.charter.charter import Charter, CredentialWant, Identity
from sigillum.core.charter.rules import overdue, reviews
from sigillum.core.charter.wants import ExemptWant, RelaxWant, SignInWant
from sigillum.core.kinds.access import Grant
from sigillum.core.records.books import END, endings, rows_of
from sigillum.core.records.chain import LedgerEntry
from sigillum.core.records.deeds import about, deeds
from sigillum.core.records.history import Generation, State
from sigillum.core.undertakings.due import (
    Due,
    in_order,
    of_endings,
    of_loans,
    of_reviews,
    of_rotations,
    of_sheets,
    of_suspensions,
    of_unused,
    summary,
)
from sigillum.core.undertakings.loans import Loan
from sigillum.core.undertakings.rotation import Rotation
from sigillum.core.undertakings.suspension import Suspension
from sigillum.core.values.asked import AskedWant
from sigillum.core.values.marks import Mark
from sigillum.core.values.outside import json_of
from sigillum.core.values.text import did_you_mean, some
from sigillum.core.values.times import Waits

NOW = datetime(2027, 1, 1, tzinfo=UTC)
THING = {"facet": "grant", "tenant": "t", "key": [["role", "r"]], "generation": 1}


def entry(number: int, kind: str, body: dict[str, Any], charter: str = "c") -> LedgerEntry:
    return LedgerEntry("s", number, "", "2027-01-01T00:00:00Z", "kai", "", kind, charter, body)


def words(mark: Mark) -> str:
    return f"the grant of {mark.get('role')}"


def told(*entries: LedgerEntry) -> list[tuple[str, bool]]:
    return [(d.what, d.done) for d in deeds(entries, words)]


@pytest.mark.parametrize(
    ("verb", "result", "more", "said", "done"),
    [
        ("make", "made", {}, "made the grant of r", True),
        (
            "make",
            "made",
            {"generation": 3, "terms": {"until": "2028-01-01"}},
            "made the grant of r (generation 3), until 2028-01-01",
            True,
        ),
        ("change", "changed", {"switches": "on"}, "switched on the grant of r", True),
        ("change", "changed", {}, "changed the grant of r", True),
        ("end", "refused", {"why": "no"}, "tried to end the grant of r: refused (no)", False),
        (
            "add",
            "made",
            {"about": {"accepted_by": "mara", "review": "2028", "why": "small"}},
            "added the grant of r; accepted by mara until 2028: small",
            True,
        ),
        ("take", "lost", {}, "tried to take away the grant of r: lost", False),
        ("fetch", "made", {}, "fetched the secret of the grant of r", True),
    ],
)
def test_a_change_is_one_sentence(verb: str, result: str, more: dict[str, Any], said: str, done: bool) -> None:
    why = {"why": more.pop("why")} if "why" in more else {}
    intent, outcome = (
        entry(4, "intent", {**THING, "verb": verb, "by": "ada", **more}),
        entry(5, "outcome", {"attempt": 4, "result": result, **why}),
    )
    assert told(intent, outcome) == [(said, done)]
    deed = next(iter(deeds([intent, outcome], words)))
    assert (deed.sequence, deed.stream, deed.tenant, deed.administrator, deed.person) == (5, "c", "t", "ada", "kai")
    assert about(intent, words).startswith(f"{verb} the grant of r at t, generation")
    assert about(outcome, words) == f"of 4: {result}" + (f" ({why['why']})" if why else "")


@pytest.mark.parametrize(
    ("kind", "body", "said"),
    [
        ("begun", {"workspace": "ws"}, "began the workspace ws"),
        ("known", {"name": "c"}, "wrote down the charter c"),
        ("renamed", {"before": "a", "name": "b"}, "renamed the charter a to b"),
        ("proved", {"results": ["a: holds (tried)"]}, "proved 1 expectation: all hold"),
        ("proved", {"results": ["a: holds (tried)", "b: not known (x)"]}, "proved 2 expectations: 1 of them held"),
        ("before", {"held": {"a": True, "b": None}}, "recorded what held before: 1 of 2"),
        ("felt", {"seconds": 4, "tenant": "t"}, "a change was felt after 4 s"),
        (
            "lent",
            {"grant": {"role": "r", "place": "@x", "until": "u", "reason": "why"}, "principal_name": "kai", "at": "@robot"},
            "lent r at @robot to kai, until u: why",
        ),
        (
            "lent",
            {"grant": {"role": "r", "place": "p", "until": "u", "reason": "why"}, "principal_name": "kai"},
            "lent r at p to kai, until u: why",
        ),
        ("closed", {"undertaking": "loan", "number": "loan-1", "how": "cleared"}, "closed the loan 1: cleared"),
        ("closed", {"undertaking": "request", "number": "2", "how": "by hand"}, "closed request 2: by hand"),
        ("recalled", {"by": "ada"}, "recalled the loan"),
        ("requested", {"number": 3, "request": {"to": "", "about": "x"}}, "asked whoever has it by request 3: x"),
        ("received", {"about": "x"}, "took on somebody else's request: x"),
        ("told", {"name": "n", "value": "v"}, "was told n: v"),
        ("confirmed", {"about": "x", "by": "ines"}, "confirmed by hand: x"),
        (
            "handed-over",
            {"values": ["key"], "how": "sealed", "to": "gate", "generation": 2},
            "handed over key: sealed to gate (generation 2)",
        ),
        ("connected", {"consumer": "gate", "connection": "7"}, "gate is connected as 7"),
        ("kept", THING, "kept the grant of r here"),
        ("adopted", THING, "took over the grant of r"),
        ("found", THING, "found again the grant of r"),
        ("strange", {}, "strange"),
        ("lent", {}, "an entry that cannot be read (lent); `ledger verify` tells more"),
    ],
)
def test_what_stands_for_itself(kind: str, body: dict[str, Any], said: str) -> None:
    one = entry(1, kind, body)
    assert [what for what, _ in told(one)] == [said]
    assert about(one, words) in (said, "(it cannot be read)")


def test_what_has_no_beginning_is_not_told_and_what_has_no_end_is_told_last() -> None:
    odd = entry(8, "intent", {"verb": "fly"})
    assert told(
        entry(2, "outcome", {"attempt": 1, "result": "made"}),
        entry(3, "intent", {**THING, "verb": "make"}),
        odd,
        entry(9, "known", {"name": "c"}),
    ) == [
        ("wrote down the charter c", True),
        ("tried to make the grant of r: its outcome is not known yet", False),
        ("an intent that cannot be read; `ledger verify` tells more", False),
    ]


KEY = CredentialWant("main", "key-pair", 90 * 86_400, 10 * 86_400, consumers=("gate", "board"))


def charter(**more: Any) -> Charter:
    return Charter(
        "wind", "t", "prod", "stores", "m@x.example", Identity("service-account", "wind", "Wind"), credentials=(KEY,), **more
    )


def test_what_ends_with_what_stops_then() -> None:
    def entries() -> Iterator[LedgerEntry]:
        number = 0
        for what, thing, until, generation, result in (
            ("main", "credential", "2027-01-05T00:00:00Z", 1, "made"),
            ("old", "credential", "2027-01-03T00:00:00Z", 1, "ended"),
            ("r", "grant", "2027-01-02T00:00:00Z", 1, "made"),
            ("s", "grant", "", 1, "made"),
            ("t", "grant", "2027-01-02T00:00:00Z", 1, "refused"),
            ("gone", "credential", "2027-01-20T00:00:00Z", 1, "made"),
            ("gone", "credential", "2027-02-01T00:00:00Z", 2, "made"),
        ):
            key = [["name", what]] if thing == "credential" else [["role", what], ["at", "p"]]
            for verb, became in (
                ("make", "made" if result == "ended" else result),
                *([("end", "ended")] if result == "ended" else []),
            ):
                intent = {
                    "verb": verb,
                    "facet": thing,
                    "tenant": "t",
                    "key": key,
                    "generation": generation,
                    "thing": thing,
                    "terms": {"until": until} if until else {},
                }
                yield LedgerEntry("s", number + 1, "", "", "", "", "intent", "u", intent)
                yield LedgerEntry(
                    "s", number + 2, "", "", "", "", "outcome", "u", {"attempt": number + 1, "result": became, "id": what}
                )
                number += 2
        found_ = {
            "facet": "credential",
            "tenant": "t",
            "key": [["name", "late"]],
            "generation": 1,
            "thing": "credential",
            "id": "x",
            "until": "2027-03-01T00:00:00Z",
        }
        yield LedgerEntry("s", number + 1, "", "", "", "", "found", "u", found_)

    rows = {key: value for (what, key), value in rows_of(entries()).items() if what == END}
    assert sorted(e.mark.get("name") or e.mark.get("role") for e in endings(rows)) == ["gone", "gone", "late", "main", "r"]
    assert len(list(endings(rows, "2027-01-06"))) == 2
    risk = SignInWant(
        exempt=ExemptWant("default", "mara", "nobody there", date(2027, 1, 9)),
        relax=RelaxWant("people", "mara", "narrow", date(2026, 12, 1), "other"),
    )
    one = charter(review=date(2026, 11, 1), sign_in=risk)
    about = summary(one)
    all_ = [*of_endings(endings(rows), lambda uid: one.name, {one.name: about}), *of_reviews(about, "u")]
    found = in_order(all_, lambda tenant: NOW, timedelta(days=10))
    assert [(d.kind, d.state(NOW)) for d in found] == [
        ("review", "over"),
        ("review", "over"),
        ("grant", "later"),
        ("credential", "due"),
        ("review", "later"),
    ]
    assert "these go without: gate, board" in found[3].stops
    assert len({d.key for d in found}) == 5
    assert [d.what for d in in_order(all_, lambda tenant: NOW, timedelta(days=60))][-2:] == [
        "the credential gone",
        "the credential late",
    ]
    assert (len(reviews(one)), len(overdue(one, NOW.date())), reviews(charter())) == (3, 2, [])


def test_loans_sheets_and_requests_are_due_too() -> None:
    until = NOW + timedelta(hours=1)
    loan = Loan(
        "loan-1",
        1,
        "t",
        Grant("p", "r", "place"),
        until,
        "kai",
        "ada",
        "x",
        Generation(Mark("loan", "t"), 1, "grant", state=State.MADE, id="g"),
        at="place",
    )
    assert [d.what for d in of_loans([(loan, NOW)])] == ["r at place to kai"]
    assert "still stands" in next(of_loans([(loan, until)])).stops
    assert "until it is swept" in next(of_loans([(dataclasses.replace(loan, by_itself=False), NOW)])).stops
    sheets = [
        entry(1, "handed-over", {"ends": "2027-02-01T00:00:00Z", "to": "gate", "values": ["key"], "sealed": "s"}),
        entry(2, "handed-over", {"to": "x", "values": []}),
        entry(3, "handed-over", {"ends": "2026-02-01T00:00:00Z", "to": "x", "values": []}),
        entry(4, "known", {}),
    ]
    assert [(d.what, d.key) for d in of_sheets(sheets, "wind", NOW)] == [("the sheet for gate (key)", "c sheet s")]
    held = Suspension("u", "s1", 1, "t", Mark("account", "t"), 1, "account", "a", "wind", "a leak", "ada", NOW, until, False)
    [back], [waits] = (
        of_suspensions([held], lambda uid: "wind"),
        of_suspensions([dataclasses.replace(held, until=None)], lambda uid: "wind"),
    )
    assert ((back.at, back.state(NOW)), (waits.at, waits.state(NOW)), waits.stops) == (
        (until, "later"),
        (NOW, "due"),
        "it stays off until somebody reinstates it",
    )
    turn = Rotation(
        "u",
        "r1",
        1,
        "t",
        Mark("credential", "t", (("name", "main"),)),
        Generation(Mark("credential", "t"), 1),
        None,
        NOW,
        until,
        600,
    )
    assert [(d.at, d.what) for d in of_rotations([turn], lambda uid: "wind")] == [(until, "main is being rotated")]
    given: dict[str, Any] = {
        "how": "sealed",
        "credential": "main",
        "generation": 1,
        "to": "gate",
        "at": "2026-12-01T00:00:00Z",
        "values": ["key"],
    }
    for after, left in (
        ([], 1),
        ([("used-since", given)], 0),
        ([("sheet-opened", given)], 0),
        ([("connected", {"consumer": "gate"})], 0),
        ([("handed-over", {**given, "generation": 2})], 1),
    ):
        told = [entry(1, "handed-over", given), *(entry(n, kind, body) for n, (kind, body) in enumerate(after, 2))]
        assert len(list(of_unused(told, lambda uid: "wind"))) == left, after
    assert (Due(NOW, "request", "c", "x").state(NOW), Due(NOW, "grant", "c", "x").state(NOW)) == ("due", "over")


@pytest.mark.parametrize("text", ["NaN", "[Infinity]", "[" * 200 + "]" * 200, "[" * 100_000, "{", b"\xff"])
def test_what_is_no_json(text: str | bytes) -> None:
    with pytest.raises(ValueError, match=r".+"):
        json_of(text)


def test_what_is_json() -> None:
    assert json_of('{"a": [1, {"b": null}]}') == {"a": [1, {"b": None}]}


@pytest.mark.parametrize(
    ("said", "pauses"),
    [
        ([None] * 9, [1.0, 1.0, 1.0, None]),
        ([20.0, 1.0], [20.0, None]),
        ([1.0, 20.0, 1.0], [1.0, 2.0, None]),
        ([9e9, None], [300.0, None]),
        ([0.0] * 70, [0.0] * 59),
    ],
)
def test_how_long_one_that_is_busy_is_waited_for(said: list[float | None], pauses: list[float | None]) -> None:
    waits = Waits(3.0)
    assert [waits.next(s, 1.0) for s in said][: len(pauses)] == pauses


def test_names_are_counted_and_misses_are_near() -> None:
    assert (some(["b", "a"], "team"), some([str(n) for n in range(11)], "team")) == (
        "2 teams (b, a)",
        "11 teams, first ten: 0, 1, 10, 2, 3, 4, 5, 6, 7, 8",
    )
    assert (did_you_mean("stram", ["stream"]), did_you_mean("x", [f"k{n}" for n in range(9)]), did_you_mean("x", [])) == (
        "did you mean stream?",
        "known here: k0, k1, k2, k3, k4, k5, k6, k7 ...",
        "",
    )
    asked = AskedWant("n", "mara", "[0-9]+")
    assert (asked.fits("12"), asked.fits("x"), AskedWant("n", "mara").fits("anything")) == (True, False, True)
