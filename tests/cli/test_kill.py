"""Killed at any moment, whatever became of the request in flight: one more `enact` ends as if nothing had happened."""

from __future__ import annotations

import json
import os
import random
import signal
import time
from typing import Any

import pytest

from conftest import CHARTER, Away, Desk, Fork, Sandbox, boundaries, kill_at

TOKEN_CHARTER = CHARTER.replace("kind: key-pair", "kind: api-token")
FATES: dict[str, dict[str, Any] | None] = {
    "arrives": None,
    "lost-before": {"kind": "lost-before"},
    "lost-after": {"kind": "lost-after"},
    "busy": {"kind": "status", "status": 503, "retry_after": 0},
    "torn": {"kind": "torn"},
}
ENACT = ["enact", "wind-ingest", "--yes", "--end"]
SECONDS = 3.0


def check_as_undisturbed(desk: Desk, away: Away) -> None:
    """Nothing twice, nothing live that nobody holds, the ledger valid, and nothing left to do."""
    assert len(away.of("User")) == 1
    assert [(g["role"]["value"], g["place"]["value"]) for g in away.of("Grant")] == [
        (r["id"], p["id"])
        for r in away.state()["resources"]["Role"]
        if r["name"] == "stream-writer"
        for p in away.state()["resources"]["Place"]
        if p["path"] == "brindlemoor/sensing-prod"
    ]
    credentials = away.of("Credential")
    assert [c["active"] for c in credentials] == [True]
    kept = [json.loads(p.read_text()) for p in (desk.folder / ".sigillum" / "keys").glob("*/*.json")]
    if credentials[0]["kind"] == "key-pair":
        assert credentials[0]["publicKey"]["x"] in [k["key"]["x"] for k in kept]
    else:
        assert away.state()["unread"] == []
        assert any(k.get("secret") for k in kept)
    verified = desk.run("ledger", "verify", "--format", "json")
    assert verified.json["good"], verified.out
    strict = desk.run("rehearse", "wind-ingest", "--strict", "--format", "json")
    assert strict.code == 0, strict.out + strict.err
    assert strict.json["charters"][0]["steps"] == []
    assert desk.run("prove", "wind-ingest").code == 0


def path_of(boundary: str) -> str:
    """Which endpoint the step of a boundary writes to."""
    return {"make-account": "Users", "make-grant": "Grants"}.get(boundary.split()[0], "Credentials")


# look-ups that lag, and the milder fates: with `make soak`
@pytest.mark.parametrize(
    ("fate", "lag"),
    [
        pytest.param(
            f,
            lag,
            id=f"{f}-{'lagging' if lag else 'at-once'}",
            marks=[pytest.mark.soak] if lag or f in ("lost-before", "busy", "torn") else [],
        )
        for f in FATES
        for lag in (0.0, 0.15)
    ],
)
def test_killed_at_every_boundary_with_every_fate_of_the_request(
    desk: Desk, away: Away, sandbox: Sandbox, forked: Fork, fate: str, lag: float
) -> None:
    names = boundaries(desk, forked, ENACT)
    assert len(names) >= 18
    for number, name in enumerate(names):
        if FATES[fate] is not None and not any(w in name for w in ("intended", "answered", "settled", "read-back")):
            continue
        fresh = sandbox.tenant(arrival_seconds=lag)
        house = Desk(desk.folder.parent / f"house-{number}", desk.capture)
        assert house.run("init", str(house.folder)).code == 0
        house.know(fresh)
        house.charter()
        order = FATES[fate]
        if order is not None:
            method = "PATCH" if "activate" in name else "POST"
            sandbox.faults({**order, "method": method, "path": f"{fresh.name}/scim/v2/{path_of(name)}"})
        assert forked(house, ENACT, kill_at(name)) == (0, signal.SIGKILL), name
        sandbox.faults()
        again = house.run(*ENACT)
        assert again.code == 0, f"{name}: {again.out}{again.err}"
        check_as_undisturbed(house, fresh)


