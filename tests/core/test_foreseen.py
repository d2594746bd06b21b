"""Proofs are foreseen: what breaks a `cannot` is a mistake before anything is done, in the worst case, for whomever it touches."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest
from hypothesis import given, settings

from conftest import examples
from core.fake import NOW, PROFILE, Fake, thing
from core.test_compare import charter, grants
from sigillum.core.charter.charter import Charter, GrantWant, Identity, MemberWant, ProofWant, RoleWant
from sigillum.core.deciding.explanations import explain
from sigillum.core.deciding.foreseen import spoiling, worst
from sigillum.core.deciding.gathering import world_of
from sigillum.core.deciding.values import Question
from sigillum.core.deciding.world import World
from sigillum.core.facets.seen import Expected
from sigillum.core.kinds.changes import Facts
from sigillum.core.records.steps import Outline
from sigillum.core.values.worlds import Observed

CANNOT = ProofWant(False, "stream.delete", "root/a/one")
WRITER, KEEPER = GrantWant("writer", "root/a", "x"), GrantWant("keeper", "root/a", "x")


def wind(*wanted: GrantWant, proofs: tuple[ProofWant, ...] = (CANNOT,), **more: Any) -> Charter:
    return charter(wanted, (), proofs=proofs, **more)


def codes(outline: Outline) -> tuple[list[str], list[str]]:
    return [m.code for m in outline.mistakes], [n.code for n in outline.notes if n.code.startswith(("breaks", "not-foreseen"))]


def facts(fake: Fake) -> World[Observed]:
    """All that stands, as deciding sees it."""
    all_ = Facts()
    for records in fake.things.values():
        all_.add(records)
    return world_of(all_, fake.profile, felt=False)


@pytest.mark.parametrize("window", [{}, {"lasts_seconds": 60}, {"start": NOW + timedelta(days=3), "lasts_seconds": 60}])
def test_a_grant_that_breaks_the_charters_own_cannot_is_a_mistake(window: dict[str, Any]) -> None:
    fake = Fake()
    outline = fake.compare(wind(KEEPER._replace(**window)))  # the service behind it is off: it could be switched on any day
    assert codes(outline)[0] == ["breaks-cannot"] and outline.blocked
    assert ("from 2027-03-04T12:00:00Z on" in outline.mistakes[0].what) == ("start" in window)
    assert codes(fake.compare(wind(WRITER))) == ([], [])
    assert codes(fake.compare(wind(GrantWant("keeper", "root/b", "x", **window))))[0] == []


def test_a_team_that_may_too_much_is_foreseen_and_a_strangers_right_warns() -> None:
    fake = Fake()
    fake.things["grant"].append(thing("grant", "g-x", principal="t-crew", role="keeper", place="root"))
    assert codes(fake.compare(wind(WRITER, member_of=(MemberWant("crew"),))))[0] == ["breaks-cannot"]
    fake.enact(wind(WRITER))
    identity = fake.things["account"][0].id
    fake.things["team"] = [t.with_(members=(identity,)) if t.id == "t-crew" else t for t in fake.things["team"]]
    assert codes(fake.compare(wind(WRITER))) == ([], ["breaks-cannot"])  # somebody else put it there
    fake.blind = frozenset({"team"})
    assert codes(fake.compare(wind(WRITER)))[1] == ["not-foreseen"]


def test_only_an_ending_that_will_run_counts() -> None:
    fake = Fake()
    fake.enact(wind(KEEPER, proofs=()))
    assert codes(fake.compare(wind(WRITER))) == ([], [])
    fake.kept_in = frozenset({"away"})  # in prod, and it was not said
    found = fake.compare(wind(WRITER))
    assert (codes(found)[0], [m.code for m in found.open], found.blocked) == ([], ["breaks-cannot-kept"], True)


@pytest.mark.parametrize("touched", ["member", "nested member", "new member", "holder", "role"])
def test_another_charters_cannot_is_looked_at_where_its_identity_is_touched(touched: str) -> None:
    fake = Fake()
    fake.things["account"].append(thing("account", "a-other", name="other", active=True))
    guild = Identity("team", "guild", "Guild")
    members = (MemberWant("other"),) if "member" in touched else ()
    wanted = {
        "holder": wind(KEEPER._replace(to="other"), proofs=()),
        "role": wind(
            GrantWant("looker", "root/a", "x", to="other"),
            proofs=(),
            roles=(RoleWant("looker", "L", ("stream.read", "stream.delete")),),
        ),
    }
    whole = wanted.get(touched, wind(KEEPER, proofs=(), identity=guild, members=members))
    first = {
        "holder": wind(WRITER, proofs=()),
        "new member": wind(KEEPER, proofs=(), identity=guild),
        "role": wind(
            GrantWant("looker", "root/a", "x", to="other"), proofs=(), roles=(RoleWant("looker", "L", ("stream.read",)),)
        ),
    }
    fake.enact(first.get(touched, wind(WRITER, proofs=(), identity=guild, members=members)))
    if touched == "nested member":
        fake.things["team"].append(thing("team", "t-deep", name="deep", members=("a-other",)))
        fake.things["team"] = [t.with_(members=("t-deep",)) if t.value("name") == "guild" else t for t in fake.things["team"]]
    fake.others = {"a-other": Expected("other-one", (CANNOT,))}
    outline = fake.compare(whole)
    assert codes(outline)[0] == ["breaks-cannot"], outline
    assert "the charter other-one says" in outline.mistakes[0].what
    fake.others = {"a-other": Expected("other-one", unread="its file has mistakes")}
    assert codes(fake.compare(whole)) == ([], ["not-foreseen"])
    fake.others = {f"a-{n}": Expected(f"c{n}", (CANNOT,)) for n in range(60)}
    if touched == "member":
        fake.things["team"] = [
            t.with_(members=tuple(fake.others)) if t.value("name") == "guild" else t for t in fake.things["team"]
        ]
        assert any("more than 50" in n.text for n in fake.compare(whole).notes)


@settings(max_examples=examples(80))
@given(grants)
def test_what_was_not_foreseen_does_not_happen(wanted: list[GrantWant]) -> None:
    fake, whole = Fake(profile=PROFILE), wind(*wanted)
    outline = fake.compare(whole)
    foreseen = "breaks-cannot" in codes(outline)[0]
    fake.enact(wind(*wanted, proofs=()))
    identity, world = fake.things["account"][0].id, worst(facts(fake))
    ask = Question(identity, CANNOT.permission, CANNOT.at, NOW)
    moments = [NOW, *(e for e in world.edges(ask) if e > NOW)]
    assert foreseen == any(world.decide(ask._replace(at=at)).allowed for at in moments)


def test_no_advice_goes_against_the_charters_own_cannot() -> None:
    fake = Fake()
    fake.enact(wind(WRITER, proofs=()))
    fake.things["place"] = [p.with_(services=(("store", None),)) for p in fake.things["place"]]
    identity, world, roles = fake.things["account"][0].id, facts(fake), fake.things["role"]
    ask = Question(identity, "stream.delete", "root/a/one", NOW)
    assert explain(world, ask, roles).mends[0].role == "keeper"
    forbidden = explain(world, ask, roles, spoiling(world, identity, (CANNOT,), NOW)).mends
    assert [(m.role, "breaks the charter's own `cannot stream.delete" in m.text) for m in forbidden] == [("", True)]
    beside = ProofWant(False, "stream.append", "root/b")  # the narrowest role that holds it would break this; another does not
    only = [*roles, thing("role", "r-d", name="deleter", breadth="broad", permissions=(("stream.delete", "changes-data"),))]
    ask = ask._replace(place="root/b")
    assert explain(world, ask, only).mends[0].role == "keeper"
    assert explain(world, ask, only, spoiling(world, identity, (beside,), NOW)).mends[0].role == "deleter"


def test_what_should_work_and_will_not_warns() -> None:
    fake, can = Fake(), ProofWant(True, "stream.append", "root/b")
    assert codes(fake.compare(wind(WRITER, proofs=(can,)))) == ([], ["breaks-can"])
    assert codes(fake.compare(wind(GrantWant("writer", "root/b", "x"), proofs=(can,)))) == ([], [])
    for unknown in (
        ProofWant(True, "stream.append", "root/none"),
        ProofWant(True, "stream.fly", "root/b"),
    ):  # said once, as what it is
        mistakes, notes = codes(fake.compare(wind(WRITER, proofs=(unknown,))))
        assert (len(mistakes), "breaks-can" in notes) == (1, False), (mistakes, notes)
