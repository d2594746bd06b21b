"""A plain SCIM server that knows nothing of ours: users and groups serve, and what it cannot do is said."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
import urllib3

from conftest import Desk, Fork, Json, boundaries, kill_at
from real.servers import Web, directory

CHARTER = """\
charter: roster-bot
tenant: plain
owner: mara.teel@brindlemoor.example
purpose: Stands in the team of the readers
identity: {kind: service-account, name: roster-1, display: Roster one}
member_of: [readers]
"""


@pytest.fixture(scope="module")
def plain(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Web]:
    with directory(tmp_path_factory.mktemp("scim") / "run") as made:
        call(made, "POST", "Groups", {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"], "displayName": "readers"})
        yield made


def call(plain: Web, method: str, path: str, body: Json | None = None) -> Json:
    answer = urllib3.request(method, f"{plain.address}/{path}", json=body, headers={"Authorization": f"Bearer {plain.token}"})
    found: Json = answer.json()
    return found


@pytest.fixture
def house(bare: Desk, plain: Web) -> Desk:
    (bare.folder / "admin.secret").write_text(plain.token)
    (bare.folder / "admin.secret").chmod(0o600)
    ran = bare.run(
        "tenant", "add", "plain", plain.address, "--admin", "boss", "--token", "file:admin.secret", "--stage", "test"
    )
    assert ran.code == 0, ran.err
    bare.charter(CHARTER, "roster-bot")
    return bare


def is_whole(house: Desk, plain: Web, charter: str = "roster-bot") -> None:
    [user], [group] = call(plain, "GET", "Users")["Resources"], call(plain, "GET", "Groups")["Resources"]
    assert (user["userName"], user["active"], [m["value"] for m in group["members"]]) == ("roster-1", True, [user["id"]])
    assert house.run("rehearse", charter, "--format", "json").json["charters"][0]["steps"] == []


def test_a_charter_serves_at_a_plain_directory(house: Desk, plain: Web) -> None:
    assert house.run("tenant", "inspect", "plain").out.count("cannot ") >= 4
    house.charter(
        CHARTER.replace("charter: roster-bot", "charter: more")
        + "credentials: [{name: k, kind: key-pair, lasts: 30d}]\ngrants: [{role: reader, at: x, because: y}]\n",
        "more",
    )
    ran = house.run("rehearse", "more")
    assert (ran.code, "no resource type for a credential" in " ".join(ran.out.split())) == (0, True), ran.out + ran.err
    Path(house.folder / "charters" / "more.yaml").unlink()
    assert house.run("enact", "roster-bot", "--yes").code == 0
    is_whole(house, plain)
    ran = house.run("retire", "roster-bot", "--because", "over", "--yes")
    assert (ran.code, call(plain, "GET", "Users")["totalResults"], "Nothing is left" in ran.out) == (0, 0, True), (
        ran.out + ran.err
    )


def test_killed_at_every_boundary_it_goes_on(house: Desk, plain: Web, forked: Fork) -> None:
    names = boundaries(house, forked, ["enact", "roster-bot", "--yes"])
    assert len(names) >= 6
    for number, name in enumerate(names):
        assert house.run("retire", f"bot-{number - 1}" if number else "roster-bot", "--because", "again", "--yes").code == 0
        house.charter(CHARTER.replace("charter: roster-bot", f"charter: bot-{number}"), f"bot-{number}")
        assert forked(house, ["enact", f"bot-{number}", "--yes"], kill_at(name))[1] == 9, name
        ran = house.run("enact", f"bot-{number}", "--yes")
        if ran.code == 6:  # it does not say how long changes take, so a person decides
            assert "--send-again" in ran.out, ran.out
            ran = house.run("enact", f"bot-{number}", "--yes", "--send-again")
        assert ran.code == 0, f"{name}: {ran.out}{ran.err}"
        is_whole(house, plain, f"bot-{number}")
