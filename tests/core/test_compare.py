"""Comparing: what is enacted needs nothing more; unknown yields nothing; what is not ours is left alone."""

from __future__ import annotations

import dataclasses
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examples
from core.fake import NOW, PLACES, PROFILE, ROLES, TEAMS, Chain, Fake, ours, thing
from sigillum.core.charter.charter import (
    Charter,
    CredentialWant,
    GrantWant,
    Identity,
    MemberWant,
    ProofWant,
    RoleWant,
    ServiceWant,
)
from sigillum.core.charter.rules import HouseRules
from sigillum.core.charter.wants import TrustWant
from sigillum.core.comparing.compare import ordered
from sigillum.core.comparing.hands import Hand, assign
from sigillum.core.facets.registry import words
from sigillum.core.federation.conditions import Condition
from sigillum.core.federation.trusts import Trust
from sigillum.core.kinds.access import GRANT as GRANTS
from sigillum.core.kinds.changes import Make
from sigillum.core.kinds.trusting import TRUST
from sigillum.core.records.steps import Ask, Step, StepKind
from sigillum.core.values.marks import Mark, StepId
from sigillum.core.values.times import format_instant

DAY = 86_400
ALL = tuple(p for p, _ in ROLES["keeper"])
GRANT = GrantWant("writer", "root/a", "why")
KEY = CredentialWant("main", "key-pair", 90 * DAY, 14 * DAY, ("stream.append",))
TOKEN = CredentialWant("tok", "api-token", 90 * DAY, 14 * DAY)


def charter(
    grants: tuple[GrantWant, ...] = (GRANT,),
    credentials: tuple[CredentialWant, ...] = (KEY,),
    display: str = "Wind",
    proofs: tuple[ProofWant, ...] = (),
    purpose: str = "x",
    **more: Any,
) -> Charter:
    return Charter(
        "wind",
        "away",
        "test",
        purpose,
        "m@x.example",
        more.pop("identity", Identity("service-account", "wind", display)),
        grants=grants,
        credentials=credentials,
        proofs=proofs,
        **more,
    )


def enacted(fake: Fake, wanted: Charter, **more: Any) -> list[tuple[str, str]]:
    return [(str(s.kind), s.facet) for s in fake.enact(wanted, **more).steps]


windows = st.one_of(
    st.just({}),
    st.builds(lambda s: {"lasts_seconds": s}, st.integers(1, 10 * DAY)),
    st.builds(lambda s: {"until": NOW + timedelta(seconds=s)}, st.integers(60, 40 * DAY)),
    st.builds(lambda s: {"start": NOW + timedelta(seconds=s), "lasts_seconds": 600}, st.integers(1, DAY)),
)
more_of_it = st.sampled_from([{}, {}, {"where": (("stage", ("dev", "test")),)}])
grants = st.lists(
    st.builds(
        lambda r, p, b, w, m: GrantWant(r, p, b, **w, **m),
        st.sampled_from(sorted(ROLES)),
        st.sampled_from([*PLACES, "self"]),
        st.sampled_from(["", "one", "two"]),
        windows,
        more_of_it,
    ),
    max_size=3,
    unique_by=lambda g: g.key,
)
OWN = RoleWant("looker", "Looks", ("stream.read",))
wider = st.fixed_dictionaries(
    {
        "services": st.sampled_from(
            [(), (ServiceWant("store", "root/a"),), (ServiceWant("store", "root/a"), ServiceWant("store", "root/b"))]
        ),
        "member_of": st.lists(st.sampled_from([MemberWant(n) for n in TEAMS]), max_size=2, unique=True).map(tuple),
        "roles": st.sampled_from([(), (OWN,), (OWN._replace(permissions=("stream.read", "stream.append")),)]),
    }
)
credentials = st.lists(
    st.sampled_from([KEY, TOKEN, KEY._replace(limits=()), KEY._replace(name="other", lasts_seconds=30 * DAY)]),
    max_size=2,
    unique_by=lambda c: c.name,
)
proofs = st.lists(st.just(ProofWant(True, "stream.read", "root/a")), max_size=1)
charters = st.builds(
    lambda g, c, d, p, w: charter(
        (GrantWant("keeper", "root", "base"), *g, *((GrantWant("looker", "root/b"),) if w["roles"] else ())),
        tuple(c),
        d,
        tuple(p),
        **w,
    ),
    grants.map(lambda gs: [g for g in gs if (g.role, g.at) != ("keeper", "root")]),
    credentials,
    st.sampled_from(["Wind", "Gale"]),
    proofs,
    wider,
)


