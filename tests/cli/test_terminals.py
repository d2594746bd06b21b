"""Interruptions, slow lines, busy tenants, and odd streams: nothing of that loses a result or an exit code."""

from __future__ import annotations

import json
import os
import pty
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from conftest import CHARTER, SLOW, Away, Desk, Sandbox

ALL = ("a-one", "b-two", "c-three")


def three(desk: Desk) -> None:
    (desk.folder / "charters" / "wind-ingest.yaml").unlink()
    for name in ALL:
        desk.charter(CHARTER.replace("wind-ingest", name), name)


def begun(desk: Desk, *words: str, **more: Any) -> subprocess.Popen[str]:
    return subprocess.Popen(
        [sys.executable, "-m", "sigillum", *words],
        cwd=desk.folder,
        text=True,
        stdin=subprocess.DEVNULL,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # also where these tests run in the background
        **{"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, **more},
    )


def test_an_interruption_finishes_the_step_under_way_and_begins_nothing_more(desk: Desk, away: Away, sandbox: Sandbox) -> None:
    three(desk)
    desk.charter(CHARTER.replace("wind-ingest", "d-team").replace("proofs:", "member_of: [nobody]\nproofs:"), "d-team")
    sandbox.faults({"kind": "latency", "seconds": 0.3, "count": 10_000})
    process = begun(desk, "enact", "--all", "--yes")
    while not any(away.of("User", name) for name in ALL):
        time.sleep(0.05)
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=SLOW)
    lines = err.rstrip().splitlines()
    assert (process.returncode, lines[-1].startswith("Interrupted."), "Traceback" in err) == (130, True, False), err
    assert any(line.startswith("  ") and "/6 " in line for line in lines), err  # which steps are finished first
    assert "Stopped: " in out
    assert not any(away.of("Credential", name) for name in ALL)
    sandbox.faults()
    (desk.folder / "charters" / "d-team.yaml").unlink()
    assert desk.run("enact", "--all", "--yes").code == 0
    assert [len(away.of("User", name)) for name in ALL] == [1, 1, 1]


def test_an_interruption_ends_a_wait_of_several_at_once(desk: Desk, away: Away) -> None:
    three(desk)
    away.limits(felt_seconds=900)
    assert desk.run("enact", "--all", "--yes", "--no-prove").code == 0
    process = begun(desk, "enact", "--all", "--yes", "--wait", "15m")
    time.sleep(2.5)
    process.send_signal(signal.SIGINT)
    process.communicate(timeout=SLOW)  # far less than it would have waited
    assert process.returncode == 130


def test_the_spinner_is_gone_and_the_cursor_is_back(desk: Desk, away: Away, sandbox: Sandbox) -> None:
    three(desk)
    sandbox.faults({"kind": "latency", "seconds": 0.1, "count": 10_000})
    ours, theirs = pty.openpty()
    process = begun(desk, "enact", "--all", "--yes", stdout=theirs, stderr=theirs)
    os.close(theirs)
    seen = b""
    try:
        while piece := os.read(ours, 65536):
            seen += piece
    except OSError:  # the other end was closed
        pass
    assert process.wait(SLOW) == 0, seen
    last = seen[seen.rfind(b"3 charters") :]
    assert (seen.rfind(b"\x1b[?25h") > seen.rfind(b"\x1b[?25l") > 0, b"\x1b[?25l" in last) == (True, False)
    assert "charters: 3 as wished" in last.decode()


def test_many_that_are_as_wished_take_one_line(desk: Desk, away: Away) -> None:
    (desk.folder / "charters" / "wind-ingest.yaml").unlink()
    names = [f"c-{n}" for n in range(7)]
    for name in names:
        desk.charter(CHARTER.replace("wind-ingest", name), name)
    assert desk.run("enact", "--all", "--yes").code == 0
    same = desk.run("rehearse", "--all", "--strict")
    assert (same.code, same.out) == (0, "7 charters: nothing to do in any of them. (-v tells of each.)\n")
    assert "Nothing was to be done in 7 of them." in desk.run("enact", "--all", "--yes").out
    assert desk.run("prove", "--all").out.startswith("7 charters: the proofs of 7 hold, in all of them.")
    desk.charter(CHARTER.replace("wind-ingest", "c-3").replace("Wind readings ingest", "Winds"), "c-3")
    differs = desk.run("rehearse", "--all", "--strict")
    assert (differs.code, differs.out.count("Nothing to do"), "c-3  Store" in differs.out) == (1, 0, True)
    assert "7 charters, 1 told above; nothing to do in the other 6." in differs.out
    assert desk.run("rehearse", "--all", "-v").out.count("Nothing to do") == 6


def test_one_that_cannot_be_looked_at_hides_no_other(desk: Desk, away: Away, sandbox: Sandbox) -> None:
    three(desk)
    path = desk.folder / "sigillum.yaml"
    path.write_text(
        path.read_text().replace(
            "tenants:\n", "tenants:\n  far: {address: 'http://127.0.0.1:1/scim', admin: {name: a, token: 'env:FAR'}}\n"
        )
    )
    os.environ["FAR"] = "token"
    desk.charter(CHARTER.replace("wind-ingest", "b-two").replace("tenant: summit", "tenant: far"), "b-two")
    for command in ("rehearse", "prove"):
        ran = desk.run(command, *ALL, "--format", "json")
        assert (ran.code, [c["charter"] for c in ran.json["charters"]]) == (5 if command == "rehearse" else 6, list(ALL)), (
            ran.out
        )
    found = desk.run("rehearse", *ALL, "--format", "json").json["charters"]
    assert (found[1]["error"]["code"], len(found[2]["steps"]) > 3) == ("unreachable", True)
    assert "nothing answers there" in desk.run("rehearse", *ALL).out


