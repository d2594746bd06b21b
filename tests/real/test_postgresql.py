"""A real PostgreSQL server: accounts, rights and passwords of a charter, proved by real statements."""

from __future__ import annotations

import contextlib
import gc
import json
import os
import shlex
import signal
import time
from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import psycopg
import pytest

from cli.test_documents import Shell, page, typed
from conftest import Both, Desk, Fork, boundaries, kill_at
from real.servers import Database, postgresql
from sigillum import testing
from sigillum.core.kinds.changes import Change, End, Make
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Kind, Query
from sigillum.core.kinds.registry import KINDS
from sigillum.core.values.errors import SigillumError
from sigillum.core.values.secret import Secret
from sigillum.tenants.port import Address, Link, Result
from sigillum.tenants.postgresql.connection import server_of
from sigillum.tenants.postgresql.driver import Database as Driver
from sigillum.tenants.postgresql.paths import names_of, path_of
from tenants.test_dialect import HOSTILE

CHARTER = """\
charter: clerk
tenant: db
owner: mara.teel@brindlemoor.example
purpose: Reads orders
identity: {kind: service-account, name: clerk-7, display: Clerk seven}
member_of: [office]
grants:
  - {role: schema-usage, at: app/sales, because: it reads}
  - {role: table-select, at: app/sales/orders, because: it reads}
credentials: [{name: clerk-pw, kind: password, lasts: 30d}]
proofs:
  - {can: table.select, at: app/sales/orders}
  - {cannot: table.insert, at: app/sales/trial}
  - {cannot: table.delete, at: app/sales/orders}
"""
SCHEMA = (
    "DROP SCHEMA IF EXISTS sales CASCADE",
    "CREATE SCHEMA sales",
    "CREATE TABLE sales.orders (id int PRIMARY KEY, what text NOT NULL)",
    "CREATE TABLE sales.trial (id serial, note text)",
    "COMMENT ON TABLE sales.trial IS '[sigillum:trial]'",
    "CREATE ROLE office NOLOGIN",
)


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Database]:
    with postgresql(tmp_path_factory.mktemp("pg") / "server") as made:
        yield made


@pytest.fixture
def house(bare: Desk, server: Database) -> Desk:
    gc.collect()  # each run of the program leaves its connection to its end, and they run in one process here
    for (name,) in server.run("SELECT rolname FROM pg_roles WHERE rolname !~ '^pg_' AND rolname <> 'boss'"):
        server.run(f'DROP OWNED BY "{name}"', f'DROP ROLE "{name}"')
    server.run(*SCHEMA)
    (bare.folder / "admin.secret").write_text(server.password)
    (bare.folder / "admin.secret").chmod(0o600)
    ran = bare.run(
        "tenant",
        "add",
        "db",
        server.address,
        "--driver",
        "postgresql",
        "--admin",
        "boss",
        "--token",
        "file:admin.secret",
        "--stage",
        "test",
    )
    assert ran.code == 0, ran.err
    bare.charter(CHARTER, "clerk")
    return bare


def secret_of(house: Desk) -> str:
    path = max((house.folder / ".sigillum" / "keys").glob("*/current/clerk-pw.json"), key=lambda p: p.lstat().st_mtime_ns)
    return str(json.loads(path.read_text())["secret"])


def lets_in(server: Database, secret: str) -> bool:
    try:
        server.connect("clerk-7", secret).close()
    except psycopg.OperationalError:
        return False
    return True


def is_whole(house: Desk, server: Database, charter: str = "clerk") -> None:
    """Just what is wanted stands there, the kept password opens it, and another run does nothing."""
    assert server.run(
        "SELECT rolname, rolcanlogin FROM pg_roles WHERE rolname !~ '^pg_' AND rolname NOT IN ('boss', 'office')"
    ) == [("clerk-7", True)]
    assert server.run("SELECT count(*) FROM information_schema.table_privileges WHERE grantee = 'clerk-7'") == [(1,)]
    with server.connect("clerk-7", secret_of(house)) as mine:
        assert mine.execute("SELECT count(*) FROM sales.orders").fetchone() == (0,)
        with pytest.raises(psycopg.errors.InsufficientPrivilege):
            mine.execute("DELETE FROM sales.orders")
    assert house.run("rehearse", charter, "--format", "json").json["charters"][0]["steps"] == []


