"""A tenant of the sandbox with an interface of its own: served by the dialect of the example, under faults, beside other writers."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import pytest

import sigillum
from conftest import Away, Desk, Json, Sandbox

EXAMPLE = Path(sigillum.__file__).parent / "example"


class Lanterns:
    """A workspace that knows it, and a second writer."""

    def __init__(self, desk: Desk, sandbox: Sandbox) -> None:
        self.desk, self.away = desk, sandbox.tenant("lanterns")
        (desk.folder / "dialects").mkdir()
        shutil.copy(EXAMPLE / "dialects" / "lanterns.yaml", desk.folder / "dialects" / "lanterns.yaml")
        desk.know(self.away, "lanterns", "ines.vole", "    driver: dialect\n", stage="test")
        desk.charter((EXAMPLE / "charters" / "lamp-watch.yaml").read_text(), "lamp-watch")
        self.night = next(s["site"] for s in self.call("GET", "sites")["sites"] if s["name"] == "night-run")

    def call(self, method: str, path: str, body: Json | None = None, admin: str = "ines.vole") -> Json:
        answer = self.away.sandbox.pool.request(
            method, f"{self.away.address}/api/{path}", json=body, headers={"Authorization": f"Bearer {self.away.tokens[admin]}"}
        )
        return {"status": answer.status, **(answer.json() if answer.data else {})}

    def policy(self) -> Json:
        return self.call("GET", f"sites/{self.night}/policy")

    def foreign(self) -> str:
        """Somebody else's host and entry, for a while."""
        self.call("POST", "hosts", {"tag": "theirs", "caption": "", "remark": "made by hand"})
        self.away.sandbox.clock(move=5)
        theirs = next(h["host"] for h in self.call("GET", "hosts")["hosts"] if h["tag"] == "theirs")
        policy = self.policy()
        policy["entries"].append({"role": "lamp-keeper", "hosts": [f"host:{theirs}"], "until": "2030-01-01T00:00:00Z"})
        assert self.call("PUT", f"sites/{self.night}/policy", policy)["status"] == 200
        return str(theirs)


@pytest.fixture
def lanterns(bare: Desk, sandbox: Sandbox) -> Lanterns:
    return Lanterns(bare, sandbox)


def test_it_is_tried_and_serves_and_leaves_others_entries_alone(lanterns: Lanterns) -> None:
    desk = lanterns.desk
    theirs = lanterns.foreign()
    ran = desk.run("dialect", "try", "lanterns", "--at", "lanterns/trial", "--yes", "--format", "json")
    assert (ran.code, ran.json["safety"], ran.json["left"]) == (0, "mark kept", []), ran.out
    assert next(r["came"] for r in ran.json["rows"] if "old revision" in r["what"]) == "works"
    ran = desk.run("enact", "lamp-watch", "--yes")
    assert (ran.code, ran.out.count("holds ")) == (0, 2), ran.out + ran.err
    entries = lanterns.policy()["entries"]
    assert [(e["role"], len(e["hosts"])) for e in entries] == [("lamp-keeper", 1), ("lamp-viewer", 1)]
    assert entries[0] == {"role": "lamp-keeper", "hosts": [f"host:{theirs}"], "until": "2030-01-01T00:00:00Z"}
    assert desk.run("explain", "lamp-watch", "lamp.read", "lanterns/night-run", "--ask-tenant").code == 0
    ran = desk.run(
        "lend", "lamp-keeper", "--at", "lanterns/night-run", "--to", "lamp-watch", "--for", "10m", "--because", "x", "--yes"
    )
    assert (ran.code, "It ends by itself" in ran.out) == (0, True), ran.out + ran.err
    assert desk.run("retire", "lamp-watch", "--because", "over", "--yes").code == 0
    assert lanterns.policy()["entries"] == entries[:1]


@pytest.mark.parametrize(
    ("method", "path", "fate"),
    [
        *((m, p, "lost-after") for m, p in (("POST", "/hosts"), ("PUT", "/policy"), ("POST", "/keys"))),
        *(
            pytest.param(m, p, "lost-before", marks=pytest.mark.soak)
            for m, p in (("POST", "/hosts"), ("PUT", "/policy"), ("POST", "/keys"))
        ),
    ],
)
def test_a_lost_answer_makes_nothing_twice(lanterns: Lanterns, method: str, path: str, fate: str) -> None:
    desk, sandbox = lanterns.desk, lanterns.away.sandbox
    sandbox.faults({"kind": fate, "path": path, "method": method, "count": 1})
    desk.run("enact", "lamp-watch", "--yes")
    sandbox.faults()
    ran = desk.run("enact", "lamp-watch", "--yes")
    assert ran.code == 0, ran.out + ran.err
    [mine] = [h for h in lanterns.call("GET", "hosts")["hosts"] if h["tag"] == "lamp-watch"]
    keys: list[Any] = lanterns.call("GET", f"hosts/{mine['host']}/keys")["keys"]
    assert (len(keys), [e["hosts"] for e in lanterns.policy()["entries"]]) == (1, [[f"host:{mine['host']}"]])
    assert desk.run("rehearse", "lamp-watch", "--format", "json").json["charters"][0]["steps"] == []


def test_its_interface_takes_no_rubbish(lanterns: Lanterns) -> None:
    away: Away = lanterns.away
    policy = lanterns.policy()
    for path, method, body, status in (
        (f"sites/{lanterns.night}/policy", "PUT", {"entries": [], "revision": "old"}, 412),
        (f"sites/{lanterns.night}/policy", "PUT", {**policy, "entries": [1]}, 422),
        (f"sites/{lanterns.night}/policy", "PUT", {**policy, "entries": [{"role": "king", "hosts": ["host:x"]}]}, 422),
        ("hosts", "POST", {"tag": 1}, 422),
        ("hosts/none", "GET", None, 404),
        ("hosts/none", "PATCH", {}, 404),
        ("hosts/none", "DELETE", None, 404),
        ("sites/none/policy", "GET", None, 404),
        ("operations/none", "GET", None, 404),
        ("hosts/none/keys/none", "DELETE", None, 404),
    ):
        assert lanterns.call(method, path, body)["status"] == status, path
    assert lanterns.call("POST", "hosts", {"tag": "x"}, admin="watch")["status"] == 403
    base = away.address
    for url, status in (
        (f"{base}/scim/v2/Users", 404),
        (f"{base}/api/hosts", 401),
        (f"{base}/api/self", 401),
        (f"{base.rpartition('/')[0]}/nobody/api/hosts", 404),
    ):
        assert away.sandbox.pool.request("GET", url).status == status, url