@settings(max_examples=examples(140), deadline=None)
@given(st.lists(st.tuples(charters, st.integers(0, 3 * DAY), st.integers(0, 12)), min_size=1, max_size=4))
def test_whatever_was_enacted_before_and_wherever_it_stopped_enacting_ends_as_wished(
    story: list[tuple[Charter, int, int]],
) -> None:
    fake = Fake()
    for wanted, seconds, most in story:
        fake.enact(wanted, most=most)  # interrupted somewhere
        fake.pass_(seconds)
        for _ in range(3):
            fake.enact(wanted)
        assert fake.compare(wanted).steps == ()
        live = fake.things["credential"]
        assert len(live) == len(wanted.credentials)
        assert all(t.value("active") for t in live)
        assert {t.value("thumbprint") for t in live if t.value("type") == "key-pair"} <= set(fake.held.values())
        held = {(t.value("role"), t.value("place"), t.value("where")) for t in fake.things["grant"]}
        who = fake.things["account"][0].id
        assert held >= {
            (g.role, f"@{who}" if g.at == "self" else g.at, g.where)
            for g in wanted.grants
            if g.lasts_seconds is None and g.until is None
        }
        assert {t.value("name") for t in fake.things["team"] if who in t.value("members")} == {m.name for m in wanted.member_of}
        assert [t.value("permissions") for t in fake.things["role"] if t.value("name") == "looker"] == [
            tuple((p, dict(ROLES["keeper"])[p]) for p in r.permissions) for r in wanted.roles
        ]
        for service in wanted.services:
            assert any(
                name == "store"
                for t in fake.things["place"]
                if service.at.startswith(str(t.value("path")))
                for name, _ in t.value("services")
            )
        assert len(fake.things["account"]) == 1


@settings(max_examples=examples(150), deadline=None)
@given(
    st.lists(
        st.tuples(charters, st.lists(st.sampled_from(["arrives", "busy", "lost-before", "lost-after"]), max_size=12)),
        min_size=1,
        max_size=2,
    )
)
def test_whatever_becomes_of_requests_enacting_ends_as_wished(story: list[tuple[Charter, list[str]]]) -> None:
    fake = Fake(losing=True)
    for wanted, fates in story:
        fake.fates = list(fates)
        for _ in range(4):
            fake.enact(wanted)
        assert fake.compare(wanted).steps == ()
        for kind in ("account", "grant", "credential"):
            marks = [t.mark for t in fake.things[kind]]
            assert len(marks) == len(set(marks))
        assert {t.value("name") for t in fake.things["team"] if fake.things["account"][0].id in t.value("members")} == {
            m.name for m in wanted.member_of
        }


def test_an_old_credential_or_grant_ends_only_after_what_replaces_it_was_proved() -> None:
    can = (ProofWant(True, "stream.append", "root/a"), ProofWant(False, "stream.delete", "root/a"))
    fake = Fake()
    enacted(fake, charter(proofs=can))
    narrower = charter(
        credentials=(KEY._replace(limits=()),), grants=(GRANT._replace(until=NOW + timedelta(days=9)),), proofs=can
    )
    told = [(s.id.verb, s.facet, s.generation) for s in fake.compare(narrower).steps]
    assert told == [
        ("make", "grant", 2),
        ("keep", "credential", 2),
        ("make", "credential", 2),
        ("activate", "credential", 2),
        ("prove", "grant", 1),
        ("end", "grant", 1),
        ("prove", "credential", 2),
        ("end", "credential", 1),
        ("prove", "proof", 1),
    ]
    fake.refusing = True
    fake.enact(narrower)
    assert {r.step.id.verb: str(r.state) for r in fake.results if r.step.facet == "credential"} == {
        "keep": "done",
        "make": "done",
        "activate": "done",
        "prove": "failed",
        "end": "skipped",
    }
    assert sorted(t.value("name") for t in fake.things["credential"]) == ["main", "main-2"]
    fake.refusing = False
    fake.tried = []
    for _ in range(2):
        fake.enact(narrower)
    assert [t.value("name") for t in fake.things["credential"]] == ["main-2"]
    assert [t.value("until") for t in fake.things["grant"]] == [NOW + timedelta(days=9)]
    assert fake.compare(narrower).steps == ()


def test_a_second_generation_that_was_ended_is_followed_by_a_third() -> None:
    fake = Fake()
    for limits, expected in ((("stream.append",), ["main"]), ((), ["main-2"]), (None, []), (("stream.append",), ["main-3"])):
        keys = () if limits is None else (KEY._replace(limits=limits),)
        enacted(fake, charter(credentials=keys))
        assert [t.value("name") for t in fake.things["credential"]] == expected
    assert fake.compare(charter()).steps == ()


@settings(max_examples=examples(100), deadline=None)
@given(charters, st.frozensets(st.sampled_from(["account", "role", "place", "grant", "credential"]), min_size=1))
def test_unknown_never_yields_make(wanted: Charter, blind: frozenset[str]) -> None:
    for began in (False, True):
        fake = Fake()
        fake.enact(wanted, most=1000 if began else 0)
        fake.blind = blind
        outline = fake.compare(charter((GrantWant("reader", "root/b"),), (TOKEN,), "New"))
        made = {s.action.kind.name for s in outline.steps if isinstance(s.action, Make)}
        # a principal that is surely not there yet has surely no grants and credentials
        assert not made & (blind if began else blind & {"account"})
        assert "grant" not in made or not blind & {"role", "place"}
        if "account" in blind:
            assert outline.changes == ()
            assert any(n.code == "unknown" for n in outline.notes)


