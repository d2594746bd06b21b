"""A real JupyterHub, attached by the dialect that ships as an example."""

from __future__ import annotations

import json
import shutil
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

import sigillum
from conftest import Desk, Fork, boundaries, kill_at
from real.servers import Web, jupyterhub

EXAMPLE = Path(sigillum.__file__).parent / "tenants" / "dialect" / "shipped" / "jupyterhub.yaml"
CHARTER = """\
charter: gauge
tenant: hub
owner: mara.teel@brindlemoor.example
purpose: Reads the hub's figures
identity: {kind: service-account, name: gauge-1, display: gauge-1}
member_of: [lookers]
credentials: [{name: gauge-token, kind: api-token, lasts: 30d}]
proofs:
  - {can: figures.read, at: hub}
  - {cannot: users.list, at: hub}
"""


@pytest.fixture(scope="module")
def hub(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Web]:
    with jupyterhub(tmp_path_factory.mktemp("hub") / "run") as made:
        yield made


@pytest.fixture
def house(bare: Desk, hub: Web) -> Desk:
    (bare.folder / "dialects").mkdir()
    shutil.copy(EXAMPLE, bare.folder / "dialects" / "hub.yaml")
    (bare.folder / "admin.secret").write_text(hub.token)
    (bare.folder / "admin.secret").chmod(0o600)
    ran = bare.run(
        "tenant",
        "add",
        "hub",
        hub.address,
        "--driver",
        "dialect",
        "--admin",
        "boss",
        "--token",
        "file:admin.secret",
        "--stage",
        "test",
    )
    assert ran.code == 0, ran.err
    bare.charter(CHARTER, "gauge")
    return bare


def token_of(house: Desk) -> str:
    path = max((house.folder / ".sigillum" / "keys").glob("*/current/gauge-token.json"), key=lambda p: p.lstat().st_mtime_ns)
    return str(json.loads(path.read_text())["secret"])


def is_whole(house: Desk, hub: Web, charter: str = "gauge") -> None:
    """Just what is wanted stands there, a page of the hub is read and another is not, and one more run does nothing."""
    assert [u["name"] for u in hub.call("GET", "hub/api/users")[1]] == ["gauge-1"]
    assert hub.call("GET", "hub/api/groups/lookers")[1]["users"] == ["gauge-1"]
    assert (
        len([t for t in hub.call("GET", "hub/api/users/gauge-1/tokens")[1]["api_tokens"] if t["note"].startswith("sigillum ")])
        == 1
    )
    mine = token_of(house)
    assert "jupyterhub_" in hub.call("GET", "hub/metrics", token=mine)[1]
    assert hub.call("GET", "hub/api/users", token=mine)[0] == 403
    assert house.run("rehearse", charter, "--format", "json").json["charters"][0]["steps"] == []


def test_a_charter_serves_at_a_real_hub(house: Desk, hub: Web) -> None:
    assert len(EXAMPLE.read_text().splitlines()) < 90
    ran = house.run("dialect", "try", "hub", "--at", "hub", "--yes", "--format", "json")
    assert (ran.code, ran.json["safety"], ran.json["left"]) == (0, "name only", []), ran.out
    ran = house.run("enact", "gauge", "--yes")
    assert (ran.code, ran.out.count("holds ")) == (0, 2), ran.out + ran.err
    is_whole(house, hub)
    ran = house.run("explain", "gauge-1", "figures.read", "hub")
    assert "lookers" in ran.out, ran.out
    refused, stop = list[int](), threading.Event()

    def client() -> None:
        """Reads the one file that consumers read, and is never to be refused."""
        while not stop.wait(0.05):
            status = hub.call("GET", "hub/metrics", token=token_of(house))[0]
            if status != 200:
                refused.append(status)

    reading = threading.Thread(target=client)
    reading.start()
    try:
        told = [house.run("rotate", "gauge", *more).out for more in ((), ("--end-old", "--yes"))]
    finally:
        stop.set()
        reading.join()
    assert (refused, "the new gauge-token where its consumers read it" in told[0]) == ([], True), told
    ran = house.run("retire", "gauge", "--because", "over", "--yes")
    assert (ran.code, hub.call("GET", "hub/api/users")[1], "Nothing is left" in ran.out) == (0, [], True), ran.out + ran.err


def test_killed_at_every_boundary_it_goes_on(house: Desk, hub: Web, forked: Fork) -> None:
    names = boundaries(house, forked, ["enact", "gauge", "--yes"])
    assert len(names) >= 10
    for number, name in enumerate(names):
        assert house.run("retire", f"gauge-{number - 1}" if number else "gauge", "--because", "again", "--yes").code == 0
        house.charter(CHARTER.replace("charter: gauge", f"charter: gauge-{number}"), f"gauge-{number}")
        assert forked(house, ["enact", f"gauge-{number}", "--yes"], kill_at(name))[1] == 9, name
        ran = house.run("enact", f"gauge-{number}", "--yes")
        assert ran.code == 0, f"{name}: {ran.out}{ran.err}"
        is_whole(house, hub, f"gauge-{number}")
