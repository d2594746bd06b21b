"""A real Keystone, attached by the dialect that comes with the tool: places of three kinds, and what an identity makes itself."""

from __future__ import annotations

import json
import secrets
from collections.abc import Iterator
from functools import cache
from typing import Any

import pytest

from conftest import Both, Desk, Fork, boundaries, kill_at
from real.cloud import Cloud, keystone

PLACES = ("Default/hut", "Default/trial", "Default/board")
TEAM = """\
charter: lookers
tenant: cloud
owner: mara.teel@brindlemoor.example
purpose: Look at the trial project
identity: {kind: team, name: lookers, display: lookers, reach: [Default/trial]}
grants: [{role: reader, at: Default/trial}]
"""
GAUGE = """\
charter: gauge
tenant: cloud
owner: mara.teel@brindlemoor.example
purpose: Looks at the hut's project
identity: {kind: service-account, name: gauge-1, display: gauge-1}
member_of: [lookers]
grants:
  - {role: reader, at: Default/hut}
  - {role: member, at: valley, reach: below}
credentials:
  - {name: gauge-password, kind: password, lasts: 90d}
  - {name: gauge-key, kind: api-token, lasts: 30d, at: Default/hut, limits: [project.show]}
proofs:
  - {can: project.show, at: Default/hut}
  - {can: project.show, at: Default/trial}
  - {cannot: project.show, at: Default/board}
  - {cannot: domain.users, at: valley}
"""
PAIR = GAUGE.partition("proofs:")[0].replace("member_of: [lookers]\n", "")


@pytest.fixture(scope="module")
def cloud(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Cloud]:
    with keystone(tmp_path_factory.mktemp("cloud") / "run") as made:
        yield made


@pytest.fixture
def house(bare: Desk, cloud: Cloud) -> Iterator[Desk]:
    (bare.folder / "boss.secret").write_text(cloud.password)
    (bare.folder / "boss.secret").chmod(0o600)
    words = ["--dialect", "keystone", "--admin", "boss", "--token", "file:boss.secret", "--stage", "test"]
    ran = bare.run("tenant", "add", "cloud", cloud.address, *words)
    assert ran.code == 0, ran.err
    before = cloud.ids("users").keys() | cloud.ids("groups").keys()
    bare.charter(TEAM, "lookers")
    bare.charter(GAUGE, "gauge")
    assert bare.run("enact", "lookers", "--yes").code == 0
    yield bare
    for kind in ("users", "groups"):
        for name, identity in cloud.ids(kind).items():
            if name not in before:
                # under SQLite the roles of those would stay behind, and the next one with that number is refused
                for key in cloud.keys(identity) if kind == "users" else ():
                    cloud.call("DELETE", f"users/{identity}/application_credentials/{key['id']}")
                cloud.call("DELETE", f"{kind}/{identity}")


def kept(house: Desk, name: str) -> dict[str, Any]:
    path = max((house.folder / ".sigillum" / "keys").glob(f"*/current/{name}.json"), key=lambda p: p.lstat().st_mtime_ns)
    found: dict[str, Any] = json.loads(path.read_text())
    return found


class Asked:
    """What the service itself does: each question in a token of its place; where it gives none, nothing is allowed there."""

    def __init__(self, cloud: Cloud) -> None:
        self.cloud, self.places = cloud, cloud.ids("projects") | cloud.ids("domains")

    def may(self, identity: str, password: str, permission: str, path: str) -> bool:
        name = path.rpartition("/")[2]
        scope: dict[str, Any] = {"system": {"all": True}}
        if name != "system":
            scope = {"project" if "/" in path else "domain": {"id": self.places[name]}}
        token = self.token(identity, password, json.dumps(scope))
        asked = {
            "project.show": f"projects/{self.places.get(name)}",
            "domain.show": f"domains/{self.places.get(name)}",
            "domain.users": f"users?domain_id={self.places.get(name)}",
        }.get(permission, permission.rpartition(".")[2])
        return bool(token) and self.cloud.call("GET", asked, token=token)[0] == 200

    @cache  # noqa: B019 - it lives as long as one test
    def token(self, identity: str, password: str, scope: str) -> str:
        return self.cloud.token({"id": identity, "password": password}, json.loads(scope))


def may(cloud: Cloud, house: Desk, place: str, permission: str = "project.show") -> bool:
    return Asked(cloud).may(cloud.ids("users")["gauge-1"], kept(house, "gauge-password")["secret"], permission, place)


def let_in(cloud: Cloud, identity: str, secret: str) -> bool:
    """An application credential, and a look with its token."""
    pair = {"id": identity, "secret": secret}
    token = cloud.enter({"identity": {"methods": ["application_credential"], "application_credential": pair}})
    return bool(token) and cloud.call("GET", f"projects/{cloud.ids('projects')['hut']}", token=token)[0] == 200