def test_a_charter_serves_on_a_real_server(house: Desk, server: Database) -> None:
    ran = house.run("enact", "clerk", "--yes")
    assert (ran.code, ran.out.count("holds ")) == (0, 3), ran.out + ran.err
    is_whole(house, server)
    assert server.run(
        "SELECT count(*) FROM pg_auth_members m JOIN pg_roles r ON r.oid = m.roleid WHERE r.rolname = 'office'"
    ) == [(1,)]
    said = server.log.read_bytes()
    assert (secret_of(house).encode() in said, b"SCRAM-SHA-256$" in said) == (False, True)  # the password never travels
    before = len(said)
    assert house.run("enact", "clerk", "--yes").code == 0
    assert not any(
        word in server.log.read_bytes()[before:] for word in (b"ALTER ROLE", b"GRANT ", b"CREATE ROLE", b"COMMENT ON")
    )
    ran = house.run("suspend", "clerk", "--because", "x", "--yes")
    assert (ran.code, ran.out.count("refused  ")) == (0, 2), ran.out + ran.err
    server.run('ALTER ROLE "clerk-7" CONNECTION LIMIT -1')
    old = secret_of(house)
    ran = house.run("rotate", "clerk")
    assert (ran.code, "try clerk-pw.next.json" in ran.out) == (6, False), ran.out
    with Both(house, "clerk-pw", lambda secret: lets_in(server, secret)) as client:
        ran = house.run("rotate", "clerk", "--gap", "--yes")  # one password at a time: it takes the old one's place
    assert (client.refused, "the new clerk-pw where its consumers read it" in ran.out) == ([], True), ran.out + ran.err
    with pytest.raises(psycopg.OperationalError, match="authentication failed"):
        server.connect("clerk-7", old)
    ran = house.run("retire", "clerk", "--because", "over", "--yes")
    assert (ran.code, server.run("SELECT count(*) FROM pg_roles WHERE rolname = 'clerk-7'")) == (0, [(0,)]), ran.out + ran.err
    assert house.run("ledger", "verify").code == 0


def test_a_client_certificate_is_taken_by_the_name_that_the_server_maps(house: Desk, server: Database) -> None:
    words = CHARTER.replace("clerk-7", "clerk-9").replace(
        "name: clerk-pw, kind: password, lasts: 30d",
        "name: clerk-cert, kind: certificate, algorithm: ES256, signed_by: ca, lasts: 30d",
    )
    house.charter(words, "clerk")
    assert house.run("enact", "clerk", "--yes").code == 6

    def answered(number: int) -> None:
        server.house.answer(
            house.folder / "requests" / f"clerk-clerk-cert-{number}.csr.pem",
            house.folder / f"answer-{number}.pem",
            timedelta(days=24 + number),
        )
        house.charter(words.replace("lasts: 30d", f"certificate: file:answer-{number}.pem, lasts: 30d"), "clerk")

    answered(1)
    ran = house.run("enact", "clerk", "--yes")
    assert (ran.code, ran.out.count("holds "), "with its certificate, over TLS" in ran.out) == (0, 3, True), ran.out + ran.err
    assert house.run("rehearse", "clerk", "--format", "json").json["charters"][0]["steps"] == []
    assert house.run("rotate", "clerk").code == 6  # beside the old one: no gap
    answered(2)
    ran = house.run("rotate", "clerk", "--taken", "mara.teel", "--yes")
    assert (ran.code, "where its consumers read it" in ran.out) == (7, True), ran.out + ran.err
    assert house.run("rotate", "clerk", "--end-old", "--yes").code == 7
    time.sleep(2)
    ran = house.run("rotate", "clerk")
    assert (ran.code, "it is taken there until its own end" in " ".join(ran.out.split())) == (7, True), (
        ran.out + ran.err
    )  # its end is its own
    assert server.run(
        "SELECT shobj_description(oid, 'pg_authid') ~ 'certificate:.*certificate:' FROM pg_roles WHERE rolname = 'clerk-9'"
    ) == [(False,)]
    for name, told in (
        ("clerk-8", "its map machines lets gauge-1 in as clerk-8"),
        ("clerk-6", "no rule of its pg_hba.conf lets clerk-6 in"),
    ):
        house.charter(words.replace("clerk-9", name).replace("charter: clerk", f"charter: {name}"), name)
        assert house.run("enact", name, "--yes").code == 6
        server.house.answer(
            house.folder / "requests" / f"{name}-clerk-cert-1.csr.pem", house.folder / "other.pem", timedelta(days=2)
        )
        house.charter(
            words.replace("clerk-9", name)
            .replace("charter: clerk", f"charter: {name}")
            .replace("lasts: 30d", "certificate: file:other.pem, lasts: 30d"),
            name,
        )
        ran = house.run("enact", name, "--yes")
        assert (ran.code, told in " ".join(ran.out.split())) == (4, True), ran.out + ran.err


