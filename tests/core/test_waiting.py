"""Not yet or never; loans; what rules say of teams. Tables over the values that commands show."""

from __future__ import annotations

from dataclasses import asdict
from datetime import timedelta
from itertools import islice

import pytest

from access.worlds import BASE
from core.fake import NOW, thing
from sigillum.core.charter.charter import Charter, CredentialWant, GrantWant, Identity, MemberWant
from sigillum.core.charter.rules import HouseRules
from sigillum.core.deciding.refusals import Cause
from sigillum.core.deciding.values import KnownPlace, KnownPrincipal, Membership, Question, Right, Team
from sigillum.core.deciding.waiting import outlook, pauses, usual_seconds
from sigillum.core.deciding.world import World
from sigillum.core.facets.registry import check
from sigillum.core.kinds.access import GRANT, Grant
from sigillum.core.kinds.kind import Fact, Record
from sigillum.core.kinds.profile import Operation
from sigillum.core.records.books import rows_of
from sigillum.core.records.chain import LedgerEntry
from sigillum.core.records.requests import Request
from sigillum.core.undertakings.loans import end_of, may_be_lent, next_, read
from sigillum.core.undertakings.requests import next_ as next_request
from sigillum.core.undertakings.requests import read as read_requests
from sigillum.core.undertakings.undertaking import Look, Next
from sigillum.core.values.times import format_edge, format_instant
from sigillum.core.values.worlds import Observed

MINUTE = timedelta(seconds=60)


def world(right: Right | None, felt: int = 60, **more: object) -> World[Observed]:
    made = World(
        principals={"w": KnownPrincipal("w", "wind"), "t": KnownPrincipal("t", "crew", "team")},
        places={"root": KnownPlace("root")},
        roles={"r": frozenset(["a.b"])},
        rights=[right] if right else [],
        felt=timedelta(seconds=felt),
    )
    for name, value in more.items():
        setattr(made, name, value)
    return made


HELD = Right("g", "w", "r", "root")
ROLES = [thing("role", "r", name="r", permissions=(("a.b", "looks"),))]


@pytest.mark.parametrize(
    ("right", "wanted", "state", "cause", "text"),
    [
        (HELD._replace(made=BASE), True, "not-yet", Cause.NOT_FELT, "it will be allowed from"),
        (HELD._replace(start=BASE + MINUTE), True, "not-yet", Cause.WINDOW_WAITING, "has not begun"),
        (HELD._replace(start=BASE + 60 * MINUTE), True, "never", Cause.WINDOW_WAITING, "has not begun"),
        (HELD._replace(until=BASE), True, "never", Cause.WINDOW_ENDED, "window-ended: the grant's window has ended"),
        (HELD._replace(ready=False), True, "not-yet", Cause.GRANT_UNFINISHED, "still making it"),
        (HELD, True, "unclear", Cause.ALLOWED, "from the facts it is allowed by now"),
        (None, False, "unclear", Cause.NOTHING_GRANTED, "it is refused by now"),
        (None, True, "never", Cause.NOTHING_GRANTED, "nothing is granted"),
        (HELD, False, "never", Cause.ALLOWED, "it is allowed by r at root, without end"),
        (HELD._replace(until=BASE + MINUTE / 2, leaving=True), False, "not-yet", Cause.ALLOWED, "was ended, and is still felt"),
        (HELD._replace(until=BASE + 60 * MINUTE), False, "never", Cause.ALLOWED, "it ends at"),
    ],
)
def test_not_yet_or_never(right: Right | None, wanted: bool, state: str, cause: Cause, text: str) -> None:
    told = outlook(world(right), Question("w", "a.b", "root", BASE), wanted, MINUTE, ROLES)
    assert (told.state, told.cause) == (state, cause)
    assert text in told.text
    assert bool(told.mend) == (state == "never")


