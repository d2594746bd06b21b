"""Ten bad days: the tenant or this machine misbehaves, and it is told plainly, in time, without harm."""

from __future__ import annotations

import datetime
import fcntl
import http.server
import json
import re
import resource
import shlex
import signal
import socketserver
import ssl
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

from conftest import Away, Desk, Sandbox
from sigillum.protocols.http import Answer

REHEARSE = ("rehearse", "wind-ingest")


def move_to(desk: Desk, address: str) -> None:
    path = desk.folder / "sigillum.yaml"
    path.write_text(re.sub(r"address: .*", f"address: {address}", path.read_text()))


def three_parts(told: str) -> None:
    assert re.search(r"sigillum: .+\n  where  .+\n  do     .+", told), told
    assert "Traceback" not in told


def test_the_tenant_is_down(desk: Desk) -> None:
    move_to(desk, "http://127.0.0.1:9/summit/scim/v2")
    ran = desk.program(*REHEARSE)
    assert (ran.code, "nothing answers there" in ran.err) == (5, True)
    three_parts(ran.err)


def test_the_tenant_is_slow(desk: Desk, sandbox: Sandbox, away: Away) -> None:
    sandbox.faults({"kind": "latency", "seconds": 5, "path": away.name, "count": 5})
    ran = desk.program(*REHEARSE, "--timeout", "0.5")
    assert (ran.code, "no answer within 0.5 seconds" in ran.err) == (5, True)
    assert "--timeout" in ran.err


@pytest.mark.parametrize(
    ("order", "what"),
    [
        ({"kind": "rubbish"}, "the answer is not JSON"),
        ({"kind": "endless"}, "the answer is longer than 16 MB"),
        ({"kind": "redirect"}, "it wants to send us elsewhere"),
        ({"kind": "torn"}, "the connection broke"),
        ({"kind": "lost-before"}, "the connection broke"),
    ],
)
def test_the_tenant_answers_badly(desk: Desk, sandbox: Sandbox, away: Away, order: dict[str, str], what: str) -> None:
    sandbox.faults({**order, "path": away.name, "count": 50})
    ran = desk.program(*REHEARSE)
    assert (ran.code, what in ran.err) == (5, True), ran.err
    three_parts(ran.err)


def certificate(folder: Path) -> Path:
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "localhost")])
    now = datetime.datetime.now(datetime.UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(1)
        .not_valid_before(now - datetime.timedelta(days=1))
        .not_valid_after(now + datetime.timedelta(days=1))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName("localhost")]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )
    path = folder / "server.pem"
    path.write_bytes(
        made.public_bytes(serialization.Encoding.PEM)
        + key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    )
    return path


@contextmanager
def encrypted_server(pem: Path) -> Iterator[int]:
    class Handler(http.server.BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            self.send_error(404)

        def log_message(self, *_: object) -> None:
            pass

    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(pem)
    with socketserver.ThreadingTCPServer(("127.0.0.1", 0), Handler) as server:
        server.handle_error = lambda *_: None  # type: ignore[method-assign]
        server.socket = context.wrap_socket(server.socket, server_side=True)
        thread = threading.Thread(target=server.serve_forever, daemon=True)
        thread.start()
        yield server.server_address[1]
        server.shutdown()
        thread.join()


def test_its_certificate_is_not_trusted(desk: Desk, tmp_path: Path) -> None:
    pem = certificate(tmp_path)
    with encrypted_server(pem) as port:
        move_to(desk, f"https://localhost:{port}/scim")
        ran = desk.program(*REHEARSE)
        assert (ran.code, "its certificate is not trusted" in ran.err) == (5, True), ran.err
        assert "ca: FILE" in ran.err
        path = desk.folder / "sigillum.yaml"
        path.write_text(path.read_text().replace("    stage: prod\n", f"    stage: prod\n    ca: {pem}\n"))
        trusted = desk.program(*REHEARSE)
        assert "certificate" not in trusted.err  # it goes on, to a server that knows nothing


def test_a_wrong_administrator_token(desk: Desk) -> None:
    (desk.folder / ".sigillum" / "summit.ada.rusk.token").write_text("not-the-token")
    ran = desk.program(*REHEARSE)
    assert (ran.code, "An administrator's bearer token is needed" in ran.err) == (4, True)
    assert "put a fresh one" in ran.err
    assert "not-the-token" not in ran.err
    three_parts(ran.err)


def test_not_enough_power(bare: Desk, away: Away) -> None:
    bare.know(away, admin="kit.orme")
    bare.charter()
    seen = bare.program(*REHEARSE)
    assert seen.code == 0
    assert "nobody here has the power `grants` at summit" in seen.out
    ran = bare.program("enact", "wind-ingest", "--yes")
    assert ran.code == 6
    assert "requests/0001-wind-ingest.json" in ran.out
    assert len(away.of("User")) == 1  # what the power sufficed for was done
    assert away.of("Grant") == []


def test_the_clock_is_off(desk: Desk, sandbox: Sandbox) -> None:
    sandbox.clock(move=1200)
    try:
        ran = desk.program(*REHEARSE)
        assert ran.code == 8
        assert re.search(r"the clock of summit and of this machine differ by (20m|19m 59s)", ran.err), ran.err
        assert "clock: tenant" in ran.err
        path = desk.folder / "sigillum.yaml"
        path.write_text(path.read_text().replace("    stage: prod\n", "    stage: prod\n    clock: tenant\n"))
        assert desk.program("enact", "wind-ingest", "--yes").code == 0  # assertions follow the tenant's clock
    finally:
        sandbox.clock(move=-1200)


def test_the_disk_is_full(desk: Desk, away: Away) -> None:
    def no_room() -> None:
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (40_000, 40_000))

    for number in range(40):
        desk.charter(
            f"charter: many-{number}\ntenant: summit\npurpose: x\nidentity: {{kind: service-account, name: many-{number}}}\n",
            f"many-{number}",
        )
    ran = subprocess.run(
        [sys.executable, "-m", "sigillum", "enact", "--all", "--yes"],
        cwd=desk.folder,
        capture_output=True,
        text=True,
        preexec_fn=no_room,
        timeout=60,
        stdin=subprocess.DEVNULL,
    )
    assert ran.returncode == 8, ran.stderr
    assert "Traceback" not in ran.stderr
    assert "do     " in ran.stderr
    again = desk.program("enact", "--all", "--yes")
    assert again.code == 0, again.out[-800:] + again.err
    assert len([u for u in away.state()["resources"]["User"] if u["userName"].startswith("many-")]) == 40


