"""Accounts of programs: areas, drafts, passwords, licences, sign-in rules; and the sheet that is handed over."""

from __future__ import annotations

import dataclasses
from datetime import date
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examples
from core.fake import PROFILE, Fake, thing
from sigillum.core.charter.charter import Charter, CredentialWant, GrantWant, Identity, ProofWant, ServiceWant
from sigillum.core.charter.rules import HouseRules
from sigillum.core.charter.sheet import Sheet, SheetLine, content_of, fill
from sigillum.core.charter.wants import ExemptWant, RelaxWant, RuleWant, SigningWant, SignInWant
from sigillum.core.deciding.sign_in import (
    Account,
    Attempt,
    CompiledRule,
    account_of,
    as_context,
    decide,
    inside,
    losing,
    rule_of,
)
from sigillum.core.facets.registry import check
from sigillum.core.facets.sign_in.check import check as check_sign_in
from sigillum.core.kinds.profile import Precondition, Price
from sigillum.core.kinds.signing import Exemption
from sigillum.core.values.secret import Secret
from sigillum.core.values.times import parse_instant

DAY = 86_400
WORD = CredentialWant("word", "password", 90 * DAY, 14 * DAY)
EXEMPT = SignInWant(("10.0.0.0/8",), ExemptWant("default", "mara", "nobody there", date(2099, 1, 1)))


def robot(identity: Identity | None = None, **more: Any) -> Charter:
    return Charter(
        "robot", "away", "test", "x", "m@x.example", identity or Identity("service-account", "robot", "Robot"), **more
    )


def outline(fake: Fake, wanted: Charter) -> Any:
    return fake.compare(wanted, HouseRules())


stories = st.builds(
    robot,
    st.sampled_from([Identity("service-account", "robot", d, mailbox=m) for d in ("Robot", "Bot") for m in (True, False)]),
    credentials=st.sampled_from([(), (WORD,), (WORD._replace(source="env:X"),)]),
    licence=st.just("seat"),
    sign_in=st.sampled_from(
        [
            None,
            SignInWant(),
            SignInWant(("10.0.0.0/8",)),
            EXEMPT,
            EXEMPT._replace(networks=("10.1.0.0/16",)),
            EXEMPT._replace(networks=()),
        ]
    ),
    grants=st.sampled_from([(), (GrantWant("reader", "root/a"),)]),
)


@settings(max_examples=examples(110), deadline=None)
@given(st.lists(st.tuples(stories, st.integers(0, 12)), min_size=1, max_size=4), st.booleans())
def test_accounts_end_as_wished_wherever_it_stopped(story: list[tuple[Charter, int]], drafted: bool) -> None:
    fake = Fake(profile=dataclasses.replace(PROFILE, accounts_drafted=drafted, powers=None))
    for wanted, most in story:
        fake.enact(wanted, most=most)
        for _ in range(3):
            fake.enact(wanted)
        assert fake.compare(wanted).steps == ()
        (account,) = fake.things["account"]
        rules = {t.value("name"): t for t in fake.things["rule"]}
        want = wanted.sign_in or SignInWant()
        assert [e[0] for e in rules["default"].value("exempt")] == ([account.id] if want.exempt else [])
        assert ("robot-networks" in rules) == bool(want.networks)
        assert not want.networks or rules["robot-networks"].value("networks") == want.networks
        assert [t.value("holders") for t in fake.things["licence"] if t.value("name") == "seat"] == [(account.id,)]
        assert account.value("mailbox") is True or not wanted.identity.mailbox
        assert len(fake.things["credential"]) == len(wanted.credentials)


