"""A database server that stalls, asks for a password in clear, or is reached by what the environment says: none gets anything."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from real.servers import Database, postgresql
from sigillum.core.kinds.changes import End, Make
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Query
from sigillum.core.values.errors import UnreachableError
from sigillum.core.values.secret import Secret
from sigillum.tenants.port import Address, Link, Proof, Result
from sigillum.tenants.postgresql.connection import server_of
from sigillum.tenants.postgresql.driver import Database as Driver
from sigillum.testing import Between

ANY = Query(ACCOUNT, "name", "boss")


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Database]:
    with postgresql(tmp_path_factory.mktemp("limits") / "pg") as started:
        yield started


def driver(server: Database, port: int = 0, admin: str = "boss", password: str = "", auth: str = "") -> Driver:
    address = f"postgresql://127.0.0.1:{port or server.port}/app"
    return Driver(
        Address("db", address, admin=admin, driver="postgresql", auth=auth),
        Link(Secret(password or server.password), Path(), timeout_seconds=1.0),
        server_of(address),
    )


def test_a_server_that_falls_silent_is_left(server: Database) -> None:
    between = Between(server.port)
    connected = driver(server, between.port)
    assert connected.facts([ANY])[ANY].known
    between.silent = True
    with pytest.raises(UnreachableError, match="said nothing for 3 seconds"):
        connected.facts([ANY])
    with pytest.raises(UnreachableError):
        driver(server, between.port)
    with pytest.raises(UnreachableError):
        connected.sign_in(Proof("10", secret=Secret("whatever-it-is"), account="boss"))
    between.silent = False
    assert connected.facts([ANY])[ANY].known, "another connection is opened when something is asked again"
    between.silent = True
    assert connected.make(Make(ACCOUNT, {"name": "late-1", "display": "", "active": True}), "m").result is Result.LOST


def test_a_locked_table_is_waited_for_no_longer_than_anything_else(server: Database) -> None:
    connected = driver(server)
    made = connected.make(Make(ACCOUNT, {"name": "held-1", "display": "", "active": True}), "m")
    assert made.result is Result.DONE
    assert made.record is not None
    with server.connect() as other, other.transaction():
        other.execute("LOCK pg_authid IN ACCESS EXCLUSIVE MODE")
        with pytest.raises(UnreachableError, match="timeout"):
            connected.facts([ANY])
        assert connected.end(End(ACCOUNT, made.record.id)).result is Result.BUSY, "surely not done: it is tried again"
    assert connected.end(End(ACCOUNT, made.record.id)).result is Result.DONE


def test_a_password_is_shown_to_no_server_that_asks_for_it_in_clear(server: Database) -> None:
    rules = server.log.parent / "data" / "pg_hba.conf"
    before = rules.read_text()
    server.run("SET password_encryption = 'scram-sha-256'", "CREATE ROLE plain LOGIN PASSWORD 'in-clear-4711'")
    for method in ("password", "trust"):
        rules.write_text(f"host app plain 127.0.0.1/32 {method}\n{before}")
        server.run("SELECT pg_reload_conf()")
        with pytest.raises(UnreachableError, match="stopped here, before the password was shown"):
            driver(server, admin="plain", password="in-clear-4711")
    rules.write_text(f"host app plain 127.0.0.1/32 password\n{before}")
    server.run("SELECT pg_reload_conf()")
    assert driver(server, admin="plain", password="in-clear-4711", auth="password").facts([ANY])[ANY].known
    rules.write_text(before)
    server.run("SELECT pg_reload_conf()")


def test_what_the_environment_says_of_servers_is_not_followed(server: Database, tmp_path: Path) -> None:
    (tmp_path / "services").write_text("[away]\nhost=198.51.100.7\n")
    said = {
        "PGHOSTADDR": "198.51.100.7",
        "PGSERVICE": "away",
        "PGSERVICEFILE": str(tmp_path / "services"),
        "PGOPTIONS": "-c statement_timeout=1 -c role=nobody",
        "PGREQUIREAUTH": "none",
        "PGSSLMODE": "verify-full",
    }
    program = (
        "import os, sys; from real.test_limits import driver, ANY; from real.servers import Database;"
        "d = driver(Database(int(sys.argv[1]), 'boss', sys.stdin.read(), None, None)); assert d.facts([ANY])[ANY].known;"
        "print(os.environ['PGHOSTADDR'])"
    )
    ran = subprocess.run(
        [sys.executable, "-c", program, str(server.port)],
        env={**os.environ, **said, "PYTHONPATH": os.pathsep.join(p for p in sys.path if p)},
        input=server.password,
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    assert (ran.returncode, ran.stdout) == (0, "198.51.100.7\n"), ran.stderr  # and who we start still has it


def test_a_password_that_is_said_back_is_masked(server: Database) -> None:
    connected = driver(server)
    made = connected.make(Make(ACCOUNT, {"name": "echo-1", "display": "Echo", "active": True}), "m")
    assert made.record is not None
    server.run(f"""COMMENT ON ROLE "echo-1" IS 'Echo {server.password} [sigillum:m]'""")
    shown = connected.read(ACCOUNT, made.record.id)
    assert shown is not None
    assert (shown.value("display"), server.password in repr(shown)) == ("Echo (secret)", False)
