"""A program runs with what it signs in with: nothing leaks that can be kept, and nothing of its own is changed."""

from __future__ import annotations

import json
import os
import pty
import re
import shlex
import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from cli.test_rotation import house
from conftest import CHARTER, Away, Desk, Sandbox
from sigillum.keeping.memory import places

PROGRAM = [sys.executable, "-m", "sigillum"]
TELL = """import json, os, resource, subprocess, sys
fds = lambda: sorted(int(f) for f in os.listdir('/proc/self/fd'))
inner = subprocess.run([sys.executable, '-c', 'import os; print(len(os.listdir("/proc/self/fd")))'], close_fds=False, capture_output=True, text=True)
file = os.environ.get('WIND_INGEST_HEADER_FILE', '')
print(json.dumps({'env': dict(os.environ), 'argv': open('/proc/self/cmdline').read(), 'parent': open(f'/proc/{os.getppid()}/cmdline').read(),
                  'fds': len(fds()), 'inner': int(inner.stdout), 'core': resource.getrlimit(resource.RLIMIT_CORE),
                  'header': open(file).read() if file else '', 'mode': [oct(os.stat(p).st_mode & 0o777) for p in (file, os.path.dirname(file))] if file else []}))"""


def with_(desk: Desk, *words: str, **more: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [*PROGRAM, "with", *words], cwd=desk.folder, capture_output=True, text=True, env={**os.environ, **more}, timeout=60
    )


def told(ran: subprocess.CompletedProcess[str]) -> dict[str, object]:
    assert (ran.returncode, ran.stderr) == (0, ""), ran.stderr
    return dict(json.loads(ran.stdout))


@contextmanager
def running(desk: Desk, *words: str) -> Iterator[subprocess.Popen[str]]:
    with subprocess.Popen(
        [*PROGRAM, "with", "wind-ingest", "--", *words],
        cwd=desk.folder,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        start_new_session=True,
    ) as process:
        yield process


def test_nothing_of_ours_goes_with_it(desk: Desk, away: Away) -> None:
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    file = desk.folder / "sigillum.yaml"
    token = re.findall(r"file:([^']+)", file.read_text())[0]
    admins = (desk.folder / token).read_text().strip()
    file.write_text(file.read_text().replace(f"file:{token}", "env:ADMIN_TOKEN"))
    ours = {"ADMIN_TOKEN": admins, "SIGILLUM_TIMEOUT": "20", "FEED": "a feed's secret"}
    bare = json.loads(subprocess.run([sys.executable, "-c", TELL], capture_output=True, text=True, check=True).stdout)
    for how in ("file", "environment"):
        seen = told(
            with_(desk, "wind-ingest", "--put", how, "--env", "GIVEN=env:FEED", "--", sys.executable, "-c", TELL, **ours)
        )
        env = dict(seen["env"])  # type: ignore[call-overload]
        assert env.pop("GIVEN") == "a feed's secret"  # that was asked for
        secret = str(seen["header"]).removeprefix("Authorization: Bearer ") or env.pop("WIND_INGEST_TOKEN")
        env.pop("WIND_INGEST_HEADER", "")
        assert len(secret) > 40 and env.pop("WIND_INGEST_TENANT") == away.address
        for value in (admins, secret, "a feed's secret"):
            assert value not in str(seen["argv"]) + str(seen["parent"]) + json.dumps(
                {n: v for n, v in env.items() if n != "FEED"}
            )
        assert not [n for n in env if n.startswith("SIGILLUM_") or n == "ADMIN_TOKEN"]
        assert (seen["fds"], seen["inner"], seen["core"]) == (bare["fds"], bare["inner"], [0, 0])
        assert seen["mode"] == (["0o600", "0o700"] if how == "file" else [])
        assert how != "file" or not Path(str(env["WIND_INGEST_TOKEN_FILE"])).parent.exists()  # gone with the program


@pytest.mark.parametrize("kind", ["api-token", "password"])
def test_of_other_kinds(bare: Desk, sandbox: Sandbox, kind: str) -> None:
    desk, _, consumer = house(bare, sandbox, kind)
    secret = json.loads(consumer.file().read_text())["secret"]
    env = dict(told(with_(desk, "wind-ingest", "--put", "environment", "--", sys.executable, "-c", TELL))["env"])  # type: ignore[call-overload]
    assert env["WIND_INGEST_TOKEN" if kind == "api-token" else "WIND_INGEST_PASSWORD"] == secret
    assert env.get("WIND_INGEST_USER", "") == ("wind-ingest" if kind == "password" else "")