def test_a_second_right_and_a_late_membership() -> None:
    needy = {"a.b": Operation("a.b", "looks", "GET", "", needs=("c.d@project",))}
    told = outlook(world(HELD, operations=needy), Question("w", "a.b", "root", BASE), True, MINUTE, ROLES)
    assert (told.state, told.cause, "c.d at a project" in told.text) == ("never", Cause.RIGHT_MISSING, True)
    team = world(HELD._replace(carrier="t"), teams={"t": Team("t", "crew")}, memberships=[Membership("w", "t", BASE)])
    told = outlook(team, Question("w", "a.b", "root", BASE), True, MINUTE, ROLES)
    assert (told.state, told.due) == ("not-yet", BASE + MINUTE)


def test_pauses_grow_and_the_usual_is_what_was_measured() -> None:
    found = list(islice(pauses(), 12))
    assert found == sorted(found)
    assert (found[0], found[-1]) == (0.5, 15.0)
    assert [usual_seconds([], None), usual_seconds([], 90), usual_seconds([3, 100, 7], 90)] == [None, 90, 7]
    assert format_edge(BASE + timedelta(microseconds=1)) == format_instant(BASE + timedelta(seconds=1))


@pytest.mark.parametrize(
    ("role", "seconds", "because", "codes"),
    [
        ("r", 600, "why", []),
        ("r", 600, " ", ["because-missing"]),
        ("boss", 600, "why", ["role-forbidden"]),
        ("r", 86_401, "why", ["loan-too-long"]),
        ("r", 86_400, "why", []),
        ("r", 0, "why", ["window-past"]),
    ],
)
def test_what_the_house_says_to_a_loan(role: str, seconds: int, because: str, codes: list[str]) -> None:
    rules = HouseRules(forbidden_roles=frozenset({"boss"}))
    assert [o.code for o in may_be_lent(rules, role, NOW + timedelta(seconds=seconds), because, NOW)] == codes


def test_the_states_of_a_loan() -> None:
    with pytest.raises(ValueError, match="always ends"):
        end_of(NOW, None, None)
    until = end_of(NOW, 600, None)
    assert end_of(NOW, None, until) == until

    def entry(number: int, kind: str, /, **body: object) -> LedgerEntry:
        return LedgerEntry("ws", number, "", "", "", "", kind, "loan-1", body)

    lent = entry(
        1,
        "lent",
        tenant="t",
        principal="p",
        principal_name="n",
        grant={"principal": "p", "role": "r", "place": "root", "until": format_instant(until), "reason": "b"},
        by="a",
        external_id="x",
        undertaking="loan",
        number="loan-1",
    )
    intent = entry(2, "intent", facet="loan", key=[], generation=1, verb="make", external_id="x", tenant_time="", tenant="t")
    made = entry(3, "outcome", attempt=2, result="made", id="g", tenant_time="")
    end = entry(4, "intent", facet="loan", key=[], generation=1, verb="end", tenant="t")

    def ended(seconds: int) -> LedgerEntry:
        return entry(5, "outcome", attempt=4, result="ended", tenant_time=format_instant(NOW + timedelta(seconds=seconds)))

    no = entry(3, "outcome", attempt=2, result="refused", tenant_time="")
    back = entry(6, "recalled", by="a")
    open_rows = {("open loan", "loan-1"): "loan-1", ("loan of p", "loan-1"): "loan-1", ("loan", "x"): "loan-1"}
    assert rows_of([lent]) == open_rows
    assert rows_of([lent, entry(7, "closed", undertaking="loan", number="loan-1", how="cleared")]) == dict(
        list(open_rows.items())[1:]
    )
    found = Fact((Record(GRANT, "g", Grant("p", "r", "root")),))
    for entries, states, follows in (
        ([lent], ("begun", "ended"), ("lend", "sweep")),
        ([lent, intent, no], ("refused", "refused"), ("refused", "refused")),
        ([lent, intent], ("begun", "ended"), ("lend", "sweep")),
        ([lent, intent, made], ("in-force", "ended"), ("", "sweep")),
        ([lent, back], ("leaving", "ended"), ("recall", "recall")),
        ([lent, intent, made, back], ("leaving", "ended"), ("recall", "recall")),
        ([lent, intent, made, end, ended(60)], ("recalled", "recalled"), ("recalled", "recalled")),
        ([lent, intent, made, end, ended(900)], ("cleared", "cleared"), ("cleared", "cleared")),
    ):
        (loan,) = read(entries, "loan-1")
        for seconds, state, word in zip((0, 600), states, follows, strict=True):
            now = NOW + timedelta(seconds=seconds)
            assert loan.stage(now) == state
            after = next_(loan, Look(lambda query: found), now)
            assert after.closed + "".join(s.id.verb for s in after.steps) == word
            assert {getattr(s.action, "id", "g") for s in after.steps} <= {"g"}
        unseen = next_(loan, Look(lambda query: Fact(unknown="403")), NOW + timedelta(seconds=600))
        gone = next_(loan, Look(lambda query: Fact()), NOW + timedelta(seconds=600))
        if (
            states[0] in ("begun", "leaving") and made not in entries
        ):  # whether it was made decides, and nothing is concluded from a 403
            assert ("403" in unseen.waits, unseen.steps, unseen.closed) == (True, (), "")
            assert gone.closed == "never-made"