def test_a_licence_goes_back_and_another_has_to_be_free() -> None:
    fake = Fake()
    fake.enact(robot(licence="seat"))
    fake.enact(robot())
    assert [t.value("holders") for t in fake.things["licence"]] == [(), ()]
    assert [n.code for n in outline(fake, robot(licence="space")).notes if n.code.startswith("licence")] == ["licence-capacity"]
    seat = next(t for t in fake.things["licence"] if t.value("name") == "seat")
    fake.things["licence"] = [seat.with_(holders=("somebody",))]
    box = Identity("service-account", "robot", "Robot", mailbox=True)
    for wanted, code in (
        (robot(licence="seat"), "licence-none-free"),
        (robot(licence="saet"), "licence-unknown"),
        (robot(box, licence="space"), "licence-unknown"),
    ):
        assert [m.code for m in outline(fake, wanted).mistakes] == [code]
    fake.things["licence"] += [t for t in Fake().things["licence"] if t.value("name") == "space"]
    assert [m.code for m in outline(fake, robot(box, licence="space")).mistakes] == ["licence-mailbox"]
    fake.blind = frozenset({"licence", "rule"})
    assert [n.code for n in outline(fake, robot(licence="seat", sign_in=EXEMPT)).notes if n.code == "unknown"] == [
        "unknown",
        "unknown",
    ]


def test_rules_that_cannot_be_and_what_is_said_of_them() -> None:
    fake = Fake()
    exempt = EXEMPT.exempt
    assert exempt is not None
    for want, code in (
        (EXEMPT._replace(exempt=exempt._replace(rule="defualt")), "rule-unknown"),
        (EXEMPT._replace(exempt=exempt._replace(rule="fixed")), "rule-not-narrowable"),
    ):
        assert [m.code for m in outline(fake, robot(sign_in=want)).mistakes] == [code]
    late = robot(credentials=(WORD,), sign_in=SignInWant((), exempt._replace(review=date(2020, 1, 1))))
    assert {n.code for n in outline(fake, late).notes} == {"review-overdue", "exemption-open", "sign-in-stopped", "can-nothing"}
    fake.things["account"] = [
        thing(
            "account",
            "a1",
            name="robot",
            display="Robot",
            active=True,
            type="service-account",
            purpose="x",
            owner="m@x.example",
            stage="test",
            methods=("phone",),
            second_factor="off",
        )
    ]
    fake.enact(robot(sign_in=SignInWant()), adopt=True)
    assert fake.things["account"][0].value("methods") == ()
    how: list[tuple[dict[str, Any], bool]] = [
        ({}, True),
        ({"second_factor": True}, False),
        ({"interactive": True, "device": True}, True),
    ]
    for more, stopped in how:
        said = [n for n in outline(fake, robot(sign_in=SignInWant()._replace(**more))).notes if n.code == "sign-in-stopped"]
        assert [("like that" in n.text) for n in said] == [bool(more)] * stopped
    assert "switch-misleads" in [n.code for n in outline(fake, robot(sign_in=SignInWant())).notes]


def test_words_about_signing_in_are_demands() -> None:
    """Each is reached, or demanded by a rule that stands, or the charter is refused."""
    alone = robot(sign_in=SignInWant(interactive=False))
    fake = Fake()
    fake.enact(alone)
    (rule,) = [t.body for t in fake.things["rule"] if t.value("name") == "robot-unattended"]
    assert (rule.blocks, rule.applies_to, rule.targets) == (True, "interactive", (fake.things["account"][0].id,))
    assert outline(fake, alone).changes == ()
    at = next(n for n, t in enumerate(fake.things["rule"]) if t.body is rule)
    fake.things["rule"][at] = fake.things["rule"][at]._replace(body=rule._replace(blocks=False))
    (step,) = outline(fake, alone).changes
    assert (step.id.verb, step.before, step.after) == ("change", {"blocks": False}, {"blocks": True})
    assert "robot-unattended" in [s.about.split()[-1] for s in outline(fake, robot(sign_in=SignInWant())).changes]
    fields = dict(PROFILE.carries, rule=PROFILE.carries["rule"] - {"blocks"})
    poor = Fake(profile=dataclasses.replace(PROFILE, carries=fields))
    assert [m.code for m in outline(poor, alone).mistakes] == ["sign-in-rule"]
    for word in ("device", "second_factor"):
        more: dict[str, Any] = {word: True}
        asked, fake = robot(sign_in=SignInWant(**more)), Fake()
        fake.things["rule"] = []
        assert [m.code for m in outline(fake, asked).mistakes] == ["sign-in-undemanded"]
        fake.things["rule"] = [thing("rule", "s", name="all", everyone=True, demands=(word.replace("_", "-"),))]
        assert outline(fake, asked).mistakes == ()