@pytest.mark.parametrize("fate", [pytest.param("arrives", marks=pytest.mark.soak), "lost-after"])
@pytest.mark.parametrize("tenant", ["summit", "once"])
def test_a_secret_that_only_the_tenant_makes(bare: Desk, sandbox: Sandbox, forked: Fork, tenant: str, fate: str) -> None:
    """Kept: switched on. Not kept: ended, and the next generation follows; sealed or given once."""

    def house(number: int | str) -> tuple[Desk, Away]:
        fresh = sandbox.tenant(tenant)
        made = Desk(bare.folder.parent / f"house-{number}", bare.capture)
        assert made.run("init", str(made.folder)).code == 0
        made.know(fresh)
        made.charter(TOKEN_CHARTER)
        return made, fresh

    names = boundaries(house("first")[0], forked, ENACT)
    assert any("catch" in n for n in names)
    for number, name in enumerate(n for n in names if "ingest-key" in n):
        desk, fresh = house(number)
        if fate != "arrives":
            sandbox.faults(
                {
                    "kind": fate,
                    "method": "POST",
                    "path": f"{fresh.name}/scim/v2/Credentials",
                    "skip": 1 if "catch" in name else 0,
                }
            )
        assert forked(desk, ENACT, kill_at(name))[1] in (signal.SIGKILL, 0)
        sandbox.faults()
        again = desk.run(*ENACT)
        assert again.code == 0, f"{name}: {again.out}{again.err}"
        check_as_undisturbed(desk, fresh)


WIDE = (
    CHARTER.replace(
        "grants:\n",
        """\
services: [{service: timetable-boards, at: brindlemoor/timetable}]
roles: [{name: board-looker, permissions: [board.read]}]
member_of: [ingest-team]
grants:
  - {role: board-looker, at: brindlemoor/timetable}
""",
    )
    .replace("proofs:\n", "proofs:\n  - {can: board.read, at: brindlemoor/timetable/prod}\n")
    .replace(", limits: [stream.append, stream.read]", "")
)


@pytest.mark.parametrize("fate", [*(pytest.param(f, marks=pytest.mark.soak) for f in ("arrives", "lost-before")), "lost-after"])
def test_services_roles_and_memberships(bare: Desk, sandbox: Sandbox, forked: Fork, fate: str) -> None:
    def house(number: int | str) -> tuple[Desk, Away]:
        fresh = sandbox.tenant()
        made = Desk(bare.folder.parent / f"house-{number}", bare.capture)
        assert made.run("init", str(made.folder)).code == 0
        made.know(fresh)
        made.charter(WIDE)
        return made, fresh

    names = [
        n
        for n in boundaries(house("first")[0], forked, ENACT)
        if n.startswith(("switch-on", "make-role", "join", "make-grant"))
    ]
    assert len(names) >= 14
    for number, name in enumerate(names):
        desk, fresh = house(number)
        if FATES[fate] is not None:
            part = {"swi": "Places", "joi": "Groups"}.get(name[:3], "Roles" if name.startswith("make-role") else "Grants")
            sandbox.faults(
                {
                    "kind": fate,
                    "method": "PATCH" if part in ("Places", "Groups") else "POST",
                    "path": f"{fresh.name}/scim/v2/{part}",
                }
            )
        assert forked(desk, ENACT, kill_at(name)) == (0, signal.SIGKILL), name
        sandbox.faults()
        again = desk.run(*ENACT)
        assert again.code == 0, f"{name}: {again.out}{again.err}"
        held = fresh.state()["resources"]
        who = fresh.of("User")[0]["id"]
        assert [r["name"] for r in held["Role"]].count("board-looker") == 1
        assert [m["value"] for g in held["Group"] if g["displayName"] == "ingest-team" for m in g["members"]].count(who) == 1
        assert [[s["value"] for s in p["services"]] for p in held["Place"] if p["path"] == "brindlemoor/timetable"] == [
            ["timetable-boards"]
        ]
        assert len(fresh.of("Grant")) == 2
        assert desk.run("rehearse", "wind-ingest", "--strict").code == 0