@settings(max_examples=examples(100), deadline=None)
@given(charters)
def test_what_sigillum_did_not_make_is_never_ended_or_changed(wanted: Charter) -> None:
    fake = Fake()
    fake.enact(wanted)
    who = fake.things["account"][0].id
    strange = [
        thing("grant", "theirs", principal=who, role="keeper", place="root/b"),
        thing("credential", "theirs-too", principal=who, name="spare", active=True, type="key-pair"),
    ]
    for one in strange:
        fake.things[one.kind.name].append(one)
    outline = fake.enact(charter((GrantWant("reader", "root"),), ()))
    assert {n.code for n in outline.notes} >= {"grant-extra", "credential-extra"}
    for one in strange:
        assert one in fake.things[one.kind.name]


def test_the_order_and_what_needs_what() -> None:
    fake = Fake()
    kinds = enacted(fake, charter(credentials=(KEY, TOKEN), proofs=(ProofWant(False, "stream.delete", "root/a"),)))
    assert kinds == [
        ("make", "account"),
        ("make", "grant"),
        ("keep", "credential"),
        ("make", "credential"),
        ("change", "credential"),
        ("make", "credential"),
        ("keep", "credential"),
        ("change", "credential"),
        ("prove", "proof"),
    ]
    assert enacted(fake, charter(credentials=(KEY, TOKEN), proofs=(ProofWant(False, "stream.delete", "root/a"),))) == []
    assert enacted(fake, charter(credentials=(KEY, TOKEN), proofs=(ProofWant(True, "stream.read", "root/a"),))) == [
        ("prove", "proof")
    ]


def sid(name: str) -> StepId:
    return StepId(Mark("f", "t", (("name", name),)), 1, "make")


def test_steps_in_a_circle_are_a_mistake() -> None:
    one, two = (Step(sid(i), StepKind.MAKE, i, Make(GRANTS, {}), needs=(sid(n),)) for i, n in (("a", "b"), ("b", "a")))
    with pytest.raises(ValueError, match="circle"):
        ordered([one, two])


def test_a_tenant_where_credentials_are_born_active() -> None:
    fake = Fake(profile=dataclasses.replace(PROFILE, born_inactive=False))
    assert enacted(fake, charter(credentials=(TOKEN,)))[-2:] == [("make", "credential"), ("keep", "credential")]
    assert fake.compare(charter(credentials=(TOKEN,))).steps == ()


@pytest.mark.parametrize(
    ("delivery", "expected"), [("sealed", ["keep", "change"]), ("once", ["end", "make", "keep", "change"])]
)
def test_a_token_whose_secret_was_not_caught(delivery: str, expected: list[str]) -> None:
    fake = Fake(profile=dataclasses.replace(PROFILE, secret_delivery=delivery))
    wanted = charter(credentials=(TOKEN,))
    fake.enact(wanted, most=3)
    assert [str(s.kind) for s in fake.compare(wanted).steps] == expected
    fake.enact(wanted)
    assert fake.compare(wanted).steps == ()


def test_an_ended_credential_gets_a_new_generation_and_a_due_one_a_warning() -> None:
    fake = Fake()
    wanted = charter()
    enacted(fake, wanted)
    until = fake.things["credential"][0].value("until")
    assert until == NOW + timedelta(days=90)
    until = format_instant(until)
    fake.pass_(80 * DAY)
    assert [(s.about, s.why) for s in fake.compare(wanted).steps] == [
        ("credential main: rotate it", f"it ends in 10d, at {until}")
    ]
    fake.pass_(10 * DAY - 1)
    assert fake.compare(wanted).notes == ()
    fake.pass_(1)  # the very second
    assert [s.why for s in fake.compare(wanted).steps if s.kind is StepKind.MAKE] == [
        f"a new generation, since it ended at {until}"
    ]
    enacted(fake, wanted)
    assert [t.value("name") for t in fake.things["credential"]] == ["main-2"]


def test_the_wrong_key_at_the_tenant_is_replaced() -> None:
    fake = Fake()
    enacted(fake, charter())
    fake.held["main", 1] = "another"
    assert [str(s.kind) for s in fake.compare(charter()).steps] == ["end", "keep", "make", "change"]


def test_what_was_begun_is_made_with_the_same_name_and_end() -> None:
    fake = Fake()
    wanted = charter((GrantWant("writer", "root/a", "why", lasts_seconds=600),))
    fake.enact(wanted, most=2)
    grant = fake.things["grant"].pop()
    fake.ledger.kept = [e for e in fake.ledger.kept if e.kind != "outcome" or e.sequence < 4]
    fake.pass_(300)
    step = next(s for s in fake.compare(wanted).steps if s.facet == "grant")
    assert isinstance(step.action, Make)
    assert grant.mark == ours(step.mark)
    assert step.action.part["until"] == grant.value("until")
    assert step.why == "begun earlier, and the answer was not caught"
    fake.things["grant"].append(grant)  # it had arrived after all
    assert [str(s.kind) for s in fake.compare(wanted).steps if s.facet == "grant"] == ["keep"]
    fake.enact(wanted)
    assert fake.compare(wanted).steps == ()
    fake.pass_(301)
    assert [n.code for n in fake.compare(wanted).notes] == ["grant-ended"]