def test_a_tenant_wide_rule_is_switched_off_only_where_nobody_loses_and_on_again_afterwards() -> None:
    fake = Fake()
    fake.things["account"] = [thing("account", n, name=n, active=True) for n in ("ann", "bob")]
    relax = RelaxWant("fixed", "mara", "on or off", date(2099, 1, 1), "people")
    wanted = robot(sign_in=SignInWant((), None, relax))
    fake.things["rule"] = [t for t in fake.things["rule"] if t.value("name") != "default"]
    (mistake,) = outline(fake, wanted).mistakes
    assert (mistake.code, "ann, bob" in mistake.what) == ("protection-lost", True)
    crew = fake.things["team"][0]
    fake.things["team"][0] = crew.with_(members=("ann", "bob"))
    fake.enact(wanted)
    assert [t.value("enabled") for t in fake.things["rule"] if t.value("name") == "fixed"] == [False]
    assert fake.compare(wanted).steps == ()
    people = next(t for t in fake.things["rule"] if t.value("name") == "people")
    off = people.with_(enabled=False)
    fake.things["rule"] = [off if t.id == people.id else t for t in fake.things["rule"]]
    assert (outline(fake, wanted).mistakes, "protection-lost" in [n.code for n in outline(fake, wanted).notes]) == ((), True)
    fake.things["rule"] = [people if t.id == people.id else t for t in fake.things["rule"]]
    fake.things["account"] += [
        thing("account", f"n{n}", name=f"new-{n:02}", active=True) for n in range(12)
    ]  # who joined since
    drift = outline(fake, wanted)
    (note,) = (n for n in drift.notes if n.code == "protection-lost")
    assert (drift.mistakes, note.warning, note.names) == ((), True, tuple(f"new-{n:02}" for n in range(12)))
    assert "fixed is switched off for this charter, and nothing demands second-factor of 12 accounts" in note.text
    fake.enact(robot())
    assert [t.value("enabled") for t in fake.things["rule"] if t.value("name") == "fixed"] == [True]


def test_a_charter_writes_its_own_rules_before_it_lets_anybody_off() -> None:
    fake = Fake()
    fake.things["account"] = [
        thing("account", n, name=n, active=True, type="service-account" if n == "bot" else "") for n in ("ann", "bob", "bot")
    ]
    fake.things["rule"] = [t for t in fake.things["rule"] if t.value("name") == "fixed"]
    day = date(2099, 1, 1)
    own = RuleWant("ours", ("second-factor",), False, ("ann", "bob"), (), "any", "mara", "people keep theirs", day)
    relax = RelaxWant("fixed", "mara", "on or off", day, "ours")
    wanted = robot(sign_in=SignInWant((), None, relax, rules=(own,)))
    (mistake,) = outline(fake, wanted).mistakes  # the program beside them would lose it, too
    assert (mistake.code, "bot" in mistake.what) == ("protection-lost", True)
    fake.things["account"].pop()
    steps = [s for s in fake.compare(wanted).steps if s.facet == "sign-in"]
    assert [(str(s.kind), s.about.partition(":")[0]) for s in steps] == [
        ("make", "sign-in rule ours"),
        ("change", "tenant-wide sign-in rule fixed"),
    ]
    assert steps[0].id in steps[1].needs
    fake.enact(wanted)
    assert fake.compare(wanted).changes == ()
    weaker = robot(sign_in=SignInWant(rules=(own._replace(of=("ann",)),)))
    notes = {n.code: n.names for n in fake.compare(weaker).notes}
    assert notes["protection-lost"] == ("bob",)
    assert {s.about.partition(":")[0] for s in fake.compare(robot()).steps if s.facet == "sign-in"} == {
        "sign-in rule ours",
        "tenant-wide sign-in rule fixed",
    }
    fake.enact(robot())
    assert [(t.value("name"), t.value("enabled")) for t in fake.things["rule"]] == [("fixed", True)]