def test_an_identity_is_made_and_proved_in_a_token_of_each_place(house: Desk, cloud: Cloud) -> None:
    """Granted directly, through a group, and not at all; one of its credentials it makes itself; a second run changes nothing."""
    ran = house.run("enact", "gauge", "--yes", "--format", "json")
    assert ran.code == 0, ran.out + ran.err
    proofs = house.run("prove", "gauge", "--format", "json").json["charters"][0]["proofs"]
    assert [p["held"] for p in proofs] == [True] * 4, proofs
    assert all(p["how"] == "tried" for p in proofs), proofs
    [made] = cloud.keys(cloud.ids("users")["gauge-1"])
    assert ([r["name"] for r in made["roles"]], made["project_id"]) == (["reader"], cloud.ids("projects")["hut"])
    assert house.run("rehearse", "gauge", "lookers", "--strict").code == 0
    assert [may(cloud, house, p) for p in PLACES] == [True, True, False]
    before = cloud.changes()
    again = house.run("enact", "gauge", "--yes")
    assert (again.code, "Nothing to do" in again.out, cloud.changes()) == (0, True, before), again.out


def test_another_hand_is_seen_in_roles_groups_and_credentials(house: Desk, cloud: Cloud) -> None:
    ran = house.run("enact", "gauge", "--yes")
    assert ran.code == 0, ran.out + ran.err
    mine, role = cloud.ids("users")["gauge-1"], cloud.ids("roles")
    group, place = cloud.ids("groups")["lookers"], cloud.ids("projects") | cloud.ids("domains")
    inherited = f"OS-INHERIT/domains/{place['valley']}/users/{mine}/roles/{role['member']}/inherited_to_projects"
    held = f"users/{mine}/application_credentials"
    [key] = cloud.keys(mine)
    for method, path, back in (
        ("PUT", f"projects/{place['board']}/users/{mine}/roles/{role['reader']}", "DELETE"),
        ("PUT", f"system/users/{mine}/roles/{role['reader']}", "DELETE"),
        ("DELETE", f"projects/{place['hut']}/users/{mine}/roles/{role['reader']}", "PUT"),
        ("DELETE", f"groups/{group}/users/{mine}", "PUT"),
        ("DELETE", inherited, "PUT"),
        ("DELETE", f"{held}/{key['id']}", ""),
    ):
        assert cloud.call(method, path)[0] == 204
        assert house.run("rehearse", "gauge", "--strict").code == 1, path
        for where in PLACES:
            said = house.run("explain", "gauge-1", "project.show", where, "--format", "json").json["questions"][0]["allowed"]
            assert said in (None, may(cloud, house, where)), (method, path, where, said)
        assert not back or cloud.call(back, path)[0] == 204
    ran = house.run("prove", "gauge")
    assert (ran.code, " 4 hold." in ran.out) != (0, True), ran.out
    ran = house.run("enact", "gauge", "--yes")
    assert ran.code == 0, ran.out + ran.err
    assert house.run("rehearse", "gauge", "--strict").code == 0
    assert cloud.call("PATCH", f"users/{mine}", {"user": {"password": "another-word-4711"}})[0] == 200
    ran = house.run("prove", "gauge")
    assert (ran.code, " 4 hold." in ran.out) != (0, True), ran.out


def test_two_application_credentials_stand_beside_each_other_and_nobody_is_refused(house: Desk, cloud: Cloud) -> None:
    ran = house.run("enact", "gauge", "--yes")
    assert ran.code == 0, ran.out + ran.err

    def once(_: str) -> bool:
        found = kept(house, "gauge-key")
        return let_in(cloud, str(found["credential"]["credential_id"]).rpartition("/")[2], found["secret"])

    old = kept(house, "gauge-key")
    with Both(house, "gauge-key", once) as client:
        ran = house.run("rotate", "gauge", "--credential", "gauge-key", "--yes")
        assert ran.code == 7, ran.out + ran.err
        mine = cloud.ids("users")["gauge-1"]
        assert len(cloud.keys(mine)) == 2
        for _ in range(3):
            ran = house.run("rotate", "gauge", "--credential", "gauge-key", "--end-old", "--yes")
            if ran.code != 7:
                break
    assert (ran.code, client.refused) == (0, []), ran.out + ran.err
    [left] = cloud.keys(mine)
    assert left["id"] not in old["credential"]["credential_id"]
    assert not let_in(cloud, old["credential"]["credential_id"].rpartition("/")[2], old["secret"])


def test_a_loan_a_suspension_and_the_end(house: Desk, cloud: Cloud) -> None:
    ran = house.run("enact", "gauge", "--yes")
    assert ran.code == 0, ran.out + ran.err
    lent = ["lend", "member", "--to", "gauge-1", "--at", "Default", "--for", "30m", "--because", "a look"]
    ran = house.run(*lent, "--yes")
    assert (ran.code, may(cloud, house, "Default", "domain.users")) == (0, True), ran.out + ran.err
    [loan] = house.run("loans", "--format", "json").json["loans"]
    assert house.run("recall", loan["loan"]).code == 0
    assert not may(cloud, house, "Default", "domain.users")
    assert house.run("suspend", "gauge", "--because", "a leak", "--yes").code == 0
    key = kept(house, "gauge-key")
    pair = key["credential"]["credential_id"].rpartition("/")[2], key["secret"]
    assert (may(cloud, house, "Default/hut"), let_in(cloud, *pair)) == (False, False)
    ran = house.run("reinstate", "gauge", "--switch-on", "--because", "it is over", "--yes")
    assert (ran.code, may(cloud, house, "Default/hut"), let_in(cloud, *pair)) == (0, True, True), ran.out + ran.err
    ran = house.run("retire", "gauge", "--because", "over", "--yes")
    assert (ran.code, "Nothing is left" in ran.out) == (0, True), ran.out + ran.err
    assert ("gauge-1" in cloud.ids("users"), let_in(cloud, *pair)) == (False, False)


