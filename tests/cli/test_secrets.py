"""No secret anywhere it could be seen: planted values are searched for."""

from __future__ import annotations

import json
import os
import re
import stat
import subprocess
import sys
import time
from pathlib import Path

from conftest import CHARTER, Away, Desk, Sandbox


def secrets_of(desk: Desk, away: Away) -> list[str]:
    """Everything secret that this workspace holds."""
    found = list(away.tokens.values())
    for path in (desk.folder / ".sigillum").rglob("*.json"):
        content = json.loads(path.read_text())
        found += [content[n] for n in ("secret", "d") if n in content]
        found += [content["key"][n] for n in ("d",) if n in content.get("key", {})]
    return found


def test_nothing_secret_is_shown_or_stored_in_the_open(desk: Desk, away: Away, sandbox: Sandbox) -> None:
    desk.charter(CHARTER.replace("proofs:", "  - {name: second, kind: api-token}\nproofs:"))
    told = []
    for command in (
        ["-v", "rehearse", "wind-ingest"],
        ["-v", "--debug", "enact", "wind-ingest", "--yes"],
        ["prove", "wind-ingest", "-v", "--with", "second"],
        ["ledger", "show", "--format", "json"],
        ["tenant", "inspect", "summit", "-v"],
        ["charter", "show", "wind-ingest", "--format", "json"],
        ["enact", "-h"],
        ["ledger", "head"],
    ):
        ran = desk.program(*command)
        assert ran.code == 0, ran.err
        told.append(ran.out + ran.err)
    sandbox.faults({"kind": "status", "status": 500, "path": f"{away.name}/oauth", "count": 3})
    told.append(desk.program("--debug", "-v", "prove", "wind-ingest").err)  # a traceback, too
    assert "Traceback" in told[-1]
    ledger = b"".join(p.read_bytes() for p in (desk.folder / ".sigillum").glob("ledger.db*"))
    secrets = secrets_of(desk, away)
    assert len(secrets) >= 6
    for secret in secrets:
        assert not any(secret in text for text in told)
        assert secret.encode() not in ledger
    assert "POST" in told[1]  # the log did talk
    jwt = re.compile(r"eyJ[\w-]{10,}\.eyJ")
    assert not any(jwt.search(text) for text in told)


def test_no_private_file_is_open_to_others(desk: Desk) -> None:
    old = os.umask(0)
    try:
        assert desk.run("enact", "wind-ingest", "--yes").code == 0
    finally:
        os.umask(old)
    private = desk.folder / ".sigillum"
    for path in (private, *private.rglob("*")):
        mode = stat.S_IMODE(path.stat().st_mode)
        assert mode & 0o077 == 0, f"{path}: {mode:o}"


def test_no_secret_in_the_process_list(desk: Desk, away: Away, sandbox: Sandbox) -> None:
    sandbox.faults({"kind": "latency", "seconds": 1, "path": away.name, "count": 2})
    process = subprocess.Popen(
        [sys.executable, "-m", "sigillum", "enact", "wind-ingest", "--yes"],
        cwd=desk.folder,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    time.sleep(1)
    seen = Path(f"/proc/{process.pid}/cmdline").read_bytes() + Path(f"/proc/{process.pid}/environ").read_bytes()
    assert process.wait(30) == 0
    assert b"sigillum" in seen
    assert not any(s.encode() in seen for s in secrets_of(desk, away))


def test_text_of_a_tenant_cannot_steer_the_terminal(desk: Desk, away: Away) -> None:
    away.make(
        "/Users",
        {
            "schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"],
            "userName": "wind-ingest",
            "displayName": "\x1b[2J\x1b]0;owned\x07evil‮text",
        },
    )
    out = desk.program("rehearse", "wind-ingest", NO_COLOR="1").out
    assert "evil" in out
    assert "\x1b" not in out
    assert "‮" not in out
