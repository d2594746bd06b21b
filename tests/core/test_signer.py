"""The tenant signs: the machine that is attached, the rights on itself that are missing, and the wrong identity."""

from __future__ import annotations

import dataclasses
from typing import Any

import pytest

from core.fake import PROFILE, Fake, thing
from core.test_compare import charter
from sigillum.core.charter.charter import Charter, GrantWant
from sigillum.core.charter.rules import HouseRules
from sigillum.core.charter.wants import SigningWant
from sigillum.core.comparing.retiring import emptied
from sigillum.core.facets.signing import words
from sigillum.core.kinds.kind import Fact
from sigillum.core.records.steps import Outline
from sigillum.core.values.marks import Mark

NEEDS = ("sign.do", "self.view", "self.keys")
OPEN = dataclasses.replace(PROFILE, powers=None, signer="https://away.example/sign", signing=NEEDS)
ROLES = {"signs": ("sign.do",), "views": ("self.view",), "keeps": ("self.view", "self.keys"), "all": (*NEEDS, "self.end")}


def wanted(machine: str | None = "tower", grants: tuple[GrantWant, ...] = ()) -> Charter:
    return charter(grants, (), signing=SigningWant(machine) if machine else None)


def house(profile: Any = OPEN, attached: str = "", roles: tuple[str, ...] = tuple(ROLES)) -> Fake:
    fake = Fake(profile=profile)
    fake.things["role"] += [
        thing("role", f"r-{n}", name=n, permissions=tuple((p, "looks") for p in ROLES[n]), grantable_at=("principal",))
        for n in roles
    ]
    fake.things["machine"] = [thing("machine", "m-1", name="tower", principal=attached), thing("machine", "m-2", name="hut")]
    return fake


def granted(outline: Outline) -> list[str]:
    return [s.about for s in outline.steps if s.facet == "grant"]


def test_it_is_attached_gets_what_is_missing_on_itself_and_lets_go_of_both() -> None:
    fake = house()
    outline = fake.enact(wanted())
    assert granted(outline) == ["grant of keeps at itself", "grant of signs at itself"]  # as few as can be, and nothing beside
    who = fake.things["account"][0].id
    assert ([m.body.principal for m in fake.things["machine"]], {g.body.place for g in fake.things["grant"]}) == (
        [who, ""],
        {f"@{who}"},
    )
    assert fake.compare(wanted()).steps == ()
    fake.things["machine"][1] = thing("machine", "m-2", name="hut", principal=who)
    assert [n.code for n in fake.compare(wanted()).notes if n.code.startswith("machine")] == ["machine-extra"]
    assert [n.code for n in fake.compare(wanted("hut")).notes if n.code.startswith("machine")] == []
    fake.enact(emptied(wanted()))
    assert ([m.body.principal for m in fake.things["machine"]], fake.things["grant"]) == (["", who], [])


@pytest.mark.parametrize(
    ("grants", "roles", "left"),
    [
        ((GrantWant("signs", "self", "x"),), tuple(ROLES), ["signs", "keeps"]),
        ((GrantWant("all", "self", "x"),), tuple(ROLES), ["all"]),
        ((GrantWant("signs", "self", "x", lasts_seconds=600),), tuple(ROLES), ["signs", "keeps", "signs"]),
        ((), ("all",), ["all"]),
        ((), ("signs", "views"), None),
    ],
)
def test_only_what_is_missing_is_asked_for(
    grants: tuple[GrantWant, ...], roles: tuple[str, ...], left: list[str] | None
) -> None:
    outline = house(roles=roles).compare(wanted(grants=grants))
    if left is None:
        assert [m.code for m in outline.mistakes] == ["no-role"] and "needs self.keys on itself" in outline.mistakes[0].what
    else:
        assert sorted(a.split()[2] for a in granted(outline)) == sorted(left)


def test_what_the_house_forbids_is_not_added_either() -> None:
    outline = house().compare(wanted(), HouseRules(because=frozenset(), forbidden_roles=frozenset({"keeps", "all"})))
    assert ([m.code for m in outline.mistakes], "self.keys" in outline.mistakes[0].what) == (["no-role"], True)


def test_a_strangers_right_counts_and_a_wrong_identity_is_asked_about() -> None:
    fake = house()
    fake.enact(wanted(None))
    who = fake.things["account"][0].id
    fake.things["grant"] = [thing("grant", "theirs", principal=who, role="keeps", place=f"@{who}")]
    assert granted(fake.compare(wanted())) == ["grant of signs at itself"]
    fake.things["machine"][0] = thing("machine", "m-1", name="tower", principal="a9", principal_name="other")
    outline = fake.compare(wanted())
    assert [(str(s.kind), s.about) for s in outline.steps if s.facet == "signing"] == [
        ("ask", "about tower, to which other is attached")
    ]
    assert any(n.code == "wrong-identity" and "signs in as that, not as wind" in n.text for n in outline.notes)


def test_what_cannot_be_or_is_hidden() -> None:
    bare = house(dataclasses.replace(OPEN, signer=""))
    assert [m.code for m in bare.compare(wanted()).mistakes] == ["no-signer"]
    assert [m.code for m in house().compare(wanted("towre")).mistakes] == ["machine-unknown"]
    for kind in ("role", "machine"):
        fake = house()
        seen = fake.answer
        fake.answer = lambda query, tenant="away", k=kind, seen=seen: (  # type: ignore[misc, method-assign]
            Fact(unknown="dark") if query.kind.name == k else seen(query, tenant)
        )
        assert [n.code for n in fake.compare(wanted()).notes if n.code == "unknown"], kind
    assert words(Mark("signing", "away", (("machine", "tower"),))) == "the identity of the machine tower"