def test_made_and_not_shown_yet_is_waited_for_and_later_counts_as_gone() -> None:
    fake = Fake(profile=dataclasses.replace(PROFILE, arrival_seconds=30))
    wanted = charter()
    enacted(fake, wanted)
    for kind in ("account", "grant", "credential"):
        fake.hidden = {fake.things[kind][0].id}
        outline = fake.compare(wanted)
        assert [str(s.kind) for s in outline.steps][:1] == ["wait"], kind
        fake.now += timedelta(seconds=36)
        assert "gone" in [n.code for n in fake.compare(wanted).notes]
        fake.now -= timedelta(seconds=36)
    fake.profile = dataclasses.replace(PROFILE, arrival_seconds=None)
    fake.now += timedelta(seconds=604)
    assert [str(s.kind) for s in fake.compare(wanted).steps][:1] == ["wait"]


def test_a_taken_name_and_adopting_it() -> None:
    fake = Fake()
    fake.things["account"].append(thing("account", "theirs", name="wind", display="Theirs", active=True))
    outline = fake.compare(charter())
    assert outline.blocked
    assert [c.matches for c in outline.collisions] == [False]
    assert enacted(fake, charter(), adopt=True)[:2] == [("keep", "account"), ("change", "account")]
    assert fake.compare(charter()).steps == ()
    assert fake.things["account"][0].id == "theirs"


# the window that is wanted, and the one of a grant that somebody else made, in days from now: is it taken over as it stands?
@pytest.mark.parametrize(
    ("want", "until", "start", "taken"),
    [
        ({"lasts_seconds": 30 * 86_400}, 20, None, True),
        ({"lasts_seconds": 30 * 86_400}, 30, -1, True),
        ({"lasts_seconds": 30 * 86_400}, 31, None, False),
        ({"lasts_seconds": 30 * 86_400}, None, None, False),
        ({"lasts_seconds": 30 * 86_400}, 20, 1, False),
        ({"lasts_seconds": 30 * 86_400}, -1, None, False),
        ({"until": NOW + timedelta(days=9)}, 9, None, True),
        ({"until": NOW + timedelta(days=9)}, 8, None, False),
        ({}, None, None, True),
        ({}, 9, None, False),
    ],
)
def test_a_grant_with_a_window_is_taken_over(want: dict[str, Any], until: int | None, start: int | None, taken: bool) -> None:
    fake, asked = Fake(), charter((GRANT._replace(**want),), ())
    enacted(fake, asked)
    fake.ledger.kept.clear()
    ends, begins = (NOW + timedelta(days=d) if d is not None else None for d in (until, start))
    fake.things["grant"][:] = [r.with_(until=ends, start=begins)._replace(mark="") for r in fake.things["grant"]]
    assert (("keep", "grant") in enacted(fake, asked, adopt=True), len(fake.things["grant"])) == (taken, 1 if taken else 2)
    assert fake.compare(asked).steps == ()
    fake.now += timedelta(days=1)
    assert fake.compare(asked).steps == ()


def test_a_standing_grant_is_left_alone_and_one_with_another_end_is_told() -> None:
    fake = Fake()
    enacted(fake, charter((), ()))
    who = fake.things["account"][0].id
    for until, codes, steps in ((None, ["grant-stands"], 0), (datetime(2028, 1, 1, tzinfo=UTC), ["grant-beside"], 1)):
        fake.things["grant"] = [thing("grant", "theirs", principal=who, role="writer", place="root/a", until=until)]
        outline = fake.compare(charter((GRANT,), ()))
        assert [n.code for n in outline.notes] == codes
        assert len(outline.steps) == steps


TRUSTS = dataclasses.replace(
    PROFILE, carries={**PROFILE.carries, "trust": frozenset(TRUST.fields) - {"principal_name"}}, powers=None
)
VALLEY = TrustWant(
    Trust(
        "valley", "https://valley.example", "summit", subject="4712:reader", when=(Condition(("account",), "equals", "4712"),)
    )
)