@pytest.mark.parametrize("fate", [*(pytest.param(f, marks=pytest.mark.soak) for f in ("arrives", "lost-before")), "lost-after"])
def test_a_loan_goes_on_with_its_own_end(desk: Desk, away: Away, sandbox: Sandbox, forked: Fork, fate: str) -> None:
    assert desk.run(*ENACT).code == 0
    words = [
        "lend",
        "stream-keeper",
        "--at",
        "brindlemoor/cameras",
        "--to",
        "wind-ingest",
        "--for",
        "10m",
        "--because",
        "trial",
        "--yes",
    ]
    for name in ("loan written", *(f"lend-loan in summit {at}" for at in ("intended", "answered", "settled", "read-back"))):
        if FATES[fate] is not None:
            sandbox.faults({"kind": fate, "method": "POST", "path": f"{away.name}/scim/v2/Grants"})
        assert forked(desk, words, kill_at(name)) == (0, signal.SIGKILL), name
        sandbox.faults()
        begun = desk.run("loans", "--format", "json").json["loans"]
        made = name.endswith("read-back") or (
            name.endswith("settled") and fate == "arrives"
        )  # first it settles that the answer is lost
        assert [loan["state"] for loan in begun] == ["in-force" if made else "begun"], name
        if fate == "lost-after" and not made:  # a sweep finds what a killed one left
            swept = desk.run("sweep", "--yes")
            assert (swept.code, "its lending was interrupted" in swept.out) in ((0, True), (7, True)), swept.out + swept.err
            assert swept.code == 7 or len(away.of("Grant")) == 1  # where look-ups may be late, nothing is concluded
            assert desk.run("recall", begun[0]["loan"]).code == swept.code
            time.sleep(6 if swept.code else 0)  # the tenant's arrival time
            assert desk.run("sweep", "--yes").code == 0
            assert (desk.run("loans").out, len(away.of("Grant"))) == ("", 1)
            continue
        assert desk.run(*words).code == 0
        [loan] = desk.run("loans", "--format", "json").json["loans"]
        assert (loan["until"], len(away.of("Grant"))) == (begun[0]["until"], 2)
        assert desk.run("rehearse", "wind-ingest", "--strict").code == 0
        assert forked(desk, ["recall", loan["loan"]], kill_at("recall written"))[1] == signal.SIGKILL
        assert [loan["state"] for loan in desk.run("loans", "--format", "json").json["loans"]] == ["leaving"]
        assert forked(desk, ["recall", loan["loan"]], kill_at("recall-loan in summit answered"))[1] == signal.SIGKILL
        assert (
            desk.run(*(["sweep", "--yes"] if fate == "arrives" else ["recall", loan["loan"]])).code == 0
        )  # whoever comes next goes on
        assert len(away.of("Grant")) == 1
        assert desk.run("loans", "--format", "json").json["loans"] == []


def killed_at_random_moments(desk: Desk, sandbox: Sandbox, fork: Fork, seeds: range) -> None:
    for seed in seeds:
        chance = random.Random(seed)
        fresh = sandbox.tenant(arrival_seconds=chance.choice([0, 0, 0.1]))
        house = Desk(desk.folder.parent / f"random-{seed}", desk.capture)
        assert house.run("init", str(house.folder)).code == 0
        house.know(fresh)
        house.charter(chance.choice([CHARTER, TOKEN_CHARTER]))
        kind = chance.choice(["lost-before", "lost-after", "torn", "status", None])
        if kind is not None:
            sandbox.faults(
                {"kind": kind, "path": fresh.name, "skip": chance.randrange(12), "method": chance.choice(["POST", "PATCH"])}
            )
        moment = chance.uniform(0.01, 0.5)
        child = os.fork()
        if child == 0:
            os._exit(_quietly(house))
        time.sleep(moment)
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        sandbox.faults()
        again = house.run(*ENACT)
        assert again.code == 0, f"seed {seed}: {again.out}{again.err}"
        check_as_undisturbed(house, fresh)


def _quietly(desk: Desk) -> int:
    from sigillum.cli.main import main

    null = os.open(os.devnull, os.O_RDWR)
    for number in (0, 1, 2):
        os.dup2(null, number)
    try:
        return main(["--workspace", str(desk.folder), *ENACT])
    except BaseException:
        return 99


@pytest.mark.parametrize("part", [0, *(pytest.param(n, marks=pytest.mark.soak) for n in (1, 2, 3))])
def test_killed_at_sixty_random_moments(desk: Desk, sandbox: Sandbox, forked: Fork, part: int) -> None:
    killed_at_random_moments(desk, sandbox, forked, range(part * 15, part * 15 + 15))


@pytest.mark.soak
def test_killed_at_a_thousand_random_moments(desk: Desk, sandbox: Sandbox, forked: Fork) -> None:
    killed_at_random_moments(desk, sandbox, forked, range(1000, 2000))


@pytest.mark.parametrize("moment", ["settled", "read-back"])
def test_a_key_that_is_active_at_once_is_completed_after_a_kill(
    desk: Desk, away: Away, sandbox: Sandbox, forked: Fork, moment: str
) -> None:
    sandbox.control("tenants", {"describe": {away.name: {"born_inactive": False}}})
    assert forked(desk, list(ENACT), kill_at(f"make-credential ingest-key in summit {moment}")) == (0, signal.SIGKILL)
    assert desk.run(*ENACT).code == 0
    (kept,) = (
        json.loads(p.read_text())["credential"] for p in (desk.folder / ".sigillum" / "keys").glob("*/ingest-key-1.json")
    )
    assert kept["credential_id"] and kept["token_endpoint"] and kept["principal_id"] and kept["ends"]
    assert desk.run("rehearse", "wind-ingest", "--strict").code == 0