def test_what_a_rule_would_stop_is_predicted_and_a_strangers_is_never_overwritten() -> None:
    fake = Fake()
    fake.things["account"] = [thing("account", n, name=n, active=True, type="service-account") for n in ("bot", "cam")]
    fake.things["rule"] = [thing("rule", "s-x", name="taken", everyone=True)]
    all_ = RuleWant("all-second", ("second-factor",), True, (), (), "any", "mara", "everybody", date(2099, 1, 1))
    (note,) = (n for n in fake.compare(robot(sign_in=SignInWant(rules=(all_,)))).notes if n.code == "rule-stops")
    assert note.names == ("bot", "cam")
    for rule, code in (
        (all_._replace(name="taken"), "rule-taken"),
        (all_._replace(everyone=False, of=("nobody-there",)), "rule-of-whom"),
    ):
        assert [m.code for m in outline(fake, robot(sign_in=SignInWant(rules=(rule,)))).mistakes] == [code]
    for wrong, code in (
        ((all_, all_), "rule-twice"),
        ((all_._replace(demands=()),), "rule-demands-nothing"),
        ((all_._replace(of=("ann",)),), "rule-of-whom"),
        ((all_._replace(everyone=False),), "rule-of-whom"),
    ):
        assert {m.code for m in check_sign_in(robot(sign_in=SignInWant(rules=wrong)), HouseRules(), [])} == {code}


@pytest.mark.parametrize(
    ("identity", "profile", "code"),
    [
        ({}, {"accounts_live_in": "box"}, "area-missing"),
        ({"area": "root/a"}, {}, "area"),
        ({"area": "root/a"}, {"accounts_live_in": "box"}, "area"),
        ({"area": "root/none"}, {"accounts_live_in": "box"}, "area"),
        ({"area": "root/a/one"}, {"accounts_live_in": "box"}, ""),
        ({"wide": "cleans"}, {"accounts_live_in": "box"}, ""),
        ({}, {"preconditions": (Precondition("owner", ("account",), False, "ask Mara"),)}, "precondition"),
        ({}, {"preconditions": (Precondition("owner", ("client",), False), Precondition("owner", (), True))}, ""),
    ],
)
def test_where_an_account_lives_and_what_comes_first(identity: dict[str, Any], profile: dict[str, Any], code: str) -> None:
    fake = Fake(profile=dataclasses.replace(PROFILE, **profile))
    found = outline(fake, robot(Identity("service-account", "robot", "Robot", **identity)))
    assert [m.code for m in found.mistakes] == ([code] if code else [])


@pytest.mark.parametrize(
    ("credential", "profile", "code"),
    [
        (WORD, {"credential_kinds": ("api-token",)}, "credential-kind"),
        (WORD._replace(limits=("stream.read",)), {}, "limits-password"),
        (WORD._replace(kind="api-token"), {"limits_compulsory": True}, "limits-missing"),
    ],
)
def test_credentials_that_a_tenant_does_not_take(credential: CredentialWant, profile: dict[str, Any], code: str) -> None:
    fake = Fake(profile=dataclasses.replace(PROFILE, **profile))
    assert code in [
        m.code for m in outline(fake, robot(credentials=(credential,), grants=(GrantWant("reader", "root/a"),))).mistakes
    ]


@pytest.mark.parametrize(("takes", "codes"), [(("trust",), ["sign-in-kind"]), (("password", "trust"), []), ((), [])])
def test_a_kind_of_sign_in_that_a_service_does_not_take_is_refused_before_it_is_made(
    takes: tuple[str, ...], codes: list[str]
) -> None:
    operations = {"stream.read": PROFILE.operations["stream.read"]._replace(takes=takes)}
    fake = Fake(profile=dataclasses.replace(PROFILE, operations=operations))
    wanted = robot(
        credentials=(WORD,), grants=(GrantWant("reader", "root/a"),), proofs=(ProofWant(True, "stream.read", "root/a"),)
    )
    assert [m.code for m in outline(fake, wanted).mistakes] == codes