def test_trusts_are_made_replaced_and_ended_and_strangers_stay() -> None:
    fake, wanted = Fake(profile=TRUSTS), charter((), (), trusts=(VALLEY,))
    assert ("make", "trust") in enacted(fake, wanted)
    [shown] = fake.things["trust"]
    assert (shown.body.subject, shown.body.when, shown.body.terms) == (
        "4712:reader",
        ('{"claim":["account"],"equals":"4712"}',),
        VALLEY.trust,
    )
    assert fake.compare(wanted).steps == ()
    other = VALLEY._replace(trust=VALLEY.trust._replace(subject="4712:other", acts_as=("name",)))
    outline = fake.compare(charter((), (), trusts=(other,)))
    assert [(str(s.kind), s.generation) for s in outline.steps] == [("make", 2), ("end", 1)]
    fake.enact(charter((), (), trusts=(other,)))
    assert [t.body.subject for t in fake.things["trust"]] == ["4712:other"]
    theirs = thing("trust", "theirs", principal=shown.body.principal, name="elsewhere", issuer="https://elsewhere.example")
    fake.things["trust"].append(theirs)
    assert "trust-extra" in [n.code for n in fake.compare(charter((), (), trusts=(other,))).notes]
    enacted(fake, charter((), ()))  # none is wanted any more
    assert fake.things["trust"] == [theirs]
    fake = Fake(profile=TRUSTS)
    enacted(fake, charter((), ()))
    [account] = fake.things["account"]
    fake.things["trust"] = [shown.with_(principal=account.id)._replace(id="theirs", mark="")]
    assert "trust-stands" in [n.code for n in fake.compare(wanted).notes]
    assert [(str(s.kind)) for s in fake.compare(wanted, adopt=True).steps] == ["keep"]
    wide = VALLEY._replace(trust=VALLEY.trust._replace(name="wide", subject="", when=()))
    assert "all-of-issuer" in [n.code for n in fake.compare(charter((), (), trusts=(wide,))).notes]
    bare = Fake(profile=dataclasses.replace(PROFILE, carries={n: f for n, f in PROFILE.carries.items() if n != "trust"}))
    assert any("trusts of wind can never stand" in n.text for n in bare.compare(wanted).notes)
    assert words(Mark("trust", "away", (("name", "valley"),))) == "the trust valley"


def test_where_one_has_one_role_at_a_place_only_our_own_gives_way() -> None:
    fake = Fake(profile=dataclasses.replace(PROFILE, levels=True))
    enacted(fake, charter((GrantWant("reader", "root/a"),), ()))
    [mine] = fake.things["grant"]
    outline = fake.compare(charter((GRANT,), ()))
    made = next(s.action for s in outline.steps if isinstance(s.action, Make))
    assert (made.part["over"], [str(s.kind) for s in outline.steps]) == ("reader", ["make", "end"])
    for role, loan, code, steps in (("writer", "", "level-taken", 0), ("writer", "4f2a", "level-lent", 0)):
        other = mine.with_(role=role)._replace(id="theirs", mark="")
        fake.things["grant"], fake.books.loans = [other], {"theirs": loan} if loan else {}
        outline = fake.compare(charter((GrantWant("reader", "root/a"),), ()))
        assert (code in [*(n.code for n in outline.notes), *(m.code for m in outline.mistakes)], len(outline.steps)) == (
            True,
            steps,
        )
    both = fake.compare(charter((GRANT, GrantWant("reader", "root/a")), ()))
    assert {m.code for m in both.mistakes} == {"level-twice"}


@pytest.mark.parametrize(
    ("wanted", "codes"),
    [
        (charter((GrantWant("riter", "root/a"),), ()), ["role-unknown"]),
        (charter((GrantWant("reader", "root/c"),), ()), ["place-unknown"]),
        (charter((GrantWant("reader", "rot/c"),), ()), ["place-not-in-tree"]),
        (charter((GrantWant("reader", "rot"),), ()), ["place-unknown"]),
        (charter((GrantWant("writer", "root/a"),), ()), ["because-missing"]),
        (charter((GrantWant("reader", "root/a"),), ()), []),
        (charter((GRANT,), (KEY._replace(lasts_seconds=181 * DAY),)), ["life-tenant"]),
        (charter((GRANT,), (KEY._replace(limits=("stream.delete",)),)), ["limits-wider"]),
        (charter((GRANT,), tuple(TOKEN._replace(name=f"t{n}") for n in range(5))), ["keys-too-many"]),
    ],
)
def test_what_only_the_tenant_knows_to_be_wrong(wanted: Charter, codes: list[str]) -> None:
    outline = Fake().compare(wanted, HouseRules())
    assert [m.code for m in outline.mistakes] == codes
    assert outline.blocked == bool(codes)
    assert all(m.mend for m in outline.mistakes)


def test_each_step_goes_to_somebody_who_has_its_power_or_becomes_a_request() -> None:
    outline = Fake().compare(charter())
    hands = [
        Hand("watch", frozenset({"look"})),
        Hand("ada", frozenset({"accounts"})),
        Hand("nils", frozenset({"grants"}), here=False, contact="nils@example"),
    ]
    given = assign(outline, {"away": hands})
    told = {s.facet: (s.kind, s.by) for s in given.steps if s.power}
    assert told == {"account": (StepKind.MAKE, "ada"), "grant": (StepKind.ASK, ""), "credential": (StepKind.ASK, "")}
    asked = {s.facet: s.action for s in given.steps if isinstance(s.action, Ask)}
    assert (asked["grant"].to, asked["credential"].to, asked["grant"].contact) == ("nils", "", "nils@example")
    assert isinstance(asked["grant"].action, Make)
    assert [n.code for n in given.notes] == ["other-hand", "power-lacking", "power-lacking"]
    assert [s.needs for s in given.steps] == [s.needs for s in outline.steps]
    assert assign(outline, {"away": [Hand("all")]}) == outline == assign(outline, {})


