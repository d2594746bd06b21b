"""A program of a cluster that acts as an account elsewhere: both halves, before and after, and each half alone."""

from __future__ import annotations

import signal
from collections.abc import Callable
from dataclasses import dataclass

import pytest

from conftest import Away, Desk, Fork, Json, Sandbox, boundaries, kill_at

BEAT = """\
charter: beat
tenant: summit
owner: mara.teel@brindlemoor.example
purpose: Tells that the stations are there
identity: {kind: service-account, name: beat, display: Heartbeat}
grants: [{role: stream-writer, at: brindlemoor/sensing-prod, because: it writes it}]
trusts:
  - {name: yard, issuer: yard, audience: summit, subject: {cluster: CLUSTER, compartment: stations, local_account: heartbeat}}
workload: {in: yard, compartment: stations, account: heartbeat, programs: [heartbeat], groups: [lower, upper], trust: yard}
proofs:
  - {can: sign-in, trust: yard, outside: {cluster: CLUSTER, compartment: stations, local_account: heartbeat}}
  - {cannot: sign-in, trust: yard, outside: {cluster: CLUSTER, compartment: stations, local_account: default}}
"""
LOOK = ("explain", "beat", "stream.append", "brindlemoor/sensing-prod", "--workload", "heartbeat")


@dataclass
class Yard:
    desk: Desk
    home: Away
    cluster: Away

    def anew(self) -> None:
        self.cluster.sandbox.control("started", {"tenant": self.cluster.name, "name": "heartbeat"})

    def local(self) -> Json:
        return next(a for a in self.cluster.state()["resources"]["LocalAccount"] if a["name"] == "heartbeat")

    def cause(self) -> str:
        ran = self.desk.run(*LOOK)
        return ran.out.splitlines()[0]

    def findings(self) -> list[str]:
        return [f["code"] for f in self.desk.run("trust", "links", "yard", "--format", "json").json["findings"]]


def begun(bare: Desk, sandbox: Sandbox) -> Yard:
    home, cluster = sandbox.tenant("summit"), sandbox.tenant("stationyard")
    sandbox.control("tenants", {"slow": {cluster.name: {"MachineGroup": {"seconds": 0.5}}}})
    bare.know(home)
    bare.know(cluster, "yard", "nils.brack")
    issuer = cluster.address.removesuffix("/scim/v2")
    settings = bare.folder / "sigillum.yaml"
    settings.write_text(
        settings.read_text()
        + f"issuers:\n  yard: {{address: '{issuer}', subject: [{{part: cluster}}, {{part: compartment}}, {{part: local_account}}]}}\n"
    )
    bare.charter(BEAT.replace("CLUSTER", cluster.name), "beat")
    return Yard(bare, home, cluster)


@pytest.fixture
def yard(bare: Desk, sandbox: Sandbox) -> Yard:
    return begun(bare, sandbox)


def test_both_halves_before_and_after(yard: Yard) -> None:
    desk = yard.desk
    assert (yard.findings(), desk.run("trust", "links", "summit").code) == (["machine-shared"] * 2, 2)
    before = desk.run("prove", "beat", "--before", "--format", "json").json["charters"][0]["proofs"]
    assert [(r["held"], "share one" in r["said"]) for r in before] == [(None, False), (None, False), (False, True)]
    ran = desk.run("enact", "beat", "--yes", "--wait", "2s")
    assert (ran.code, "until heartbeat has started anew" in " ".join(ran.out.split())) == (7, True), ran.out + ran.err
    assert yard.cause() == "refused: runs-otherwise"  # on the group that gave each its own identity before
    yard.anew()
    ran = desk.run("enact", "beat", "--yes")
    assert (ran.code, "does not hold  holds" in ran.out, "before: not known" in ran.out) == (0, True, False), ran.out + ran.err
    assert "share one" in ran.out.partition("before: ")[2]
    assert (
        yard.cause(),
        desk.run("explain", "beat", "stream.append", "brindlemoor/sensing-prod", "--workload", "lift").code,
    ) == ("allowed", 2)
    assert desk.run("enact", "beat", "--yes").out.count("Nothing to do") == 1
    token = desk.folder / "beat.jwt"
    token.write_text(
        yard.cluster.sandbox.pool.request(
            "GET", f"{yard.cluster.address.removesuffix('/scim/v2')}/machines/heartbeat/token?audience=summit"
        ).json()["token"]
    )
    token.chmod(0o600)
    ran = desk.run("prove", "beat", "--outside", str(token), "--format", "json")
    assert [(r["held"], r["how"]) for r in ran.json["charters"][0]["proofs"]] == [
        (True, "tried"),
        (True, "decided, not tried"),
        (True, "asked, not tried"),
    ], ran.out
    assert (desk.run("key", "attest", "beat").code, yard.findings()) == (0, ["machine-shared"] * 2)
    ran = desk.run("retire", "beat", "--because", "over", "--yes")
    assert (ran.code, yard.local().get("links")) == (0, None), ran.out + ran.err
    assert yard.home.state()["resources"]["Trust"] == []


