"""Retired: all that a charter made is ended and refused, for every way in; what is left is listed, and nothing is orphaned."""

from __future__ import annotations

import signal
from collections.abc import Callable
from typing import Any

import pytest

from cli.test_rotation import KINDS, house
from cli.test_suspension import account, switch
from conftest import CHARTER, Away, Desk, FileKeyring, Fork, Json, Sandbox, kill_at

Tick = Callable[[int], None]
WHY = ("--because", "the mast is gone", "--yes")


def retire(desk: Desk, *more: str) -> tuple[int, Json]:
    ran = desk.run("retire", "wind-ingest", *WHY, "--format", "json", *more)
    return ran.code, ran.json.get("retired", [ran.json])[0] if ran.out else {"err": ran.err}


def counted(away: Away) -> dict[str, int]:
    """How many things of each kind stand in a tenant."""
    return {kind: len(found) for kind, found in away.state()["resources"].items() if found}


@pytest.mark.parametrize("kind", KINDS)
def test_each_kind_is_ended_and_refused(bare: Desk, sandbox: Sandbox, vault: FileKeyring, kind: str) -> None:
    desk, away, consumer = house(bare, sandbox, kind)
    assert consumer.let_in()
    consumer.fetches = False
    plan = desk.run("retire", "wind-ingest", "--rehearse", "--format", "json").json["retired"][0]
    assert ([u["credential"] for u in plan["used"]], plan["used"][0]["at"] is not None, consumer.let_in()) == (
        ["ingest-key"],
        True,
        True,
    )
    code, told = retire(desk)
    assert (code, told["retired"], consumer.let_in()) == (0, True, False), told
    assert [w["refused"] for w in told["ways"]] == [True, True], told["ways"]
    assert counted(away) == counted(sandbox.tenant(KINDS[kind][0]))
    assert (list((desk.folder / ".sigillum" / "keys").glob("**/*.json")), vault.kept) == ([], {})
    assert [s["about"] for s in plan["steps"]] == [s["about"] for s in told["steps"]]
    again = desk.run("retire", "wind-ingest")  # its close-out list, from the ledger
    assert (again.code, "wind-ingest is retired" in again.out, "refused" in again.out) == (0, True, True)
    for words in (("enact", "wind-ingest", "--yes"), ("rehearse", "wind-ingest")):
        ran = desk.run(*words)
        assert (ran.code, "and is not begun anew silently" in " ".join(ran.out.split())) == (3, True), ran.out
    assert "retired wind-ingest" in desk.run("ledger", "show", "wind-ingest").out
    assert desk.run("enact", "wind-ingest", "--revive", "--yes").code == 0
    assert "Nothing to do" in desk.run("rehearse", "wind-ingest").out
    assert desk.run("ledger", "verify").code == 0


def test_its_file_may_be_gone(desk: Desk, away: Away) -> None:
    before = counted(away)
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    lent = desk.run(
        "lend",
        "stream-reader",
        "--at",
        "brindlemoor/sensing-prod",
        "--to",
        "wind-ingest",
        "--for",
        "2h",
        "--because",
        "x",
        "--yes",
    )
    assert lent.code == 0, lent.out + lent.err
    (desk.folder / "charters" / "wind-ingest.yaml").unlink()
    assert "wind-ingest" in desk.run("rehearse", "--all").out
    shown = desk.run("retire", "wind-ingest", "--rehearse")
    assert all(w in shown.out for w in ("its file is gone", "recall", "account wind-ingest")), shown.out
    code, told = retire(desk)
    assert (code, told["retired"], [w["refused"] for w in told["ways"]]) == (0, True, [True, True]), told
    assert (counted(away), "wind-ingest" in desk.run("rehearse", "--all").out) == (before, False)


def test_what_was_taken_over_is_given_back(bare: Desk, sandbox: Sandbox) -> None:
    for more, stands in (((), 1), (("--adopted-too",), 0)):
        away = sandbox.tenant()
        before = counted(away)
        desk = Desk(bare.folder.parent / f"adopting{stands}", bare.capture)
        assert desk.run("init", str(desk.folder)).code == 0
        desk.know(away, "summit")
        away.make(
            "/Users",
            {
                "schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"],
                "userName": "wind-ingest",
                "displayName": "Wind readings ingest",
                "active": True,
            },
        )
        desk.charter(CHARTER)
        ran = desk.run("enact", "wind-ingest", "--adopt", "--yes")
        assert ran.code == 0, ran.out
        code, told = retire(desk, *more)
        assert (code, counted(away)) == (0, before | {"User": before["User"] + stands}), told
        assert ("given back" in str(told["close_out"]["left"])) is bool(stands)
        assert [w["refused"] for w in told["ways"]] == [True, True]  # its key is ours, and ended