def test_a_plain_server_without_our_types() -> None:
    fake = Fake(
        profile=dataclasses.replace(PROFILE, carries={"account": frozenset(("name", "display", "active"))}),
        blind=frozenset({"role", "place"}),
    )
    outline = fake.compare(charter())
    assert "purpose" not in outline.steps[0].after
    assert [n.code for n in outline.notes] == ["never-here", "never-here", "never-shown"]
    assert [s.facet for s in outline.steps] == ["account"]


def team(**more: Any) -> Charter:
    return charter(
        (GrantWant("reader", "root/a"),), (), identity=Identity("team", "guild", "guild", reach=more.pop("reach", None)), **more
    )


def test_a_team_its_members_and_leaving_them() -> None:
    fake = Fake()
    fake.things["account"].append(thing("account", "a-mara", name="mara", active=True))
    wanted = team(members=(MemberWant("mara"), MemberWant("crew")))
    assert enacted(fake, wanted) == [("make", "account"), ("make", "membership"), ("make", "membership"), ("make", "grant")]
    guild = next(t for t in fake.things["team"] if t.value("name") == "guild")
    assert (guild.value("members"), guild.value("reach")) == (("a-mara", "t-crew"), ("root/a",))
    assert fake.compare(wanted).steps == ()
    assert enacted(fake, team(reach=("root/b",), members=(MemberWant("mara"),))) == [
        ("change", "account"),
        ("end", "membership"),
    ]
    assert [m.code for m in fake.compare(team(members=(MemberWant("nobody"),))).mistakes] == ["member-unknown"]
    fake.blind = frozenset({"account", "team"})
    assert {n.code for n in fake.compare(team(members=(MemberWant("mara"),))).notes} == {"unknown"}


def test_membership_made_and_not_shown_or_not_answered() -> None:
    fake = Fake(profile=dataclasses.replace(PROFILE, arrival_seconds=30))
    wanted = charter((), (), member_of=(MemberWant("crew"),))
    enacted(fake, wanted)
    crew = fake.things["team"][0]
    fake.things["team"][0] = crew.with_(members=())
    assert [str(s.kind) for s in fake.compare(wanted).steps] == ["wait"]
    fake.pass_(60)
    assert [(str(s.kind), s.generation) for s in fake.compare(wanted).steps] == [("make", 2)]
    fake.things["team"][0] = crew
    fake.ledger.kept = fake.ledger.kept[:-1]  # the answer was not caught
    assert [str(s.kind) for s in fake.compare(wanted).steps] == ["keep"]
    fake.blind = frozenset({"team"})
    assert [n.code for n in fake.compare(wanted).notes] == ["unknown"]
    fake.blind = frozenset()
    stranger = dataclasses.replace(wanted, member_of=(MemberWant("choir"),))
    assert [m.code for m in fake.compare(stranger).mistakes] == ["team-unknown"]
    fake.charters = frozenset({"choir"})
    assert [str(s.kind) for s in fake.compare(stranger).steps] == ["ask", "end"]
    assert "ask" in [str(s.kind) for s in fake.compare(team(members=(MemberWant("choir"),))).steps]


def test_roles_services_and_what_is_wrong_with_them() -> None:
    fake = Fake()
    fake.things["role"].append(
        thing("role", "r-x", name="looker", display="Theirs", permissions=(("stream.append", "changes-data"),))
    )
    assert [c.kind.name for c in fake.compare(charter(roles=(OWN,))).collisions] == ["role"]
    fake.things["role"][-1] = thing("role", "r-x", name="looker", display="Theirs", permissions=(("stream.read", "looks"),))
    assert "role" not in [s.facet for s in fake.compare(charter(roles=(OWN,))).steps]  # it stands as wanted, and is not ours
    strange = charter(
        roles=(OWN._replace(permissions=("stream.rad",)),),
        services=(ServiceWant("shop", "root/a"), ServiceWant("store", "root/c")),
    )
    assert [m.code for m in fake.compare(strange).mistakes] == ["permission-unknown", "service-unknown", "place-unknown"]
    fake.blind = frozenset({"place", "role"})
    assert [n.code for n in fake.compare(charter(roles=(OWN,), services=(ServiceWant("store", "root/a"),))).notes] == [
        "unknown"
    ] * 3
    fake = Fake(profile=dataclasses.replace(PROFILE, arrival_seconds=30))
    enacted(fake, charter(roles=(OWN,), services=(ServiceWant("store", "root/a"),)))
    assert [n.code for n in fake.compare(charter(roles=(OWN,))).notes] == ["service-stays"]
    fake.hidden = {t.id for t in fake.things["role"] if t.value("name") == "looker"}
    assert [str(s.kind) for s in fake.compare(charter(roles=(OWN,))).steps] == ["wait"]