def test_a_request_waits_until_it_is_done_or_wanted_no_more() -> None:
    request = Request("end", "grant", "https://t", "about", {}, "g-1")
    body = {
        "facet": "grant",
        "tenant": "t",
        "key": [["role", "r"]],
        "generation": 2,
        "number": "3",
        "undertaking": "request",
        "request": asdict(request),
        "digest": request.digest,
        "file": "f",
        "asked_at": "now",
    }
    asked = LedgerEntry("ws", 7, "", "", "", "", "requested", "c", body)
    closed = LedgerEntry("ws", 8, "", "", "", "", "closed", "c", {"undertaking": "request", "number": "3", "how": "by hand"})
    (one,) = read_requests([asked], "c")
    assert (one.key, one.request, one.mark.facet) == ("3", request, "grant")
    stands, gone, hidden = Fact((Record(GRANT, "g-1", Grant()),)), Fact[Grant](), Fact[Grant](unknown="403")
    for fact, how in ((stands, "not asked for any more"), (gone, "seen to be done"), (hidden, "not asked for any more")):
        assert next_request(one, Look(lambda query, fact=fact: fact), NOW).closed == how  # type: ignore[misc]
        assert next_request(one, Look(lambda query, fact=fact: fact, frozenset({one.step})), NOW) == Next()  # type: ignore[misc]
    assert next_request(read_requests([asked, closed], "c")[0], Look(lambda query: gone), NOW) == Next()


@pytest.mark.parametrize(
    ("identity", "more", "codes"),
    [
        (Identity("team", "crew", "crew", reach=("a",)), {}, []),
        (Identity("team", "crew", "crew"), {}, ["reach-missing"]),
        (Identity("team", "crew", "crew"), {"grants": (GrantWant("r", "a/b/c"), GrantWant("s", "a/b"))}, []),
        (Identity("team", "crew", "crew"), {"grants": (GrantWant("r", "a/b"), GrantWant("s", "a/c"))}, ["reach-several"]),
        (Identity("team", "crew", "crew"), {"grants": (GrantWant("r", "a"),)}, ["reach-several"]),
        (
            Identity("team", "crew", "crew", reach=("a",)),
            {"credentials": (CredentialWant("k", "key-pair", 60, 1),)},
            ["team-signs-in"],
        ),
        (
            Identity("service-account", "w", "w"),
            {"members": (MemberWant("x"), MemberWant("x"))},
            ["membership-twice", "team-only"],
        ),
    ],
)
def test_what_fits_a_team(identity: Identity, more: dict[str, object], codes: list[str]) -> None:
    charter = Charter("c", "t", "test", "p", "o", identity, **more)  # type: ignore[arg-type]
    assert [m.code for m in check(charter, HouseRules(), ["t"])] == codes