def test_what_has_an_end_is_ended_by_sweep(house: Desk, server: Database) -> None:
    house.charter(
        CHARTER.replace("at: app/sales/orders, because: it reads}", "at: app/sales/orders, lasts: 8s, because: it reads}"),
        "clerk",
    )
    assert "sweep ends it" in " ".join(house.run("rehearse", "clerk").out.split())
    assert house.run("enact", "clerk", "--yes").code == 0
    ran = house.run(
        "lend", "table-update", "--at", "app/sales/orders", "--to", "clerk-7", "--for", "2s", "--because", "a repair", "--yes"
    )
    assert (ran.code, "let `sigillum sweep` run" in " ".join(ran.out.split())) == (0, True), ran.out + ran.err
    held = "SELECT privilege_type FROM information_schema.table_privileges WHERE grantee = 'clerk-7' ORDER BY 1"
    assert server.run(held) == [("SELECT",), ("UPDATE",)]
    time.sleep(9)
    assert house.run("sweep", "--yes").code == 0
    assert server.run(held) == []


def test_a_membership_gives_its_rights_and_no_more(house: Desk, server: Database) -> None:
    assert house.run("enact", "clerk", "--yes").code == 0
    server.run("GRANT INSERT ON sales.trial TO office", "GRANT USAGE ON ALL SEQUENCES IN SCHEMA sales TO office")
    ran = house.run("prove", "clerk")
    assert (ran.code, "does not hold" in ran.out) == (1, True), ran.out + ran.err  # what the team may, the member may
    if int(str(server.run("SHOW server_version_num")[0][0])) >= 160_000:
        with server.connect("clerk-7", secret_of(house)) as mine, pytest.raises(psycopg.errors.InsufficientPrivilege):
            mine.execute("SET ROLE office")
        server.run('GRANT office TO "clerk-7" WITH INHERIT FALSE')
    else:
        server.run('ALTER ROLE "clerk-7" NOINHERIT')
    assert house.run("prove", "clerk").code == 0
    ran = house.run("rehearse", "clerk", "--format", "json")
    assert "membership of clerk-7 in office" in ran.json["charters"][0]["steps"][0]["about"], (
        ran.out
    )  # what gives nothing is no membership


def test_killed_ten_times_it_goes_on(house: Desk, server: Database, forked: Fork) -> None:
    names = boundaries(house, forked, ["enact", "clerk", "--yes"])
    assert len(names) >= 10
    for number, name in enumerate(names):
        assert house.run("retire", f"clerk-{number - 1}" if number else "clerk", "--because", "again", "--yes").code == 0
        house.charter(CHARTER.replace("charter: clerk", f"charter: clerk-{number}"), f"clerk-{number}")
        assert forked(house, ["enact", f"clerk-{number}", "--yes"], kill_at(name))[1] == 9, name
        ran = house.run("enact", f"clerk-{number}", "--yes")
        assert ran.code == 0, f"{name}: {ran.out}{ran.err}"
        is_whole(house, server, f"clerk-{number}")