def test_grants_to_others_extra_ones_slow_ones_and_failed_ones() -> None:
    fake = Fake()
    fake.things["account"].append(thing("account", "a-mara", name="mara", active=True))
    act = GrantWant("writer", "self", "acts", to="mara")
    enacted(fake, charter((GRANT, act), ()))
    assert fake.compare(charter((GRANT, act), ())).steps == ()
    assert [t.value("principal") for t in fake.things["grant"]] == ["a1", "a-mara"]
    assert [(str(s.kind), s.about) for s in fake.compare(charter((GRANT,), ())).steps] == [
        ("end", "grant of writer at itself to mara")
    ]
    assert [m.code for m in fake.compare(charter((act._replace(to="nobody"),), ())).mistakes] == ["principal-unknown"]
    own = fake.things["grant"][0]
    for progress, kinds in (("accepted", ["wait"]), ("failed", ["end", "make"]), ("ready", [])):
        fake.things["grant"][0] = own._replace(progress=progress)
        assert [str(s.kind) for s in fake.compare(charter((GRANT, act), ())).steps] == kinds
    for until, code in ((None, True), (datetime(2020, 1, 1, tzinfo=UTC), False)):
        fake.things["grant"].append(thing("grant", "theirs", principal="a1", role="keeper", place="root/b", until=until))
        assert [
            n.warning for n in fake.compare(charter((GRANT, act), ())).notes if n.code in ("grant-extra", "grant-ended")
        ] == [code]
        assert [(s.mark.get("extra"), s.unasked) for s in fake.compare(charter((GRANT, act), ()), end_extra=True).steps] == [
            ("theirs", True)
        ]
        fake.things["grant"].pop()
    account = fake.things["account"][1]
    for progress, kinds in (("accepted", ["wait"]), ("failed", ["end", "make", "make"])):
        fake.things["account"][1] = account._replace(progress=progress)
        assert [str(s.kind) for s in fake.compare(charter((GRANT, act), ())).steps][:3] == kinds


def test_what_speaks_against_a_grant() -> None:
    fake = Fake(profile=dataclasses.replace(PROFILE, windows_on_broad=False, windows_on_everyone=False, felt_seconds=900))
    fake.things["role"] += [
        thing("role", "r-b", name="boss", breadth="broad", permissions=(("stream.read", "looks"),)),
        thing("role", "r-k", name="kind", grantable_at=("project",), permissions=(("stream.read", "looks"),)),
    ]
    fake.things["team"].append(thing("team", "t-all", name="all", members=(), everyone=True))
    fake.things["place"][1] = thing("place", "p-root/a", path="root/a", type="project", services=())
    for grant, codes in (
        (GrantWant("boss", "root", lasts_seconds=600), ["window-broad"]),
        (GrantWant("boss", "root"), []),
        (GrantWant("kind", "root/a/one"), ["role-not-grantable"]),
        (GrantWant("kind", "root/b"), ["role-not-grantable"]),
        (GrantWant("kind", "root/a"), []),
        (GrantWant("reader", "self", lasts_seconds=6000, to="all"), ["window-everyone"]),
        (GrantWant("reader", "root", until=NOW - timedelta(seconds=1)), ["window-past"]),
    ):
        assert [m.code for m in fake.compare(charter((grant,), ())).mistakes] == codes
    assert [n.code for n in fake.compare(charter((GrantWant("reader", "root", lasts_seconds=60),), ())).notes] == [
        "window-before-arrival"
    ]
    both = charter((GrantWant("keeper", "root/a", lasts_seconds=6000), GrantWant("reader", "root")), ())
    assert [n.code for n in fake.compare(both).notes] == ["window-partly-without-effect", "service-off"]
    assert [
        n.code
        for n in fake.compare(
            charter((GrantWant("reader", "root/a", lasts_seconds=6000), GrantWant("reader", "root")), ())
        ).notes
    ] == ["window-without-effect"]


def test_an_account_that_can_do_nothing_yet_is_shown_as_such() -> None:
    fake = Fake()
    assert [n.code for n in fake.compare(charter((), ())).notes] == ["can-nothing"]
    enacted(fake, charter((), ()))
    assert [n.code for n in fake.compare(charter((), ())).notes] == ["can-nothing"]
    fake.things["team"][0] = fake.things["team"][0].with_(members=("a1",))
    assert [n.code for n in fake.compare(charter((), ())).notes] == ["team-extra"]  # somebody else put it there
    fake.books.joining = {("t-crew", "wind")}
    assert fake.compare(charter((), ())).notes == ()