@pytest.mark.parametrize(
    ("place", "billing", "told"),
    [
        (
            {"billing": "main"},
            "",
            {
                "cost": "store at root/a costs 3 EUR a day in the size small, paid by the billing account main; the nearest place where it is free is east, as of 2027-02-01"
            },
        ),
        (
            {"billing": "main", "location": "east"},
            "other",
            {
                "cost-free": "store at root/a is free in east, as of 2027-02-01",
                "cost-payer": "is paid by main, and the charter says other",
            },
        ),
        (
            {},
            "other",
            {"cost": "which billing account pays is not shown", "cost-payer": "no billing account is shown for root/a"},
        ),
    ],
)
def test_what_something_costs_is_said_beforehand(place: dict[str, Any], billing: str, told: dict[str, str]) -> None:
    prices = (Price("store", "3 EUR a day", "small", ("coast", "east"), "2027-02-01"), Price("seat", "9 EUR"))
    fake = Fake(profile=dataclasses.replace(PROFILE, prices=prices, locations=("west", "east", "coast")))
    fake.things["place"] = [p.with_(**place) if p.body.path == "root" else p for p in fake.things["place"]]
    notes = {
        n.code: n.text
        for n in outline(fake, robot(services=(ServiceWant("store", "root/a"),), billing=billing)).notes
        if n.code.startswith("cost")
    }
    assert notes.keys() == told.keys()
    assert all(told[code] in notes[code] for code in told), notes
    notes = {n.code: n.text for n in outline(fake, robot(licence="seat")).notes if n.code.startswith("cost")}
    assert notes == {"cost": "seat costs 9 EUR, paid by whoever pays for this tenant"}
    fake.profile = dataclasses.replace(
        fake.profile,
        signer="https://away.example/sign",
        prices=tuple(Price("machine", f"{n} EUR", size) for n, size in ((4, "small"), (9, "large"))),
    )
    fake.things["machine"] = [thing("machine", "m-1", name="tower", size="large")]
    notes = {n.code: n.text for n in outline(fake, robot(signing=SigningWant("tower"))).notes if n.code.startswith("cost")}
    assert notes == {"cost": "machine costs 9 EUR in the size large, paid by whoever pays for this tenant"}


def test_what_is_read_back_of_a_password() -> None:
    fake = Fake()
    wanted = robot(credentials=(WORD,), grants=(GrantWant("reader", "root/a"),))
    fake.enact(wanted)
    word = fake.things["credential"][0]
    fake.things["credential"] = [word.with_(must_change=True, expires=False)]
    told = {n.code: n.text for n in outline(fake, wanted).notes}
    assert told["password-expires"].endswith("no")
    assert "strands a program" in told["password-change"]


@pytest.mark.parametrize(
    ("identity", "more", "code"),
    [
        ({"area": "a", "wide": "b"}, {}, "area-and-wide"),
        ({"kind": "foreign", "organisation": "o"}, {"credentials": (WORD,)}, "foreign"),
        ({"kind": "foreign"}, {}, "foreign"),
        ({"web_only": True}, {"credentials": (WORD._replace(kind="key-pair"),)}, "web-only"),
        ({"kind": "client", "area": "a"}, {}, "not-client"),
        ({"kind": "client", "mailbox": True}, {}, "not-client"),
        ({}, {}, ""),
    ],
)
def test_what_contradicts_itself(identity: dict[str, Any], more: dict[str, Any], code: str) -> None:
    made = Identity(**{"kind": "service-account", "name": "robot", "display": "r", **identity})
    assert [m.code for m in check(robot(made, **more), HouseRules(), ["away"])] == ([code] if code else [])


