"""Acting as somebody else: only by a right, for a while, ended in the tenant itself, whatever becomes of us."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from collections.abc import Callable

import pytest

from cli.test_with import PROGRAM
from conftest import CHARTER, Away, Desk, Fork

Tick = Callable[[int], None]
TELL = "import json, os, sys; print(json.dumps({n: open(v).read() if n.endswith('_FILE') else v for n, v in os.environ.items() if n.startswith('WIND_INGEST')})); sys.exit(7)"
AS = ("--as", "wind-ingest", "--tenant", "summit")


@pytest.fixture
def acting(bare: Desk, away: Away) -> Desk:
    """wind-ingest stands."""
    desk = bare
    desk.know(away, extra="    clock: tenant\n")
    desk.charter(CHARTER)
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    return desk


def called(away: Away, token: str) -> int:
    return away.sandbox.pool.request(
        "GET",
        f"{away.address.removesuffix('/scim/v2')}/work/streams/brindlemoor/sensing-prod/streams/mast-4",
        headers={"Authorization": f"Bearer {token}"},
    ).status


def with_(desk: Desk, *words: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [*PROGRAM, "with", *words, "--", sys.executable, "-c", TELL],
        cwd=desk.folder,
        capture_output=True,
        text=True,
        timeout=90,
    )


@pytest.mark.parametrize("put", ["file", "environment"])
def test_it_takes_the_right_which_is_lent_and_given_back(acting: Desk, away: Away, put: str) -> None:
    ran = with_(acting, *AS)
    assert (ran.returncode, ran.stdout, "ada.rusk may not act as wind-ingest" in ran.stderr, "--lend 10m" in ran.stderr) == (
        4,
        "",
        True,
        True,
    )
    ran = with_(acting, *AS, "--put", put, "--lend", "10m", "--because", "mast 4 is silent")
    first = ran.stderr.splitlines()[0]
    assert (ran.returncode, "acting as wind-ingest of summit until" in first, "as ada.rusk, by loan-" in first) == (
        7,
        True,
        True,
    ), ran.stderr
    token = next(v for n, v in json.loads(ran.stdout).items() if n in ("WIND_INGEST_TOKEN", "WIND_INGEST_TOKEN_FILE")).strip()
    claims = away.sandbox.pool.request(
        "POST",
        f"{away.address.removesuffix('/scim/v2')}/oauth/introspect",
        fields={"token": token},
        encode_multipart=False,
        headers={"Authorization": f"Bearer {away.tokens['ada.rusk']}"},
    ).json()
    assert (called(away, token), claims) == (401, {"active": False})  # the right was given back, and each use asks for it
    assert acting.run("loans").out == ""
    assert all(word in acting.run("ledger", "show").out for word in ("lent identity-user", "recalled the loan"))
    for words, code, told in (
        (("--as", "wind-ingest", "--lend", "10m"), 2, "a duration and a reason"),
        (("--as", "nobody"), 6, "no account or team"),
        (("--as", "ingest-team"), 2, "only accounts"),
        (("--as", "wind-ingest", "wind-ingest"), 2, "stands for itself"),
    ):
        ran = with_(acting, *words, "--tenant", "summit")
        assert (ran.returncode, told in ran.stderr, "Traceback" in ran.stderr) == (code, True, False), ran.stderr


def test_after_a_kill_the_tenant_itself_ends_it(acting: Desk, away: Away, ticking: Tick) -> None:
    with subprocess.Popen(
        [
            *PROGRAM,
            "with",
            *AS,
            "--lend",
            "10m",
            "--because",
            "x",
            "--",
            sys.executable,
            "-u",
            "-c",
            TELL.replace("sys.exit(7)", "import time; time.sleep(60)"),
        ],
        cwd=acting.folder,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
        start_new_session=True,
    ) as process:
        assert process.stdout is not None
        token = json.loads(process.stdout.readline())["WIND_INGEST_TOKEN_FILE"].strip()
        assert called(away, token) == 200
        os.killpg(process.pid, signal.SIGKILL)
    assert called(away, token) == 200
    ticking(601)
    assert called(away, token) == 401  # without any sweep
    assert acting.run("sweep", "--yes").code == 0
    assert [g for g in away.state()["resources"]["Grant"] if g.get("reason") == "x"] == []


def test_a_kill_while_the_right_is_lent_leaves_nothing_after_a_sweep(
    acting: Desk, away: Away, forked: Fork, ticking: Tick
) -> None:
    for name in ("loan written", "intended", "answered", "settled"):

        def at(told: str, name: str = name) -> None:
            if name in told:
                os.kill(os.getpid(), signal.SIGKILL)

        assert (
            forked(
                acting,
                [
                    "lend",
                    "identity-user",
                    "--at",
                    "@wind-ingest",
                    "--to",
                    "ada.rusk",
                    "--for",
                    "10m",
                    "--because",
                    "x",
                    "--yes",
                ],
                at,
            )[1]
            == 9
        ), name
        ticking(700)
        assert acting.run("sweep", "--yes").code == 0
        assert [g for g in away.state()["resources"]["Grant"] if g.get("reason") == "x"] == [], name


def test_a_chain_is_shown_and_each_link_is_asked(acting: Desk, away: Away) -> None:
    for to, at in (("ada.rusk", "@camera-archive"), ("camera-archive", "@wind-ingest")):
        assert acting.run("lend", "identity-user", "--at", at, "--to", to, "--for", "10m", "--because", "x", "--yes").code == 0
    out = acting.folder / "a.token"
    ran = acting.run("token", "fetch", "--as", "camera-archive", "--as", "wind-ingest", "--tenant", "summit", "--out", str(out))
    assert (ran.code, "as ada.rusk, through camera-archive" in ran.out, out.read_text().strip() in ran.out) == (
        0,
        True,
        False,
    ), ran.out + ran.err
    token = out.read_text().strip()
    claims = json.loads(acting.run("token", "read", str(out), "--format", "json").out)["claims"]
    names = {u["id"]: u["userName"] for u in away.state()["resources"]["User"]}
    assert (names[claims["sub"]], names[claims["act"]["sub"]], names[claims["act"]["act"]["sub"]]) == (
        "wind-ingest",
        "camera-archive",
        "ada.rusk",
    )
    assert called(away, token) == 200
    [first] = [x for x in acting.run("loans", "--format", "json").json["loans"] if x["to"] == "ada.rusk"]
    assert acting.run("recall", first["loan"]).code == 0
    assert called(away, token) == 401  # the first link is gone
    ran = acting.run("token", "fetch", "--as", "camera-archive", "--tenant", "summit", "--out", str(acting.folder / "b"))
    assert (ran.code, "ada.rusk may not act as camera-archive" in ran.err) == (4, True)
    ran = acting.run("explain", "ada.rusk", "identity.act", "@camera-archive", "--tenant", "summit")
    assert ran.code == 1
    ran = acting.run(
        "explain",
        "camera-archive",
        "stream.read",
        "brindlemoor/sensing-prod/streams/mast-4",
        "--as",
        "wind-ingest",
        "--tenant",
        "summit",
        "--format",
        "json",
    )
    assert (ran.code, [q["allowed"] for q in ran.json["questions"]]) == (0, [True, True]), ran.out
    ran = acting.run(
        "explain",
        "ada.rusk",
        "stream.read",
        "brindlemoor/sensing-prod/streams/mast-4",
        "--as",
        "camera-archive",
        "--as",
        "wind-ingest",
        "--tenant",
        "summit",
        "--format",
        "json",
    )
    assert (ran.code, [q["allowed"] for q in ran.json["questions"]]) == (1, [False, True, True]), ran.out


def test_no_more_than_what_it_was_given_for(acting: Desk, away: Away) -> None:
    assert (
        acting.run(
            "lend", "identity-user", "--at", "@wind-ingest", "--to", "ada.rusk", "--for", "90s", "--because", "x", "--yes"
        ).code
        == 0
    )
    out = acting.folder / "a.token"
    ran = acting.run("token", "fetch", *AS, "--out", str(out), "--format", "json")
    assert (ran.code, 60 < ran.json["lives_seconds"] <= 90) == (0, True), ran.out
    assert away.scim("GET", "/Users").status == 200
    mine = away.sandbox.pool.request(
        "GET", f"{away.address}/Users", headers={"Authorization": f"Bearer {out.read_text().strip()}"}
    )
    assert mine.status in (401, 403)  # nothing that outlives it can be made with it


def test_where_a_later_hop_is_refused_nothing_stays_lent(acting: Desk) -> None:
    ran = with_(
        acting, "--as", "camera-archive", "--as", "wind-ingest", "--tenant", "summit", "--lend", "10m", "--because", "x"
    )
    assert (ran.returncode, "camera-archive may not act as wind-ingest" in ran.stderr) == (4, True), ran.stderr
    assert acting.run("loans", "--format", "json").json["loans"] == []
    assert len(acting.run("loans", "--all", "--format", "json").json["loans"]) == 1