@pytest.mark.parametrize("what", [KEY, TOKEN, "account", "grant"])
def test_a_copied_workspace_takes_nothing_that_the_original_made(what: Any) -> None:
    def wanted(**more: Any) -> Charter:
        keys = (what,) if isinstance(what, CredentialWant) else ()
        return charter(credentials=tuple(k._replace(**more) for k in keys), grants=(GRANT,) if what != "account" else ())

    original = Fake()
    if what != "account":
        original.enact(wanted() if what != "grant" else charter((), ()))
    copy = Fake(things=original.things, ledger=Chain(), held=dict(original.held), refusing=True)
    copy.ledger.kept = list(original.ledger.kept)
    original.enact(wanted(limits=("stream.read",)) if what != "account" else charter((), ()))
    before = {n: list(r) for n, r in original.things.items()}
    for _ in range(2):  # neither at once nor at the next run
        copy.compare(wanted(limits=("stream.read",)))
        outline = copy.enact(wanted(limits=("stream.read",))) if what != "account" else copy.compare(charter((), ()))
        told = [str(r.error) for r in copy.results if r.error is not None]
        assert any("another copy of this workspace made it" in t for t in told) or outline.collisions or what == "grant", (
            outline
        )
        assert original.things == before
    original.refusing = False
    assert not original.compare(
        wanted(limits=("stream.read",)) if what != "account" else charter((), ())
    ).changes  # its own go on


def test_a_key_that_is_not_here_is_no_lost_one_until_somebody_says_so() -> None:
    """Another copy of the workspace may keep it: what serves is neither replaced nor ended."""
    fake = Fake()
    fake.enact(charter(credentials=(KEY,)))
    fake.held.clear()
    assert [(s.kind, s.id.verb) for s in fake.compare(charter(credentials=(KEY,))).steps] == [(StepKind.ASK, "lost")]
    lost = fake.compare(charter(credentials=(KEY,)), lost=True)
    assert [s.id.verb for s in lost.steps if s.facet == "credential"][:1] == ["end"]
    there = fake.things["credential"]
    there[:] = [r.with_(active=False) for r in there]  # nobody can use it
    assert "lost" not in [s.id.verb for s in fake.compare(charter(credentials=(KEY,))).steps]


def test_off_on_and_off_again_by_others_is_no_draft_of_ours() -> None:
    fake = Fake(profile=dataclasses.replace(PROFILE, accounts_drafted=True))
    fake.stamped = True
    fake.enact(charter((), ()), most=1)  # made, and not switched on yet
    account = fake.things["account"][0] = fake.things["account"][0].with_(active=False)
    assert [s.kind for s in fake.compare(charter((), ())).steps][:1] == [StepKind.CHANGE]
    fake.things["account"][0] = account._replace(modified="2027-03-01T12:01:00Z")  # the version is the same again
    fake.pass_(600)
    assert [s.kind for s in fake.compare(charter((), ())).steps] == [StepKind.ASK]


def test_members_and_rights_over_it_that_others_made_are_told() -> None:
    fake, guild = Fake(), team()
    fake.things["account"].append(thing("account", "a-kai", name="kai", active=True))
    fake.enact(guild)
    identity = next(t for t in fake.things["team"] if t.value("name") == "guild").id
    fake.things["team"] = [t.with_(members=("a-kai",)) if t.id == identity else t for t in fake.things["team"]]
    assert [n.text for n in fake.compare(guild).notes if n.code == "member-extra"] == [
        "extra: kai is in guild, and no charter asks for it"
    ]
    assert [(s.kind, s.unasked) for s in fake.compare(guild, end_extra=True).steps if s.facet == "membership"] == [
        (StepKind.END, True)
    ]
    fake.books.joining = {("a-kai", "guild")}  # another charter joined it
    assert not [n for n in fake.compare(guild).notes if n.code == "member-extra"]
    fake = Fake()
    fake.enact(charter())
    identity = fake.things["account"][0].id
    fake.things["grant"].append(
        thing("grant", "g-x", principal="a-kai", principal_name="kai", role="actor", place=f"@{identity}")
    )
    assert [n.text for n in fake.compare(charter()).notes if n.code == "grant-extra"] == [
        "extra: actor over wind itself to kai, without end: no charter and no loan wants it"
    ]


def test_a_broad_role_where_a_narrow_one_serves_is_told_with_what_it_would_take_away() -> None:
    fake = Fake()
    fake.things["role"].append(
        thing(
            "role",
            "r-b",
            name="boss",
            breadth="broad",
            permissions=(("stream.read", "looks"), ("stream.append", "changes-data"), ("stream.delete", "changes-data")),
        )
    )
    boss = GrantWant("boss", "root/a")

    def told(*proofs: ProofWant, grant: GrantWant = boss) -> list[str]:
        return [n.text for n in fake.compare(charter((grant,), (), proofs=proofs)).notes if n.code == "narrower-role"]

    read, append = ProofWant(True, "stream.read", "root/a/one"), ProofWant(True, "stream.append", "root/a")
    assert ["reader holds all" in t and "2 permissions (stream.append, stream.delete)" in t for t in told(read)] == [True]
    assert ["writer holds all" in t for t in told(read, append)] == [True]
    assert told() == told(ProofWant(True, "stream.read", "root/b")) == told(read, grant=GrantWant("keeper", "root/a")) == []