def test_a_rotation_killed_anywhere_leaves_one_password_and_a_client_that_is_let_in(
    house: Desk, server: Database, forked: Fork
) -> None:
    assert house.run("enact", "clerk", "--yes").code == 0
    names, number = list[str](), 0
    while number <= len(names):
        path = house.folder / "seen"
        path.unlink(missing_ok=True)

        def at(name: str) -> None:
            with path.open("a") as file:  # noqa: B023 - it runs in this round
                file.write(name + "\n")
            if len(names) > number and name == names[number]:  # noqa: B023
                os.kill(os.getpid(), signal.SIGKILL)

        with Both(house, "clerk-pw", lambda secret: lets_in(server, secret)) as client:
            forked(house, ["rotate", "clerk", "--gap", "--yes"], at)
            names = names or list(dict.fromkeys(path.read_text().splitlines()))
            for _ in range(5):
                if "dead, and its successor serves" in house.run("rotate", "clerk", "--gap", "--yes").out:
                    break
                time.sleep(1)
        assert client.refused == [], names[number - 1]
        steps = house.run("rehearse", "clerk", "--format", "json").json["charters"][0]["steps"]
        assert [s["step"] for s in steps if s["step"] != "prove"] == []
        number += 1
    assert len(names) >= 8, names


@pytest.mark.parametrize("many", [10, 10_000])
def test_rehearsing_asks_as_much_of_many_roles_as_of_few(house: Desk, server: Database, many: int) -> None:
    server.run(f"DO $$ BEGIN FOR i IN 1..{many} LOOP EXECUTE format('CREATE ROLE %I LOGIN', 'other-' || i); END LOOP; END $$")
    before = server.log.read_bytes().count(b"LOG:  execute") + server.log.read_bytes().count(b"LOG:  statement: SELECT")
    assert house.run("rehearse", "clerk").code == 0
    asked = server.log.read_bytes().count(b"LOG:  execute") + server.log.read_bytes().count(b"LOG:  statement: SELECT") - before
    assert 5 <= asked <= 60, asked
    server.run(
        "DO $$ DECLARE r text; BEGIN FOR r IN SELECT rolname FROM pg_roles WHERE rolname LIKE 'other-%' LOOP EXECUTE format('DROP ROLE %I', r); END LOOP; END $$"
    )


def test_no_value_changes_a_statement(house: Desk, server: Database, tmp_path: Path) -> None:
    driver = Driver(
        Address("db", server.address, admin="boss", driver="postgresql"),
        Link(Secret(server.password), tmp_path),
        server_of(server.address),
    )
    for value in [*HOSTILE, '"; DROP TABLE sales.orders; --', "a'b", "%s", "%(x)s", "$1", "$$"]:
        made = driver.make(Make(ACCOUNT, {"name": value, "display": value, "active": True}), "m-1")
        if made.result is Result.DONE:
            assert made.record is not None
            shown = server.run(f"SELECT rolname FROM pg_roles WHERE oid = {made.record.id}")
            assert shown == [(value.encode()[:63].decode(errors="ignore"),)] or len(value) > 60, value
            assert driver.end(End(ACCOUNT, made.record.id)).result is Result.DONE
        for kind in KINDS.values():
            for field in ("id", "name", "principal", "mark", "path", "under"):
                try:
                    driver.facts([Query(kind, field, value)])
                except SigillumError:
                    assert "\0" in value
        assert driver.change(Change(ACCOUNT, value, {"active": False})).result in (Result.MISSING, Result.REFUSED), value
    assert server.run("SELECT count(*) FROM sales.orders") == [(0,)]