def test_the_ledger_is_locked(desk: Desk) -> None:
    assert desk.run("ledger", "verify").code == 0
    path = desk.folder / ".sigillum" / "enacting.lock"
    with path.open("w") as file:
        file.write("4711\n")
        file.flush()
        fcntl.flock(file, fcntl.LOCK_EX)
        ran = desk.program("enact", "wind-ingest", "--yes")
    assert ran.code == 8
    assert "another sigillum works in this workspace (process 4711)" in ran.err
    three_parts(ran.err)


def test_interrupted(desk: Desk, sandbox: Sandbox, away: Away) -> None:
    sandbox.faults({"kind": "latency", "seconds": 3, "path": away.name, "count": 9, "method": "POST"})
    process = subprocess.Popen(
        [sys.executable, "-m", "sigillum", "enact", "wind-ingest", "--yes"],
        cwd=desk.folder,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        stdin=subprocess.DEVNULL,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
    )  # also where these tests run in the background
    lock = desk.folder / ".sigillum" / "enacting.lock"
    while not (lock.exists() and lock.read_text()):
        time.sleep(0.05)
    time.sleep(0.5)
    process.send_signal(signal.SIGINT)
    _, told = process.communicate(timeout=20)
    sandbox.faults()
    assert process.returncode == 130
    assert "Interrupted. Nothing is lost" in told
    assert "Traceback" not in told
    assert desk.program("enact", "wind-ingest", "--yes").code == 0


def test_a_pipe_that_is_closed_early(desk: Desk) -> None:
    done = subprocess.run(
        f"{shlex.quote(sys.executable)} -m sigillum charter schema | head -c 10; exit ${{PIPESTATUS[0]}}",
        shell=True,
        executable="/bin/bash",
        cwd=desk.folder,
        capture_output=True,
        text=True,
        timeout=30,
    )
    assert done.returncode == 0
    assert done.stderr == ""


def test_a_narrow_terminal(desk: Desk) -> None:
    narrow, wide = (desk.program(*REHEARSE, COLUMNS=columns, NO_COLOR="1") for columns in ("40", "200"))
    assert (narrow.code, "\x1b" in narrow.out) == (0, False)
    assert Counter(filter(str.isalpha, narrow.out)) == Counter(filter(str.isalpha, wide.out))  # folded, and nothing is cut
    assert len(narrow.out.splitlines()) > len(wide.out.splitlines())


@pytest.mark.parametrize("status", [429, 503])
def test_a_busy_tenant_is_asked_again_when_it_says_so(
    desk: Desk, sandbox: Sandbox, away: Away, status: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    pauses, asked = list[float | None](), Answer.retry_after

    def told(answer: Answer) -> float:
        pauses.append(asked(answer))
        return 0.01

    monkeypatch.setattr(Answer, "retry_after", told)
    sandbox.faults({"kind": "status", "status": status, "retry_after": 1, "path": f"{away.name}/scim", "count": 3})
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    assert pauses == [1, 1, 1]
    assert len(away.of("User")) == 1


def test_a_version_that_changed_is_read_again(desk: Desk, sandbox: Sandbox, away: Away) -> None:
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    desk.charter((desk.folder / "charters" / "wind-ingest.yaml").read_text().replace("Wind readings ingest", "Wind"))
    sandbox.faults({"kind": "status", "status": 412, "method": "PATCH", "path": f"{away.name}/scim", "count": 2})
    ran = desk.run("enact", "wind-ingest", "--yes", "--format", "json")
    assert ran.code == 0, ran.out
    assert away.of("User")[0]["displayName"] == "Wind"
    results = [e["body"].get("result") for e in desk.run("ledger", "show", "--entries", "--format", "json").json["entries"]]
    assert results.count("refused") == 2


def test_stopping_the_sandbox_ends_no_other_process(desk: Desk) -> None:
    folder = desk.folder / ".sigillum" / "sandbox"
    folder.mkdir(parents=True)
    with subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"]) as other:
        try:
            for port in ("9", "stranger"):
                with http.server.ThreadingHTTPServer(("127.0.0.1", 0), http.server.SimpleHTTPRequestHandler) as stranger:
                    thread = threading.Thread(target=stranger.serve_forever, daemon=True)
                    thread.start()
                    address = f"http://127.0.0.1:{stranger.server_address[1] if port == 'stranger' else port}/control"
                    (folder / "running.json").write_text(
                        json.dumps({"pid": other.pid, "port": 9, "control": address, "token": "t"})
                    )
                    ran = desk.run("sandbox", "stop")
                    stranger.shutdown()
                assert "Traceback" not in ran.err
                assert (other.poll(), (folder / "running.json").exists()) == (None, False)
        finally:
            other.kill()