def test_either_half_alone_is_explained_and_a_namesake_is_told(yard: Yard, ticking: Callable[[int], None]) -> None:
    desk = yard.desk
    desk.run("enact", "beat", "--yes", "--wait", "2s", "--no-prove")
    yard.anew()
    assert yard.cause() == "allowed"
    [trust] = yard.home.state()["resources"]["Trust"]
    assert yard.home.scim("DELETE", f"/Trusts/{trust['id']}").status == 204
    assert (yard.cause(), "half-missing" in yard.findings()) == ("refused: half-missing", True)
    runs = desk.run("prove", "beat", "--format", "json").json["charters"][0]["proofs"][-1]
    assert (runs["held"], "summit does not trust it" in runs["said"]) == (False, True), runs
    ticking(10)  # what was made a moment ago might still be on its way
    assert "half-missing" in desk.run("rehearse", "beat").out
    desk.run("enact", "beat", "--yes", "--no-prove")
    assert yard.cause() == "allowed"
    patch = {
        "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
        "Operations": [
            {"op": "replace", "path": "links", "value": [{"value": "p9", "issuer": yard.home.address.removesuffix("/scim/v2")}]}
        ],
    }
    assert yard.cluster.scim("PATCH", f"/LocalAccounts/{yard.local()['id']}", patch, admin="nils.brack").status == 200
    assert desk.run("prove", "beat", "--format", "json").json["charters"][0]["proofs"][-1]["held"] is False
    assert (yard.cause(), "acts as p9" in " ".join(desk.run(*LOOK).out.split())) == ("refused: half-missing", True)
    assert ("half-missing" in yard.findings(), desk.run("enact", "beat", "--yes", "--no-prove").code) == (
        True,
        6,
    )  # nobody of that id is at summit
    assert yard.cluster.scim("DELETE", f"/LocalAccounts/{yard.local()['id']}", admin="nils.brack").status == 204
    assert (yard.cause(), "account-unknown" in yard.findings()) == ("refused: half-missing", True)
    again = {"schemas": ["urn:sigillum:scim:1.0:LocalAccount"], "name": "heartbeat", "compartment": "stations"}
    assert yard.cluster.scim("POST", "/LocalAccounts", again, admin="nils.brack").status == 201
    ran = desk.run("enact", "beat", "--yes", "--no-prove")
    assert (ran.code, "made anew" in " ".join(ran.out.split()), yard.local().get("links")) == (6, True, None), ran.out + ran.err
    ran = desk.run("enact", "beat", "--yes", "--no-prove", "--adopt")
    assert (ran.code, len(yard.local()["links"])) == (7, 1), ran.out + ran.err


def test_without_the_power_the_other_half_is_asked_for(yard: Yard) -> None:
    desk = yard.desk
    (desk.folder / ".sigillum" / "yard.nils.brack.token").write_text(yard.cluster.tokens["olga.finch"])
    file = desk.folder / "sigillum.yaml"
    file.write_text(file.read_text().replace("name: nils.brack", "name: olga.finch"))
    ran = desk.run("enact", "beat", "--yes", "--no-prove")
    assert (ran.code, yard.local().get("links"), len(yard.home.state()["resources"]["Trust"])) == (6, None, 1), (
        ran.out + ran.err
    )
    assert "somebody who holds `workloads`" in " ".join(ran.out.split())
    assert yard.cause() == "refused: half-missing"


@pytest.mark.parametrize("every", [3, pytest.param(1, marks=pytest.mark.soak)])
def test_killed_while_both_halves_are_made(bare: Desk, sandbox: Sandbox, forked: Fork, every: int) -> None:
    """In two tenants, a local account of ours among it: nothing is made twice, and nothing is left half."""
    enact = ["enact", "beat", "--yes", "--no-prove"]

    def house(number: int | str) -> Yard:
        made = Desk(bare.folder.parent / f"house-{number}", bare.capture)
        assert made.run("init", str(made.folder)).code == 0
        yard = begun(made, sandbox)
        [local] = [a for a in yard.cluster.state()["resources"]["LocalAccount"] if a["name"] == "heartbeat"]
        assert yard.cluster.scim("DELETE", f"/LocalAccounts/{local['id']}", admin="nils.brack").status == 204
        file = yard.desk.folder / "charters" / "beat.yaml"  # nobody starts it anew, so nothing is waited for
        file.write_text(
            file.read_text().replace("programs: [heartbeat]", "programs: [later]").replace(", groups: [lower, upper]", "")
        )
        return yard

    names = boundaries(house("first").desk, forked, enact)
    assert any(n.startswith("link-workload") for n in names), names
    for number, name in enumerate([n for n in names if "workload" in n or "trust" in n][::every]):
        yard = house(number)
        assert forked(yard.desk, enact, kill_at(name)) == (0, signal.SIGKILL), name
        again = yard.desk.run(*enact)
        assert again.code == 0, f"{name}: {again.out}{again.err}"
        assert (
            len(yard.local()["links"]),
            len(yard.home.state()["resources"]["Trust"]),
            len(yard.cluster.state()["resources"]["LocalAccount"]),
        ) == (1, 1, 2), name
        assert [s["facet"] for s in yard.desk.run("rehearse", "beat", "--format", "json").json["charters"][0]["steps"]] == [
            "proof"
        ]


def test_a_cluster_that_does_not_answer_takes_no_other_result_along(yard: Yard) -> None:
    desk = yard.desk
    desk.run("enact", "beat", "--yes", "--no-prove")
    file = desk.folder / "sigillum.yaml"
    there = file.read_text()
    file.write_text(there.replace(yard.cluster.address, "http://127.0.0.1:9/x"))
    assert desk.run("tenant", "moved", "yard", "--because", "so they say").code == 0
    found = desk.run("prove", "beat", "--format", "json").json["charters"][0]["proofs"]
    assert [(r["held"], r["how"]) for r in found] == [(True, "decided, not tried")] * 2 + [(None, "not possible")]
    assert [desk.run(*w).code for w in (("trust", "links", "yard"), LOOK, ("rehearse", "beat"))] == [5, 5, 5]
    file.write_text(there.replace(yard.home.address, "http://127.0.0.1:9/x"))
    assert desk.run("tenant", "moved", "yard", "--because", "it is back").code == 0
    ran = desk.run("trust", "links", "yard")
    assert (ran.code, "Whom summit trusts is not shown" in ran.err, "is not known here" in ran.out) == (1, True, False), ran.out
