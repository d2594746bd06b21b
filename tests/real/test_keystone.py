"""A real Keystone, attached by the dialect that ships as an example: one token a place, groups, and passwords."""

from __future__ import annotations

import json
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import Desk
from real.cloud import Cloud, keystone

EXAMPLE = Path(__file__).parents[2] / "examples" / "dialects" / "keystone.yaml"
PLACES = ("hut", "trial", "board")
TEAM = """\
charter: lookers
tenant: cloud
owner: mara.teel@brindlemoor.example
purpose: Look at the trial project
identity: {kind: team, name: lookers, display: lookers, reach: [trial]}
grants: [{role: reader, at: trial}]
"""
GAUGE = """\
charter: gauge
tenant: cloud
owner: mara.teel@brindlemoor.example
purpose: Looks at the hut's project
identity: {kind: service-account, name: gauge-1, display: gauge-1}
member_of: [lookers]
grants: [{role: reader, at: hut}]
credentials: [{name: gauge-password, kind: password, lasts: 90d}]
proofs:
  - {can: project.show, at: hut}
  - {can: project.show, at: trial}
  - {cannot: project.show, at: board}
  - {cannot: user.list, at: hut}
"""


@pytest.fixture(scope="module")
def cloud(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Cloud]:
    with keystone(tmp_path_factory.mktemp("cloud") / "run") as made:
        yield made


@pytest.fixture
def house(bare: Desk, cloud: Cloud) -> Iterator[Desk]:
    (bare.folder / "dialects").mkdir()
    shutil.copy(EXAMPLE, bare.folder / "dialects" / "cloud.yaml")
    (bare.folder / "boss.secret").write_text(cloud.password)
    (bare.folder / "boss.secret").chmod(0o600)
    words = ["--driver", "dialect", "--admin", "boss", "--token", "file:boss.secret", "--stage", "test"]
    ran = bare.run("tenant", "add", "cloud", cloud.address, *words)
    assert ran.code == 0, ran.err
    bare.charter(TEAM, "lookers")
    bare.charter(GAUGE, "gauge")
    assert bare.run("enact", "lookers", "--yes").code == 0
    yield bare
    for kind in ("users", "groups"):
        for found in cloud.call("GET", kind)[1][kind]:
            if found["name"] in ("gauge-1", "lookers"):
                cloud.call("DELETE", f"{kind}/{found['id']}")


def password_of(house: Desk) -> str:
    path = max((house.folder / ".sigillum" / "keys").glob("*/current/gauge-password.json"), key=lambda p: p.lstat().st_mtime_ns)
    return str(json.loads(path.read_text())["secret"])


def user(cloud: Cloud) -> str:
    [found] = [u for u in cloud.call("GET", "users")[1]["users"] if u["name"] == "gauge-1"]
    return str(found["id"])


def may(cloud: Cloud, house: Desk, permission: str, project: str) -> bool:
    """What the service itself does, asked in a token of that project; where it gives none, nothing is allowed there."""
    place = next(p["id"] for p in cloud.call("GET", "projects")[1]["projects"] if p["name"] == project)
    token = cloud.token({"id": user(cloud), "password": password_of(house)}, {"project": {"id": place}})
    path = f"projects/{place}" if permission == "project.show" else "users?domain_id=default"
    return bool(token) and cloud.call("GET", path, token=token)[0] == 200


def test_an_identity_is_made_and_proved_in_a_token_of_each_place(house: Desk, cloud: Cloud) -> None:
    """Granted directly, through a group, and not at all; a second run finds nothing to do."""
    ran = house.run("enact", "gauge", "--yes", "--format", "json")
    assert ran.code == 0, ran.out + ran.err
    proofs = house.run("prove", "gauge", "--format", "json").json["charters"][0]["proofs"]
    assert [p["held"] for p in proofs] == [True] * 4, proofs
    assert all(p["how"] == "tried" for p in proofs), proofs
    assert house.run("rehearse", "gauge", "lookers", "--strict").code == 0
    assert [may(cloud, house, "project.show", p) for p in PLACES] == [True, True, False]
    again = house.run("enact", "gauge", "--yes")
    assert (again.code, "Nothing to do" in again.out) == (0, True), again.out


def test_another_hand_is_seen_in_roles_groups_and_passwords(house: Desk, cloud: Cloud) -> None:
    assert house.run("enact", "gauge", "--yes").code == 0
    mine = user(cloud)
    [group] = [g["id"] for g in cloud.call("GET", "groups")[1]["groups"] if g["name"] == "lookers"]
    role = {r["name"]: r["id"] for r in cloud.call("GET", "roles")[1]["roles"]}
    place = {p["name"]: p["id"] for p in cloud.call("GET", "projects")[1]["projects"]}
    for method, path, back in (
        ("PUT", f"projects/{place['board']}/users/{mine}/roles/{role['reader']}", "DELETE"),
        ("DELETE", f"projects/{place['hut']}/users/{mine}/roles/{role['reader']}", "PUT"),
        ("DELETE", f"groups/{group}/users/{mine}", "PUT"),
    ):
        assert cloud.call(method, path)[0] == 204
        assert house.run("rehearse", "gauge", "--strict").code == 1, path
        for where in PLACES:
            said = house.run("explain", "gauge-1", "project.show", where, "--format", "json").json["questions"][0]["allowed"]
            assert said in (None, may(cloud, house, "project.show", where)), (method, path, where, said)
        assert cloud.call(back, path)[0] == 204
    assert house.run("rehearse", "gauge", "--strict").code == 0
    assert cloud.call("PATCH", f"users/{mine}", {"user": {"password": "another-word-4711"}})[0] == 200
    ran = house.run("prove", "gauge")
    assert (ran.code, " hold." in ran.out) != (0, True), ran.out


def test_off_and_on_again(house: Desk, cloud: Cloud) -> None:
    assert house.run("enact", "gauge", "--yes").code == 0
    assert house.run("suspend", "gauge", "--because", "a leak", "--yes").code == 0
    assert not may(cloud, house, "project.show", "hut")
    ran = house.run("reinstate", "gauge", "--switch-on", "--because", "it is over", "--yes")
    assert (ran.code, may(cloud, house, "project.show", "hut")) == (0, True), ran.out + ran.err