def test_the_token_is_kept_fresh(bare: Desk, sandbox: Sandbox) -> None:
    desk, _, _ = house(bare, sandbox, token_seconds=3)
    script = "for i in 1 2 3 4 5; do cat $WIND_INGEST_TOKEN_FILE; echo; sleep 1; done"
    ran = with_(desk, "wind-ingest", "--", "sh", "-c", script)
    assert (ran.returncode, ran.stderr, len(ran.stdout.split()), len(set(ran.stdout.split())) > 1) == (0, "", 5, True)
    with running(desk, "sh", "-c", "echo up; sleep 6") as process:
        assert process.stdout is not None and process.stdout.readline() == "up\n"
        assert desk.run("suspend", "wind-ingest", "--because", "x", "--yes").code == 0
        _, err = process.communicate(timeout=30)
    assert (process.returncode, "there is no fresh token" in err, "Traceback" in err) == (0, True, False), err


def test_signals_exit_codes_and_terminal_are_its_own(desk: Desk) -> None:
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    for code in (0, 1, 7, 130):
        assert with_(desk, "wind-ingest", "--", "sh", "-c", f"exit {code}").returncode == code
    assert with_(desk, "wind-ingest", "--", "sh", "-c", "kill -KILL $$").returncode == -signal.SIGKILL
    for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
        with running(desk, "sh", "-c", f"trap 'exit 9' {number}; echo up; while :; do sleep 0.05; done") as process:
            assert process.stdout is not None and process.stdout.readline() == "up\n"
            process.send_signal(number)
            assert process.wait(20) == 9, number
    for words, code in (
        (("wind-ingest",), 2),
        (("wind-ingest", "--", "no-such-program"), 2),
        (("--", "true"), 2),
        (("wind-ingest", "--env", "1X=env:HOME", "--", "true"), 2),
        (("wind-ingest", "--env", "X=plain", "--", "true"), 3),
    ):
        ran = with_(desk, *words)
        assert (ran.returncode, "Traceback" in ran.stderr, ran.stdout) == (code, False, ""), ran.stderr
    main, other = pty.openpty()
    shown = subprocess.run(
        [*PROGRAM, "with", "wind-ingest", "--", "tty"], cwd=desk.folder, stdin=other, capture_output=True, text=True
    )
    assert shown.stdout.strip() == os.ttyname(other)
    os.close(main)
    os.close(other)


def test_what_must_work_as_a_call_that_runs(desk: Desk, away: Away, tmp_path: Path) -> None:
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    program = tmp_path / "call.py"
    written = desk.run("handover", "wind-ingest", "--form", "snippet", "--language", "python").out
    program.write_text(written)
    ran = with_(desk, "wind-ingest", "--", sys.executable, str(program))
    assert (ran.returncode, "appended" in ran.stdout) == (0, True), ran.stderr
    line = desk.run("handover", "wind-ingest", "--language", "shell").out
    words = shlex.split(line)
    assert words[:6] == ["sigillum", "with", "wind-ingest", "--", "sh", "-c"]
    assert '"@$WIND_INGEST_HEADER_FILE"' in words[6] and "mast-test" in words[6]
    if shutil.which("curl"):
        assert "appended" in with_(desk, *words[2:]).stdout
    assert desk.run("handover", "wind-ingest", "--language", "shell", "--reveal", "wind-ingest").code == 2
    desk.charter(CHARTER.partition("proofs:")[0])
    assert desk.run("handover", "wind-ingest", "--language", "shell").code == 6


def test_what_a_kill_left_is_removed_by_the_next(desk: Desk) -> None:
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    with running(desk, "sh", "-c", "echo $WIND_INGEST_TOKEN_FILE; exec sleep 30") as process:
        assert process.stdout is not None
        path = Path(process.stdout.readline().strip())
        assert path.exists()
        os.killpg(process.pid, signal.SIGKILL)
    assert path.exists()
    assert with_(desk, "wind-ingest", "--", "true").returncode == 0
    assert not path.parent.exists()
    assert places(
        "tmpfs /dev/shm tmpfs rw\n/dev/sda / ext4 rw\ntmpfs /run/user/1 tmpfs rw\n", ["/dev/shm/x", "/home", "/run/user/1"]
    ) == [Path("/dev/shm/x"), Path("/run/user/1")]
