"""Tenants that a dialect file describes: the built program against small services of other tastes."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from conftest import Desk
from tenants.services import Lock, Quay, Wharf

HERE = Path(__file__).parent / "dialects"
CHARTER = """\
charter: crane
tenant: {tenant}
owner: mara.teel@brindlemoor.example
purpose: Reads what lies at the piers
identity: {{kind: service-account, name: crane-7, display: Crane seven}}
grants: [{{role: looker, at: {place}, because: it reads}}]
credentials: [{{name: crane-pass, kind: {kind}, lasts: 30d}}]
proofs:
  - {{can: {thing}.read, at: {place}}}
  - {{cannot: {thing}.{changes}, at: {trial}}}
"""
TASTES: dict[str, tuple[Callable[[], Any], str, dict[str, str]]] = {
    "quay": (Quay, "hugo.pell", {"place": "quay/north", "trial": "quay/trial", "kind": "api-token", "thing": "cargo", "changes": "load"}),
    "lock": (Lock, "root", {"place": "north", "trial": "trial", "kind": "password", "thing": "key", "changes": "write"}),
    "wharf": (Wharf, "hugo.pell", {"place": "north", "trial": "trial", "kind": "api-token", "thing": "cargo", "changes": "load"})}


class House:
    """A workspace that knows one of these services."""

    def __init__(self, desk: Desk, name: str) -> None:
        make, admin, words = TASTES[name]
        self.desk, self.name, self.service, self.charter = desk, name, make(), CHARTER.format(tenant=name, **words)
        self.words = words
        (desk.folder / "dialects").mkdir()
        shutil.copy(HERE / f"{name}.yaml", desk.folder / "dialects")
        (desk.folder / "admin.secret").write_text(self.service.key)
        (desk.folder / "admin.secret").chmod(0o600)
        ran = desk.run("tenant", "add", name, self.service.address, "--driver", "dialect", "--admin", admin, "--token", "file:admin.secret",
                       "--stage", "test")
        assert ran.code == 0, ran.out + ran.err

    def enact(self, *more: str) -> Any:
        self.desk.charter(self.charter, "crane")
        return self.desk.run("enact", "crane", "--yes", *more)

    def is_whole(self) -> None:
        """Exactly what is wanted stands there, and another run does nothing."""
        accounts, credentials, held = self.service.count()
        assert (accounts, credentials, len(held)) == (["crane-7"], 1, 1)
        made = self.service.changes
        ran = self.desk.run("enact", "crane", "--yes")
        assert (ran.code, self.service.changes) == (0, made), ran.out + ran.err
        assert self.desk.run("rehearse", "crane", "--format", "json").json["charters"][0]["steps"] == []


@pytest.fixture(params=TASTES)
def house(bare: Desk, request: pytest.FixtureRequest) -> Iterator[House]:
    made = House(bare, request.param)
    yield made
    made.service.stop()


@pytest.fixture
def quay(bare: Desk) -> Iterator[House]:
    made = House(bare, "quay")
    yield made
    made.service.stop()


def test_a_charter_serves_where_a_dialect_says_how(house: House) -> None:
    ran = house.enact()
    assert (ran.code, ran.out.count("holds "), house.service.key in ran.out + ran.err) == (0, 2, False), ran.out + ran.err
    house.is_whole()
    assert house.desk.run("ledger", "verify").code == 0


@pytest.mark.parametrize("fate", ["lost-before", "lost-after", "busy"])
@pytest.mark.parametrize("number", range(3))
def test_whatever_becomes_of_a_request_one_more_run_ends_with_what_is_wanted(house: House, number: int, fate: str) -> None:
    house.service.fates = [""] * number + [fate]
    for _ in range(2):
        ran = house.enact()
        assert "Traceback" not in ran.err
    assert ran.code == 0, ran.out + ran.err
    house.is_whole()


def test_others_entries_of_one_document_stay(quay: House) -> None:
    service = quay.service
    service.policies["2"] = (7, {"bindings": [{"role": "looker", "members": ["person:ada", "robot:1"]}, {"role": "owner", "members": ["person:ada"], "note": "x"}]})
    assert quay.enact().code == 0
    [number] = service.robots
    theirs = {"role": "owner", "members": ["person:ada"], "note": "x"}
    assert service.policies["2"][1]["bindings"] == [{"role": "looker", "members": ["person:ada", "robot:1", f"robot:{number}"]}, theirs]
    assert quay.desk.run("retire", "crane", "--because", "over", "--yes").code == 0
    assert service.policies["2"][1]["bindings"] == [{"role": "looker", "members": ["person:ada", "robot:1"]}, theirs]


def test_what_a_stranger_made_is_left_alone(quay: House) -> None:
    quay.service.robots["7"] = {"number": 7, "login": "crane-7", "caption": "Theirs", "remark": "", "state": "enabled"}
    ran = quay.enact()
    assert (ran.code, len(quay.service.robots), quay.service.changes) == (6, 1, 0), ran.out + ran.err
    ran = quay.enact("--adopt")
    assert (ran.code, quay.service.robots["7"]["caption"], len(quay.service.robots)) == (0, "Crane seven", 1), ran.out + ran.err


def test_its_credential_is_rotated_suspended_and_retired(quay: House) -> None:
    desk, service = quay.desk, quay.service
    assert quay.enact().code == 0
    ran = desk.run("rotate", "crane")
    assert ("the new crane-pass where its consumers read it" in ran.out, len(service.tokens)) == (True, 2), ran.out + ran.err
    ran = desk.run("rotate", "crane", "--end", "--yes", "--format", "json")
    assert ([t["title"] for t in service.tokens.values()], ran.json["rotations"][0]["stage"]) == (["crane-pass-2"], "ended"), ran.out + ran.err
    ran = desk.run("suspend", "crane", "--because", "x", "--yes")
    assert (ran.code, [r["state"] for r in service.robots.values()], "refused" in ran.out) == (0, ["disabled"], True), ran.out + ran.err
    assert desk.run("reinstate", "crane", "--because", "x").code == 6  # it shows no versions, so what is off is off for both
    service.robots[next(iter(service.robots))]["state"] = "enabled"
    ran = desk.run("retire", "crane", "--because", "over", "--yes")
    assert (ran.code, service.count()) == (0, ([], 0, [])), ran.out + ran.err


def test_all_ends_at_a_retirement(house: House) -> None:
    assert house.enact().code == 0
    ran = house.desk.run("retire", "crane", "--because", "over", "--yes")
    assert (ran.code, house.service.count()) == (0, ([], 0, [])), ran.out + ran.err
    assert "does not hold" not in ran.out


def test_a_dialect_is_tried(house: House) -> None:
    house.service.fates = []
    assert "never tried" in house.desk.run("tenant", "inspect", house.name).out
    ran = house.desk.run("dialect", "try", house.name, "--at", house.words["trial"], "--yes", "--format", "json")
    told = {r["what"]: r["came"] for r in ran.json["rows"]}
    assert (ran.code, house.service.count(), ran.json["left"]) == (0, ([], 0, []), []), ran.json
    assert ran.json["safety"] == ("name only" if house.name == "lock" else "mark kept")
    assert (f"{ran.json['safety']}, as tried on" in house.desk.run("tenant", "inspect", house.name).out, "differs" in told.values()) == (True, False), told


def test_a_server_that_ignores_revisions_is_told(quay: House) -> None:
    quay.service.heeds_etag = False
    ran = quay.desk.run("dialect", "try", "quay", "--at", "quay/trial", "--yes", "--format", "json")
    wrong = [r for r in ran.json["rows"] if r["came"] == "differs"]
    assert (ran.code, [r["what"] for r in wrong], "may be overwritten" in wrong[0]["why"]) == (1, ["an old revision of its document is refused"], True)