def test_what_is_wrong_is_told(bare: Desk, server: Database) -> None:
    (bare.folder / "wrong").write_text("wrong")
    (bare.folder / "wrong").chmod(0o600)

    def add(address: str) -> Any:
        return bare.run("tenant", "add", "db", address, "--driver", "postgresql", "--admin", "boss", "--token", "file:wrong")

    for address, code, told in (
        (server.address, 4, "authentication failed"),
        ("postgresql://127.0.0.1:1/app", 5, "cannot be reached"),
        ("postgresql://boss:pw@127.0.0.1/app", 2, "no address of a database"),
        ("postgresql://127.0.0.1/", 2, "no address"),
        ("postgresql://127.0.0.1:5432/app?sslmode=disable", 2, "no address"),
    ):
        ran = add(address)
        assert (ran.code, told in ran.err, "Traceback" in ran.err) == (code, True, False), ran.err


class Served:
    """This server, and the driver postgresql, for the kit."""

    def __init__(self, server: Database, folder: Path) -> None:
        self.server, self.folder, self.said = server, folder, list[str]()

    def connect(self) -> Driver:
        return Driver(
            Address("db", self.server.address, admin="boss", driver="postgresql"),
            Link(Secret(self.server.password), self.folder),
            server_of(self.server.address),
        )

    def changes(self) -> int:
        return sum(self.server.log.read_bytes().count(b"statement: " + word) for word in (b"COMMIT",))

    def fate(self, what: str) -> None:
        raise testing.NotHereError("its connections are not broken on purpose")

    def hide(self, kind: Kind[Any]) -> None:
        raise testing.NotHereError("roles are shown to everybody")

    def account(self, name: str) -> Mapping[str, Any]:
        return {"name": name, "display": "Kit", "active": True}

    def others(self, account: str) -> list[tuple[Kind[Any], Mapping[str, Any]]]:
        until = datetime.now(UTC).replace(microsecond=0) + timedelta(days=3)
        return [
            (
                KINDS["credential"],
                {
                    "principal": account,
                    "carrier": "account",
                    "type": "password",
                    "name": "pw",
                    "until": until,
                    "active": True,
                    "password": Secret("a-password-4712"),
                },
            ),
            (
                KINDS["grant"],
                {
                    "principal": account,
                    "carrier": "account",
                    "role": "table-select",
                    "role_id": "table-select",
                    "place": "app/sales/orders",
                    "place_id": "app/sales/orders",
                    "where": (),
                },
            ),
        ]

    def secrets(self) -> list[str]:
        return [self.server.password, "a-password-4712"]


@pytest.mark.parametrize("check", testing.CHECKS, ids=lambda check: str(check.__name__))
def test_the_driver_conforms(house: Desk, server: Database, check: Callable[[testing.Party], None]) -> None:
    party = Served(server, house.folder)
    testing.conforms(check, party)
    with contextlib.suppress(psycopg.Error):
        server.run('DROP OWNED BY "kit-1"', 'DROP ROLE "kit-1"')


def test_what_a_role_is_counts_beside_what_is_granted(house: Desk, server: Database) -> None:
    """Attributes, and memberships that are not inherited: each is a difference, told by `explain`, and breaks what it breaks."""
    house.charter(CHARTER, "clerk")
    assert house.run("enact", "clerk", "--yes").code == 0
    assert house.run("rehearse", "clerk", "--strict").code == 0
    for word, role in (
        ("SUPERUSER", "superuser"),
        ("CREATEROLE", "creates-roles"),
        ("CREATEDB", "creates-databases"),
        ("REPLICATION", "replicates"),
        ("BYPASSRLS", "passes-row-rules"),
    ):
        server.run(f'ALTER ROLE "clerk-7" {word}')
        ran = house.run("rehearse", "clerk", "--strict")
        assert (ran.code, f"extra: {role} at app" in ran.out) == (1, True), ran.out
        if word == "SUPERUSER":
            assert "superuser at app" in house.run("explain", "clerk-7", "table.insert", "app/sales/trial").out
            assert "will not hold" in " ".join(ran.out.split())
            assert house.run("prove", "clerk").code == 1
        ran = house.run("enact", "clerk", "--yes", "--end-extra", "--no-prove")
        assert ran.code == 0, ran.out + ran.err
        assert house.run("rehearse", "clerk", "--strict").code == 0
    server.run("CREATE ROLE vault NOLOGIN", 'GRANT vault TO "clerk-7" WITH ADMIN OPTION')
    assert house.run("rehearse", "clerk", "--strict").code == 1


