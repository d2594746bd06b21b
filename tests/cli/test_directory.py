"""A delegated administrator: all but the top power, for an account that lives in another tenant, assigned by its address there."""

from __future__ import annotations

import pytest

from conftest import Away, Desk, Sandbox

HELPER = """\
charter: helper
tenant: summit
owner: mara.teel@brindlemoor.example
purpose: Keeps the directory in step
identity: {kind: service-account, name: helper, display: Helper}
roles: [{name: helpers, like: directory-owner, without: [directory.owners], in: roster}]
grants: [{role: helpers, at: brindlemoor/directory, in: roster, because: it changes teams}]
credentials: [{name: helper-key, kind: key-pair, lasts: 90d}]
proofs:
  - {can: directory.read, at: brindlemoor/directory, in: roster}
  - {can: directory.change, at: brindlemoor/directory, in: roster}
  - {cannot: directory.owners, at: brindlemoor/directory, in: roster}
"""
BOTH = """\
charter: both
tenant: roster
owner: mara.teel@brindlemoor.example
purpose: Writes rotas, and looks after teams
identity: {kind: client, name: both, display: Both}
credentials: [{name: both-key, kind: key-pair, lasts: 90d}]
"""
ACTING = "delegation: {domain: brindlemoor.example, people: {team: snow-watch}, scopes: [{scope: calendar.read, because: reads it}]}\n"


@pytest.fixture
def office(bare: Desk, sandbox: Sandbox) -> tuple[Desk, Away, Away]:
    home, away = sandbox.tenant("summit"), sandbox.tenant("roster")
    bare.know(home)
    bare.know(away, "roster", "lena.frost", extra="    admins: [{name: nils.brack, token: 'file:nils'}]\n")
    (bare.folder / "nils").write_text(away.tokens["nils.brack"])
    (bare.folder / "nils").chmod(0o600)
    sandbox.control("tenants", {"describe": {away.name: {"organisations": [home.name]}}})
    return bare, home, away


def test_it_gets_all_but_the_top_power_by_the_address_that_its_home_shows(office: tuple[Desk, Away, Away]) -> None:
    desk, home, away = office
    desk.charter(HELPER, "helper")
    ran = desk.run("enact", "helper", "--yes")
    assert (ran.code, ran.out.count("holds ")) == (0, 3), ran.out + ran.err
    [role] = [r for r in away.state()["resources"]["Role"] if r["name"] == "helpers"]
    assert sorted(p["value"] for p in role["permissions"]) == ["directory.change", "directory.read"]
    about = next(u for u in away.state()["resources"]["User"] if u["userName"] == "helper")[
        "urn:sigillum:scim:1.0:ServiceAccount"
    ]
    assert (about["subject"], about["organisation"]) == (
        "helper@robots.brindlemoor.example",
        home.address.removesuffix("/scim/v2"),
    )
    assert "helper@robots.brindlemoor.example" in desk.run("rehearse", "helper").out
    desk.charter(
        HELPER.replace("[directory.owners], in", "[directory.owners, directory.change], in").replace(
            "  - {can: directory.change, at: brindlemoor/directory, in: roster}\n", ""
        ),
        "helper",
    )
    assert desk.run("enact", "helper", "--yes").code == 0
    [role] = [r for r in away.state()["resources"]["Role"] if r["name"] == "helpers"]
    assert [p["value"] for p in role["permissions"]] == ["directory.read"]
    assert desk.run("retire", "helper", "--because", "over", "--yes").code == 0
    assert not [r for r in away.state()["resources"]["Role"] if r["name"] == "helpers"]


# what is written instead, and what is said
@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("like: directory-owner", "like: directory-ower", "has no role 'directory-ower'"),
        ("without: [directory.owners]", "without: [directory.owner]", "that could be left out"),
        (", without: [directory.owners]", "", "it would be directory-owner once more"),
        ("like: directory-owner, ", "permissions: [directory.read], like: directory-owner, ", "not said, or twice"),
        ("kind: service-account", "kind: team", "a team does not act in another tenant"),
    ],
)
def test_what_such_a_role_cannot_be(office: tuple[Desk, Away, Away], old: str, new: str, told: str) -> None:
    office[0].charter(HELPER.replace(old, new), "helper")
    ran = office[0].run("rehearse", "helper")
    assert (ran.code, told in " ".join((ran.out + ran.err).split())) == (3, True), ran.out + ran.err


def test_who_is_not_known_there_is_told(office: tuple[Desk, Away, Away], sandbox: Sandbox) -> None:
    desk, home, away = office
    desk.charter(HELPER, "helper")
    sandbox.control("tenants", {"describe": {away.name: {"organisations": []}}})
    assert "roster takes nobody of summit" in " ".join(desk.run("rehearse", "helper").out.split())
    sandbox.control("tenants", {"describe": {home.name: {"addresses": None}}})
    assert "summit shows no address of helper" in " ".join(desk.run("rehearse", "helper").out.split())


# the sections, what is expected, and which of the two is said
@pytest.mark.parametrize(
    ("sections", "proof", "code"),
    [
        (ACTING, "{can: directory.read, at: brindlemoor/directory}", "acts-not-administers"),
        (
            "grants: [{role: directory-owner, at: brindlemoor/directory, because: x}]\n",
            "{can: calendar.read, at: brindlemoor/calendars/rota, on_behalf_of: kai.lund@brindlemoor.example}",
            "administers-not-acts",
        ),
        (
            ACTING + "grants: [{role: directory-owner, at: brindlemoor/directory, because: x}]\n",
            "{can: directory.read, at: brindlemoor/directory}",
            "",
        ),
    ],
)
def test_looking_after_a_directory_is_not_acting_for_its_people(
    office: tuple[Desk, Away, Away], sections: str, proof: str, code: str
) -> None:
    desk = office[0]
    desk.charter(f"{BOTH}{sections}proofs: [{proof}]\n", "both")
    notes = [n["code"] for n in desk.run("rehearse", "both", "--format", "json").json["charters"][0]["notes"]]
    assert [n for n in notes if n in ("acts-not-administers", "administers-not-acts")] == ([code] if code else []), notes