def test_what_is_known_of_an_interface_is_kept_and_its_version_asked(desk: Desk, away: Away, sandbox: Sandbox) -> None:
    first, second = desk.run("rehearse", "wind-ingest", "-v"), desk.run("rehearse", "wind-ingest", "-v")
    assert ("/ResourceTypes -> 200" in first.err, "/ResourceTypes" in second.err) == (True, False)
    kept = desk.folder / ".sigillum" / "discovered" / "summit.json"
    content = json.loads(kept.read_text())

    def aged(stamp: str, **more: Any) -> str:
        kept.write_text(json.dumps({**content, "at": stamp, **more}))
        return desk.run("rehearse", "wind-ingest", "-v").err

    assert "/ResourceTypes -> 304" in aged("2020-01-01T00:00:00Z")
    assert json.loads(kept.read_text())["at"] > "2026"
    assert "/ResourceTypes -> 200" in aged("2020-01-01T00:00:00Z", version='"older"')
    assert "/ResourceTypes -> 200" in aged("2999-01-01T00:00:00Z", address="http://127.0.0.1:1/other")
    told = aged(time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(time.time() - 200)))
    assert "its interface as of 3m ago" in told
    kept.write_text("[")
    assert desk.run("rehearse", "wind-ingest").code == 0
    assert "/ResourceTypes -> " in desk.run("tenant", "inspect", "summit", "-v").err


def test_a_tenant_that_stays_busy_is_unreachable(desk: Desk, away: Away, sandbox: Sandbox) -> None:
    sandbox.faults({"kind": "status", "status": 503, "count": 10_000})
    ran = desk.run("rehearse", "wind-ingest", "--timeout", "1")
    assert (ran.code, "it is busy (status 503)" in ran.err) == (5, True), ran.err
    sandbox.faults({"kind": "status", "status": 503, "count": 10_000, "method": "POST"})
    ran = desk.run("enact", "wind-ingest", "--yes", "--timeout", "1", "--format", "json")
    assert (ran.code, "it is busy" in ran.out) == (5, True), ran.out


@pytest.mark.parametrize("columns", ["0", "-5", "wide", "12", ""])
def test_any_width_will_do(desk: Desk, columns: str) -> None:
    ran = desk.program("rehearse", "wind-ingest", COLUMNS=columns)
    assert (ran.code, "account" in ran.out, "Traceback" in ran.err) == (0, True, False)
    assert desk.program("-h", COLUMNS=columns).code == 0


def test_odd_streams_lose_neither_result_nor_exit_code(desk: Desk) -> None:
    def shell(line: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            ["bash", "-c", f'set -o pipefail; S() {{ "$PROGRAM" -m sigillum "$@"; }}; {line}'],
            cwd=desk.folder,
            capture_output=True,
            text=True,
            timeout=SLOW,
            env={**os.environ, "PROGRAM": sys.executable},
        )

    strict = "S rehearse wind-ingest --strict"
    for line, code in (
        (f"{strict} | head -1", 1),
        (f"({strict}; echo $? >&2) | true", None),
        (f"{strict} >&-", 1),
        (f"{strict} 2>&-", 1),
        (f"{strict} >&- 2>&- <&-", 1),
        (f"PYTHONIOENCODING=ascii {strict}", 1),
        (f"PYTHONIOENCODING=ascii {strict} --format json", 1),
        ("S check wind-ingest 2>&-", 2),
        (f"{strict} > /dev/full", 8),
        ("S -h | head -1", 0),
    ):
        ran = shell(line)
        assert (
            ran.returncode == code if code is not None else ran.stderr.strip().endswith("1"),
            "Traceback" in ran.stderr,
        ) == (True, False), (line, ran)
    assert "make" in shell(f"{strict} 2>&-").stdout
    shell("S enact wind-ingest --yes >&-")
    assert desk.run("ledger", "verify").code == 0


def test_an_error_is_json_where_json_was_asked_for(desk: Desk, tmp_path: Path) -> None:
    for words, code, kind in (
        (["rehearse", "nobody"], 3, "file"),
        (["rehearse", "--frm"], 2, "usage"),
        (["explain", "x"], 2, "usage"),
        (["loans", "--tenant", "none"], 2, "usage"),
    ):
        ran = desk.run(*words, "--format", "json")
        assert (ran.code, ran.json["kind"], ran.json["exit"], ran.json["code"], bool(ran.json["what"])) == (
            code,
            "problem",
            code,
            kind,
            True,
        ), ran
        assert ran.json["what"] in ran.err
    desk.charter(CHARTER.replace("role:", "rol:"))
    ran = desk.run("rehearse", "wind-ingest", "--format=json")
    assert (ran.code, [m["where"].rpartition("/")[2] for m in ran.json["mistakes"]][:1]) == (3, ["wind-ingest.yaml:7:6"]), (
        ran.out
    )
    assert desk.run("rehearse", "--all", "--format", "json").json["kind"] == "problem"