def test_what_somebody_else_stopped_may_be_evidence(bare: Desk, sandbox: Sandbox, ticking: Tick) -> None:
    desk, away, _ = house(bare, sandbox)
    [key] = [c for c in away.of("Credential") if c.get("name") == "ingest-key"]
    for kind, identity in (("Users", account(away)["id"]), ("Credentials", key["id"])):
        switch(away, kind, identity, False)
        ticking(10)
        code, told = retire(desk)
        assert (code, "which somebody else switched off" in str(told)) == (6, True), told
        switch(away, kind, identity, True)
        ticking(10)
    switch(away, "Users", account(away)["id"], False)
    ticking(10)
    code, told = retire(desk, "--stopped-too")
    assert (code, away.of("User")) == (0, []), told
    desk, away, _ = house(bare, sandbox, number=2)
    assert desk.run("suspend", "wind-ingest", "--because", "x", "--yes").code == 0  # what we stopped ourselves is no evidence
    assert (retire(desk)[0], away.of("User")) == (0, [])
    assert desk.run("sweep", "--yes").out.startswith("Nothing")


def test_tokens_that_outlive_it_are_waited_out(bare: Desk, sandbox: Sandbox, ticking: Tick) -> None:
    desk, away, _ = house(bare, sandbox)
    sandbox.control("tenants", {"describe": {away.name: {"tokens_outlive": True}}})
    assert desk.run("rotate", "wind-ingest").code == 7
    code, told = retire(desk)
    assert (code, told["retired"], "tokens that it got before may live until" in str(told["errors"])) == (7, False, True), told
    blocked = desk.run("enact", "wind-ingest", "--yes")
    assert (blocked.code, "is being retired" in blocked.out) == (3, True)
    ticking(601)
    code, told = retire(desk)
    assert (code, told["retired"], {w["refused"] for w in told["ways"]}) == (0, True, {True}), told
    assert desk.run("rotate", "--status").out.startswith("No rotation")


def test_others_are_retired_where_one_is_not_known(desk: Desk) -> None:
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    assert desk.run("retire", "wind-ingest", "--yes").code == 2  # without a reason
    assert desk.answered("no\n", "retire", "wind-ingest", "--because", "x").code == 1
    assert desk.run("retire", "wind-ingset", *WHY).code == 2
    ran = desk.run("retire", "wind-ingset", "wind-ingest", *WHY)
    assert (ran.code, "knows no charter 'wind-ingset'" in ran.err, "wind-ingest is retired" in ran.out) == (2, True, True)


@pytest.mark.parametrize("fate", [*(pytest.param(f, marks=pytest.mark.soak) for f in ("arrives", "lost-before")), "lost-after"])
def test_killed_at_every_boundary_nothing_is_orphaned(
    bare: Desk, sandbox: Sandbox, forked: Fork, ticking: Tick, fate: str
) -> None:
    nothing_else, (first, _, _) = counted(sandbox.tenant()), house(bare, sandbox, number="first")
    path, words = first.folder / "seen", ["retire", "wind-ingest", *WHY]

    def note(name: str) -> None:
        with path.open("a") as file:
            file.write(name + "\n")

    assert forked(first, words, note)[1] == 0
    names = list(dict.fromkeys(path.read_text().splitlines()))
    assert {"retirement written", "retired", "keys removed", "token of ingest-key kept"} <= set(names) and len(names) >= 16
    for number, name in enumerate(n for n in names if fate == "arrives" or n.endswith(("answered", "settled"))):
        desk, away, consumer = house(bare, sandbox, number=f"{fate}-{number}")
        consumer.let_in()
        consumer.fetches = False
        order: Any = {"kind": fate, "method": "DELETE", "path": f"{away.name}/scim/v2/"}
        sandbox.faults(*([order] if fate != "arrives" else []))
        assert forked(desk, words, kill_at(name))[1] == signal.SIGKILL, name
        sandbox.faults()
        ticking(10)
        code, told = retire(desk)
        assert (code, told["retired"], consumer.let_in()) == (0, True, False), f"{name}: {told}"
        assert {w["refused"] for w in told["close_out"]["ways"]} == {True}, f"{name}: {told}"
        assert counted(away) == nothing_else, name
        assert not list((desk.folder / ".sigillum" / "keys").glob("**/*.*")), name
        assert desk.run("ledger", "verify").code == 0
