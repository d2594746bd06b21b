"""Delegations: made, changed, ended, a stranger's left alone; and what the house bounds."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from core.fake import PROFILE, Fake, thing
from core.test_compare import KEY, charter, enacted
from sigillum.core.charter.charter import Charter, Identity, ProofWant
from sigillum.core.charter.rules import HouseRules
from sigillum.core.charter.rules import check as check_rules
from sigillum.core.charter.wants import DelegationWant
from sigillum.core.deciding.people import NO_DELEGATION, OUTSIDE, SCOPE, Person, covers, missing
from sigillum.core.facets.delegation.check import check
from sigillum.core.facets.delegation.facet import words
from sigillum.core.federation.conditions import Condition
from sigillum.core.federation.trusts import Trust, match, supposed
from sigillum.core.kinds.delegating import Delegation
from sigillum.core.values.marks import Mark
from sigillum.sandbox.scim.delegations import lets

SCOPES = (("mail.read", "reads it"), ("mail.send", "answers it"))
WANT = DelegationWant("x.example", ("team:crew",), SCOPES)
OPEN = dataclasses.replace(
    PROFILE,
    powers=None,
    carries={**PROFILE.carries, "delegation": PROFILE.carries["delegation"] - {"principal_name", "used_at"}},
)


def wanted(want: DelegationWant | None = WANT) -> Charter:
    return charter((), (KEY._replace(limits=()),), delegation=want)


def test_one_is_made_changed_and_ended_and_a_strangers_stays() -> None:
    fake = Fake(profile=OPEN)
    assert ("make", "delegation") in enacted(fake, wanted())
    [made] = fake.things["delegation"]
    assert (made.body.domain, made.body.people, made.body.scopes) == ("x.example", ("team:crew",), ("mail.read", "mail.send"))
    assert fake.compare(wanted()).steps == ()
    outline = fake.compare(wanted(WANT._replace(people=("m@x.example",), scopes=SCOPES[:1])))
    [step] = outline.steps
    assert (str(step.kind), step.before, step.after) == (
        "change",
        {"people": "team:crew", "scopes": "mail.read, mail.send"},
        {"people": "m@x.example", "scopes": "mail.read"},
    )
    fake.enact(wanted(WANT._replace(people=("m@x.example",), scopes=SCOPES[:1])))
    assert [d.body.people for d in fake.things["delegation"]] == [("m@x.example",)]
    theirs = thing(
        "delegation", "theirs", principal=made.body.principal, domain="other.example", people=("all",), scopes=("mail.read",)
    )
    fake.things["delegation"].append(theirs)
    notes = [n.text for n in fake.compare(wanted(WANT._replace(people=("all",)))).notes if n.code.startswith("delegation")]
    assert any("may act for everybody of x.example" in n for n in notes) and any(
        "extra: it may act for everybody of other.example" in n for n in notes
    )
    enacted(fake, wanted(None))
    assert fake.things["delegation"] == [theirs]
    assert words(Mark("delegation", "away", ())) == "the delegation"


@pytest.mark.parametrize(
    ("scopes", "told", "adopted"),
    [(("mail.read", "mail.send"), "already", ["keep"]), (("mail.read",), "for other people or scopes", ["keep", "change"])],
)
def test_one_that_stands_is_told_and_taken_over_where_that_is_wanted(
    scopes: tuple[str, ...], told: str, adopted: list[str]
) -> None:
    fake = Fake(profile=OPEN)
    enacted(fake, wanted(None))
    who = fake.things["account"][0].id
    fake.things["delegation"] = [
        thing("delegation", "theirs", principal=who, domain="x.example", people=("team:crew",), scopes=scopes)
    ]
    outline = fake.compare(wanted())
    assert ([n for n in outline.notes if n.code == "delegation-stands" and told in n.text] != [], outline.steps) == (True, ())
    assert [str(s.kind) for s in fake.compare(wanted(), adopt=True).steps] == adopted
    bare = Fake(profile=dataclasses.replace(OPEN, carries={n: f for n, f in PROFILE.carries.items() if n != "delegation"}))
    assert any("can never stand" in n.text for n in bare.compare(wanted()).notes)


# what is wanted instead, the house's rules, and the mistake
@pytest.mark.parametrize(
    ("change", "rules", "code"),
    [
        (lambda c: c, HouseRules(), ""),
        (lambda c: dataclasses.replace(c, delegation=None), HouseRules(), ""),
        (lambda c: dataclasses.replace(c, delegation=WANT._replace(people=("Me",))), HouseRules(), "shorthand"),
        (
            lambda c: dataclasses.replace(c, delegation=WANT._replace(domain="my organisation", people=("all",))),
            HouseRules(delegation_to_all=True),
            "shorthand",
        ),
        (
            lambda c: dataclasses.replace(c, delegation=WANT._replace(people=("m@y.example",))),
            HouseRules(),
            "delegation-domain",
        ),
        (lambda c: dataclasses.replace(c, delegation=WANT._replace(people=("all",))), HouseRules(), "delegation-all"),
        (lambda c: dataclasses.replace(c, delegation=WANT._replace(people=("all",))), HouseRules(delegation_to_all=True), ""),
        (lambda c: c, HouseRules(delegable_scopes=frozenset({"mail.read"})), "delegation-scope"),
        (
            lambda c: dataclasses.replace(c, delegation=WANT._replace(scopes=(("mail.read", " "),))),
            HouseRules(),
            "delegation-because",
        ),
        (
            lambda c: dataclasses.replace(c, delegation=WANT._replace(scopes=(*SCOPES, SCOPES[0]))),
            HouseRules(),
            "delegation-twice",
        ),
        (lambda c: dataclasses.replace(c, identity=Identity("team", "crew", "Crew")), HouseRules(), "delegation-team"),
        (
            lambda c: dataclasses.replace(c, delegated=(ProofWant(True, "mail.drop", "root", person="m@x.example"),)),
            HouseRules(),
            "proof-scope",
        ),
        (
            lambda c: dataclasses.replace(c, delegated=(ProofWant(False, "mail.drop", "root", person="m@x.example"),)),
            HouseRules(),
            "",
        ),
    ],
)
def test_what_is_said_against_one(change: Callable[[Charter], Charter], rules: HouseRules, code: str) -> None:
    assert {m.code for m in check(change(wanted()), rules, ["away"])} == ({code} if code else set())
    assert check_rules(wanted(), rules, ["away"]) == []


@pytest.mark.parametrize("acts_as", [(), ("cluster", "account")])
def test_only_the_subject_decides_over_supposed_claims(acts_as: tuple[str, ...]) -> None:
    tests = (
        Condition(("a", "b"), "equals", "x"),
        Condition(("a", "c"), "one_of", (1, 2)),
        Condition(("tags",), "has", "masts"),
        Condition(("path",), "starts", "x/"),
        Condition(("there",), "present", True),
    )
    trust = Trust("t", "https://i.example", "aud", subject="4712:reader", when=tests, acts_as=acts_as)
    assert match(trust, supposed(trust, "4712:reader", "reader"), "reader").holds
    found = match(trust, supposed(trust, "4712:clerk", "reader"), "reader")
    assert [v.test.claim for v in found.verdicts if not v.holds] == [("sub",)]


NAMES = st.sampled_from(["ann@x.example", "bob@x.example", "ann@y.example", "all", "team:crew", "team:ring"])
MADE = st.builds(
    Delegation,
    st.just("c"),
    st.sampled_from(["x.example", "y.example"]),
    st.lists(NAMES, max_size=3).map(tuple),
    st.lists(st.sampled_from(["m.read", "m.send"]), max_size=2).map(tuple),
)
PEOPLE = st.builds(
    Person,
    st.sampled_from(["ann@x.example", "bob@x.example", "ann@y.example", "team:crew", "all"]),
    st.frozensets(st.sampled_from(["crew", "ring"])),
)


@given(st.lists(MADE, max_size=3), PEOPLE, st.sampled_from(["m.read", "m.send"]))
def test_whom_a_delegation_covers_is_what_the_sandbox_says(made: list[Delegation], person: Person, scope: str) -> None:
    theirs = [
        lets({"domain": d.domain, "people": list(d.people), "scopes": list(d.scopes)}, person.name, set(person.teams), [scope])
        for d in made
    ]
    cause = missing(made, person, scope)
    assert (cause == "") is any(theirs)
    assert cause != NO_DELEGATION or not made
    assert cause != SCOPE or not any(scope in d.scopes for d in made)
    assert cause != OUTSIDE or not any(covers(d, person) for d in made if scope in d.scopes)