# --- deciding about a sign-in -----------------------------------------------------------------------------------
def test_which_rule_decides_and_what_makes_no_difference() -> None:
    rules = [
        rule_of(thing("rule", n, **f))
        for n, f in (
            ("a", {"name": "off", "enabled": False}),
            ("b", {"name": "night", "targets": ("ring",), "networks": ("10.0.0.0/8",)}),
            ("c", {"name": "people", "targets": ("other",)}),
            ("d", {"name": "seen", "targets": ("x",), "applies_to": "interactive"}),
            ("e", {"name": "stop", "targets": ("x",), "blocks": True, "exempt": (Exemption("x", "by", "w", "r"),)}),
        )
    ]
    one = thing("account", "x", name="x", active=True, second_factor="on")
    account = account_of(one, {"x": ("crew",), "crew": ("ring",)})
    assert account.teams == {"crew", "ring"}
    told = {t.rule: t.state for t in decide(account, rules, Attempt("10.1.1.1", second_factor=True)).told}
    assert told == {
        "off": "makes no difference",
        "night": "met",
        "people": "makes no difference",
        "seen": "makes no difference",
        "stop": "makes no difference",
        "the account's own switch": "met",
    }
    for attempt, rule, demand in (
        (Attempt("11.1.1.1"), "night", "network"),
        (Attempt("10.1.1.1"), "the account's own switch", "second-factor"),
    ):
        verdict = decide(account, rules, attempt)
        assert (verdict.allowed, verdict.rule, verdict.demand) == (False, rule, demand)
    assert decide(account._replace(active=False), [], Attempt()).demand == "suspended"
    assert decide(account, [CompiledRule("w", "w", everyone=True)], Attempt()).told[-1].state == "makes no difference"
    assert (
        decide(account._replace(switch=""), [CompiledRule("w", "w", everyone=True, blocks=True)], Attempt()).demand == "blocked"
    )
    assert not inside("not an address", "10.0.0.0/8")
    assert as_context(Attempt("10.0.0.1", device=True)) == {
        "from": "10.0.0.1",
        "interactive": False,
        "second_factor": False,
        "device": True,
    }


@given(
    st.lists(
        st.builds(
            CompiledRule,
            st.sampled_from("abc"),
            st.sampled_from("abc"),
            st.booleans(),
            st.booleans(),
            st.frozensets(st.sampled_from("xyz")),
            st.frozensets(st.sampled_from("xyz")),
            st.just("any"),
            st.frozensets(st.sampled_from(["second-factor", "device"])),
        ),
        min_size=1,
        max_size=4,
        unique_by=lambda r: r.id,
    )
)
def test_who_loses_nothing_can_be_demanded_as_much_as_before(all_: list[CompiledRule]) -> None:
    weaker, accounts = all_[0]._replace(enabled=True), [Account(i, i) for i in "xyz"]
    lost = {a.id for a in losing([weaker, *all_[1:]], weaker, accounts)}
    for account in accounts:
        for attempt in (Attempt(), Attempt(second_factor=True), Attempt(device=True)):
            before = decide(account, [weaker, *all_[1:]], attempt).allowed
            after = decide(account, all_[1:], attempt).allowed
            assert after == before or account.id in lost


# --- the sheet --------------------------------------------------------------------------------------------------
NOW = parse_instant("2027-03-01T12:00:00Z")


@pytest.mark.parametrize(
    ("asked", "known", "problem", "note"),
    [
        (SheetLine("secret"), Secret("short"), "", "short"),
        (SheetLine("secret", shortest=20), Secret("x" * 16), "16 characters", ""),
        (SheetLine("secret", longest=8), Secret("x" * 16), "1 to 8", ""),
        (SheetLine("client_id"), "a b", "spaces", ""),
        (SheetLine("issuer"), "http://far.example", "https", ""),
        (SheetLine("issuer"), "http://127.0.0.1:1/x", "", ""),
        (SheetLine("ends"), "2027-03-01T12:00:00Z", "ended", ""),
        (SheetLine("ends"), "2027-03-01T12:00:01Z", "", "in 1s"),
        (SheetLine("ends"), "2027-06-01T12:00:00Z", "", ""),
        (SheetLine("client_id", form="[a-z]+"), "abc1", "look", ""),
    ],
)
def test_values_are_checked_without_repeating_a_secret(asked: SheetLine, known: Any, problem: str, note: str) -> None:
    (value,) = fill("c", "", [asked], {asked.value: known}, {}, {}, NOW)
    assert (problem in value.problem, bool(value.problem)) == (True, bool(problem))
    assert (note in value.note, bool(value.note)) == (True, bool(note))
    assert "xxx" not in f"{value}"
    shown = content_of(Sheet("c", "", (value,)), reveal=False)
    assert (shown[value.name] == "(masked)") == isinstance(known, Secret)
    assert content_of(Sheet("c", "", (value._replace(content=None),)), reveal=True) == {value.name: ""}