def test_killed_at_every_boundary_it_goes_on(house: Desk, cloud: Cloud, forked: Fork) -> None:
    """A charter that has no other place to be told apart than our marks, names and the journal."""
    house.charter(PAIR.replace("charter: gauge", "charter: pair"), "pair")
    names = boundaries(house, forked, ["enact", "pair", "--yes"])
    assert len(names) >= 12
    for number, name in enumerate(names):
        account = f"pair-{number}"
        house.charter(PAIR.replace("charter: gauge", f"charter: {account}").replace("gauge-1", account), account)
        assert forked(house, ["enact", account, "--yes"], kill_at(name))[1] == 9, name
        ran = house.run("enact", account, "--yes")
        assert ran.code == 0, f"{name}: {ran.out}{ran.err}"
        assert len(cloud.keys(cloud.ids("users")[account])) == 1, name


def test_the_description_is_tried_whole(house: Desk) -> None:
    ran = house.run("dialect", "try", "cloud", "--at", "Default/trial", "--yes", "--format", "json")
    wrong = [r for r in ran.json["rows"] if r["came"] not in ("works", "not described")]
    assert (ran.code, wrong, ran.json["left"], ran.json["safety"]) == (0, [], [], "mark kept"), wrong


AT = ("Default", "valley", "Default/hut", "Default/hut/deck", "Default/trial", "Default/board", "system")
PERMISSIONS = ("project.show", "domain.show", "domain.users", "system.users", "system.projects", "system.services")
HOLDS: tuple[
    tuple[str, list[tuple[str, str, str, bool]]], ...
] = (  # of each sort of account: its rights, a role for itself or through a group, where, and whether for what is below
    ("direct", [("users", "projects", "hut", False), ("users", "domains", "valley", False)]),
    (
        "grouped",
        [("groups", "projects", "trial", False), ("groups", "domains", "Default", False), ("groups", "system", "", False)],
    ),
    ("heir", [("users", "domains", "Default", True), ("users", "projects", "hut", True)]),
    ("wide", [("users", "system", "", False), ("users", "domains", "valley", False)]),
    ("group-heir", [("groups", "projects", "hut", True), ("users", "projects", "board", False)]),
    ("nobody", []),
)


def test_what_is_explained_is_what_the_service_does(house: Desk, cloud: Cloud) -> None:
    """Every account of those, every permission, every place of a kind for which it is; through which way it is allowed, too."""
    asked, roles, found = Asked(cloud), cloud.ids("roles"), list[tuple[str, bool | None, bool, str]]()
    for number, (sort, holds) in enumerate((s, h) for _ in range(4) for s, h in HOLDS):
        name, password, role = (
            f"{sort}-{number}",
            secrets.token_hex(12),
            ("reader", "member", "manager", "admin")[number // len(HOLDS)],
        )
        mine = cloud.call("POST", "users", {"user": {"name": name, "domain_id": "default", "password": password}})[1]["user"][
            "id"
        ]
        group = cloud.call("POST", "groups", {"group": {"name": name, "domain_id": "default"}})[1]["group"]["id"]
        cloud.call("PUT", f"groups/{group}/users/{mine}")
        for carrier, kind, place, below in holds:
            who = f"{carrier}/{mine if carrier == 'users' else group}/roles/{roles[role]}"
            where = "system" if kind == "system" else f"{kind}/{asked.places[place]}"
            path = f"OS-INHERIT/{where}/{who}/inherited_to_projects" if below else f"{where}/{who}"
            assert cloud.call("PUT", path)[0] == 204, path
        ran = house.run("explain", name, ",".join(PERMISSIONS), ",".join(AT), "--matrix", "--format", "json")
        for row in ran.json["questions"]:
            permission, place = row["permission"], row["place"]
            kind = "system" if place == "system" else "project" if "/" in place else "domain"
            if permission.startswith(kind):
                found.append(
                    (sort, row["allowed"], asked.may(mine, password, permission, place), f"{name} {permission} {place}")
                )
    assert [what for _, said, is_, what in found if said not in (None, is_)] == []
    assert len(found) >= 200
    assert sum(is_ for _, _, is_, _ in found) >= 60
    assert sum(not is_ for _, _, is_, _ in found) >= 60
    assert sum(said is None for _, said, _, _ in found) <= len(found) / 10
    for ways in (("grouped", "group-heir"), ("heir", "group-heir"), ("wide", "grouped")):
        assert sum(sort in ways and is_ for sort, _, is_, _ in found) >= 20, ways