def test_what_its_page_says_is_run(
    house: Desk, server: Database, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(house.folder)
    shell, lines = Shell(monkeypatch, capsys), list(typed(page("postgresql")))
    assert len(lines) > 5
    for one in lines:
        if one.line.startswith("psql -c "):
            server.run(shlex.split(one.line)[-1])
        else:
            shell.run(one)


def test_a_grant_by_somebody_else_is_ended_by_them_or_a_superuser(house: Desk, server: Database) -> None:
    house.charter(CHARTER, "clerk")
    assert house.run("enact", "clerk", "--yes").code == 0
    server.run("CREATE ROLE lender NOLOGIN", "GRANT USAGE ON SCHEMA sales TO lender")
    server.run("GRANT UPDATE ON sales.orders TO lender WITH GRANT OPTION")
    server.run("SET ROLE lender", 'GRANT UPDATE ON sales.orders TO "clerk-7"', "RESET ROLE")
    ran = house.run("enact", "clerk", "--yes", "--end-extra", "--no-prove")
    assert ran.code == 0, ran.out + ran.err
    assert house.run("rehearse", "clerk", "--strict").code == 0


def test_what_an_account_owns_is_named_before_anything_ends(house: Desk, server: Database) -> None:
    house.charter(CHARTER, "clerk")
    assert house.run("enact", "clerk", "--yes").code == 0
    server.run("CREATE TABLE sales.kept (x int)", 'ALTER TABLE sales.kept OWNER TO "clerk-7"')
    ran = house.run("retire", "clerk", "--because", "over", "--yes")
    assert (ran.code, "it owns table sales.kept" in " ".join((ran.out + ran.err).split())) == (6, True), ran.out + ran.err
    assert house.run("prove", "clerk").code == 0  # nothing was begun
    server.run("ALTER TABLE sales.kept OWNER TO CURRENT_USER")
    assert house.run("retire", "clerk", "--because", "over", "--yes").code == 0


ODD = ("Order Details", "50% off", 'a/b"c', "Größe\u200b", "_private", "orders")


def test_names_that_need_quotes_are_places_like_others(house: Desk, server: Database) -> None:
    """Each is found, granted, tried, seen when somebody else granted it, and ended."""
    quoted = ['"' + name.replace('"', '""') + '"' for name in ODD]
    server.run('DROP SCHEMA IF EXISTS "Sales 2026" CASCADE', 'CREATE SCHEMA "Sales 2026"')
    server.run(*(f'CREATE TABLE "Sales 2026".{name} (id int)' for name in quoted))
    paths = [path_of(["app", "Sales 2026", name]) for name in ODD]
    assert paths[:4] == [
        'app/"Sales 2026"/"Order Details"',
        'app/"Sales 2026"/"50%25 off"',
        'app/"Sales 2026"/"a%2Fb%22c"',
        'app/"Sales 2026"/"Größe%E2%80%8B"',
    ]
    assert [names_of(path)[-1] for path in paths] == list(ODD)
    grants = "".join(f"  - {{role: table-select, at: '{path}', because: x}}\n" for path in paths)
    proofs = "".join(f"  - {{can: table.select, at: '{p}'}}\n  - {{cannot: table.delete, at: '{p}'}}\n" for p in paths)
    charter = f"{CHARTER.partition('grants:')[0]}grants:\n  - {{role: schema-usage, at: 'app/\"Sales 2026\"', because: x}}\n"
    credentials = "credentials: [{name: clerk-pw, kind: password, lasts: 30d}]\n"
    house.charter(f"{charter}{grants}{credentials}proofs:\n{proofs}", "clerk")
    ran = house.run("enact", "clerk", "--yes")
    assert (ran.code, ran.out.count("holds ")) == (0, 2 * len(ODD)), ran.out + ran.err
    for name in quoted:
        server.run(f'GRANT UPDATE ON TABLE "Sales 2026".{name} TO "clerk-7"')
    ran = house.run("rehearse", "clerk", "--strict", "--format", "json")
    told = json.dumps(ran.json, ensure_ascii=False)
    assert (ran.code, all(json.dumps(p, ensure_ascii=False)[1:-1] in told for p in paths)) == (1, True), told
    assert house.run("enact", "clerk", "--yes", "--end-extra").code == 0
    house.charter(f"{charter}{credentials}", "clerk")
    assert house.run("enact", "clerk", "--yes").code == 0
    assert server.run("SELECT count(*) FROM information_schema.table_privileges WHERE grantee = 'clerk-7'") == [(0,)]


BEHIND = {  # what another hand does, and whether it differs from what the charter says
    'REVOKE SELECT ON sales.orders FROM "clerk-7"': True,
    'REVOKE USAGE ON SCHEMA sales FROM "clerk-7"': True,
    'REVOKE office FROM "clerk-7"': True,
    'GRANT INSERT ON sales.trial TO "clerk-7"': True,
    "GRANT INSERT ON sales.trial TO office": False,  # a right of the team, not of the identity; the proof speaks of it
    "GRANT DELETE ON sales.orders TO PUBLIC": False,
    'ALTER ROLE "clerk-7" SUPERUSER': True,
    "GRANT pg_write_all_data TO office": False,
    'GRANT pg_write_all_data TO "clerk-7"': True,
    'ALTER ROLE "clerk-7" CONNECTION LIMIT 0': True,
    "ALTER ROLE \"clerk-7\" PASSWORD 'another-word-4711'": False,  # nobody may look at it: signing in shows it
    "ALTER ROLE \"clerk-7\" VALID UNTIL '2001-01-01'": True,
    'ALTER ROLE "clerk-7" RENAME TO "clerk-8"': True,
    "DROP TABLE sales.orders": True,
    'DROP OWNED BY "clerk-7"; DROP ROLE "clerk-7"': True,
}
TRIED = {
    "can table.select at app/sales/orders": "SELECT count(*) FROM sales.orders",
    "cannot table.insert at app/sales/trial": "INSERT INTO sales.trial (note) SELECT 'x' WHERE false",
    "cannot table.delete at app/sales/orders": "DELETE FROM sales.orders",
}


@pytest.mark.parametrize("change", BEHIND)
def test_nothing_is_said_that_the_server_denies(
    house: Desk, server: Database, change: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("sigillum.core.facets.seen.ARRIVAL_SLACK_SECONDS", 0)  # nothing is on its way any more
    assert house.run("enact", "clerk", "--yes").code == 0
    secret = secret_of(house)
    server.run(*change.split("; "))

    def may(statement: str) -> bool:
        try:
            with server.connect("clerk-7", secret) as mine, mine.transaction(force_rollback=True):
                mine.execute(statement)
        except psycopg.Error:
            return False
        return True

    ran = house.run("prove", "clerk", "--format", "json")
    proofs = {p["expectation"]: p["held"] for c in ran.json.get("charters", ()) for p in c["proofs"]}
    for words, statement in TRIED.items():
        held, allowed = proofs.get(words), may(statement)
        assert held is None or held is (allowed is words.startswith("can ")), (words, held, allowed)
        _, permission, _, place = words.split()
        ran = house.run("explain", "clerk-7", permission, place, "--format", "json")
        answers = ran.json.get("questions") if ran.out.startswith("{") else None  # a place that is gone is a mistake
        said = answers[0]["allowed"] if answers else None
        if not any(word in change for word in ("PASSWORD", "VALID", "RENAME")):  # it is told of the account, whoever signs in
            assert said is None or said is allowed, (words, said, allowed)
    ran = house.run("rehearse", "clerk", "--strict")
    assert (ran.code != 0) is BEHIND[change] or ran.code != 0, ran.out
    if BEHIND[change]:
        assert "everything is as the charter says" not in ran.out
