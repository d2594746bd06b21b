"""Connections to a PostgreSQL server: whose, how secured, and what went wrong with them."""

from __future__ import annotations

import os
import re
import time
import weakref
from collections.abc import Generator
from datetime import UTC, datetime
from typing import Any, NamedTuple, TypeVar

import psycopg

from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.profile import ONCE, Profile
from sigillum.core.values.errors import RefusedError, UnreachableError, UsageError
from sigillum.core.values.secret import Secret, masked
from sigillum.core.values.text import plain
from sigillum.core.values.times import ClockReading
from sigillum.protocols.addresses import LOOPBACK
from sigillum.tenants.port import Address, Link

from .asking import CARRIES
from .certificates import presented
from .rights import operations

ADDRESS = re.compile(
    r"postgresql://(\[[0-9a-fA-F:.]+\]|[A-Za-z0-9](?:[A-Za-z0-9.-]*[A-Za-z0-9])?)(?::([0-9]{1,5}))?/"
    r"([A-Za-z0-9_][\w.-]*)\Z"
)
SCRAM = "scram-sha-256"
GRACE_SECONDS = 2.0  # by which the server's own limit comes first: then it is known that nothing was done
T = TypeVar("T")

for _name in [n for n in os.environ if n.startswith("PG")]:
    os.unsetenv(_name)  # of the C library alone, which would take them for a part of the address; programs we start have them


class Bounded(psycopg.Connection[Any]):
    """A connection on which every wait ends: where the server says nothing any more, it is closed."""

    seconds = 15.0

    def wait(self, gen: Generator[Any, Any, T], *given: Any, **more: Any) -> T:
        """Raises OperationalError."""
        return super().wait(self._until(gen, time.monotonic() + self.seconds), *given, **more)

    def _until(self, gen: Generator[Any, Any, T], moment: float) -> Generator[Any, Any, T]:
        try:
            wanted = next(gen)
            while time.monotonic() <= moment:
                wanted = gen.send((yield wanted))
        except StopIteration as ended:
            found: T = ended.value
            return found
        self.close()
        raise psycopg.OperationalError(f"it said nothing for {self.seconds:g} seconds")


class Server(NamedTuple):
    """Where a database is."""

    host: str
    port: int
    database: str

    @property
    def here(self) -> bool:
        return (f"[{self.host}]" if ":" in self.host else self.host) in LOOPBACK


def server_of(address: str) -> Server:
    """Raises UsageError for an address that is none."""
    found = ADDRESS.match(address)
    if found is None:
        raise UsageError(
            "this is no address of a database",
            where=plain(address),
            mend="write it like postgresql://db.example:5432/app, without a user name",
        )
    return Server(found[1].strip("[]"), int(found[2] or 5432), found[3])


class Connected:
    """The administrator's connection to one database, and connections of others."""

    known_seconds = 0.0

    def __init__(self, address: Address, link: Link, server: Server) -> None:
        self.address, self._link, self._server = address, link, server
        self.clock: ClockReading | None = None
        self.statements = 0
        self._connection = self._lasting()
        self._read_clock()
        self.profile = Profile(
            name=address.name,
            title=f"PostgreSQL {self._connection.info.server_version // 10_000}, database {server.database}",
            decisions="has_privilege",
            work="SQL",
            external_id_unique=None,
            born_inactive=False,
            secret_delivery=ONCE,
            last_used="none",
            token_seconds=1,
            outliving=frozenset({"certificate"}),
            singles=frozenset({"password"}),
            replaces=True,
            arrival_seconds=0,
            credential_kinds=("password", "certificate"),
            administrator=address.admin,
            operations=operations(),
            unmarked=frozenset({GRANT.name}),
            carries=CARRIES,
        )

    def say(self, text: str) -> None:
        if self._link.say is not None:
            self._link.say(text)

    # --- connections ------------------------------------------------------------------------------------------------
    def _open(self, user: str, proof: Secret, scheme: str = "password") -> Bounded:
        """TLS with a certificate that is checked; on this machine itself also without. A password is shown to nobody: the
        server has to ask for a proof that it is known (RFC 7677), or what `auth` names. Raises RefusedError, UnreachableError.
        """
        server, ca, seconds = self._server, self.address.ca, self._link.timeout_seconds
        usual = {
            "sslmode": "prefer" if server.here else "verify-full",
            "sslrootcert": str(self._link.folder / ca) if ca else ("" if server.here else "system"),
        }
        try:
            with presented(proof, scheme, here=server.here) as shown:
                made = Bounded.connect(
                    host=server.host,
                    port=server.port,
                    dbname=server.database,
                    user=user,
                    autocommit=True,
                    connect_timeout=max(2, int(seconds)),
                    application_name="sigillum",
                    gssencmode="disable",
                    require_auth="none" if "sslcert" in shown else self.address.auth or SCRAM,
                    **{**usual, **shown},  # type: ignore[arg-type]
                )
            made.seconds = seconds + GRACE_SECONDS
            limit = str(int(seconds * 1000))
            made.execute(
                "SELECT set_config('statement_timeout', %s, false), set_config('lock_timeout', %s, false)", [limit] * 2
            )
            return made
        except psycopg.OperationalError as problem:
            said = said_by(problem)
            if "authentication method requirement" in str(problem):
                raise UnreachableError(
                    f"signing in as {user} was stopped here, before the password was shown: {said}",
                    where=self.address.address,
                    mend=f"have the server ask by {SCRAM}; if it cannot, and you trust the way to it, write `auth: password` "
                    "(or `md5`) at the tenant in sigillum.yaml",
                ) from None
            if any(word in str(problem) for word in ("FATAL", "no password supplied", "did not request")):
                raise RefusedError(
                    f"signing in as {user} was refused: {said}",
                    where=self.address.address,
                    mend="check the name, the password or certificate, and the server's pg_hba.conf",
                ) from None
            raise UnreachableError(
                f"the database cannot be reached: {said}",
                where=self.address.address,
                mend="is the server running, and the address right? (`sigillum tenant list`)",
            ) from None

    def _lasting(self) -> Bounded:
        """The administrator's connection, closed when nobody needs this any more."""
        made = self._open(self.address.admin, self._link.token)
        weakref.finalize(self, made.close)
        return made

    def _ask(self, statement: str, values: dict[str, Any]) -> list[tuple[Any, ...]]:
        """Raises UnreachableError, RefusedError."""
        self.statements += 1
        if self._connection.closed:
            self._connection = self._lasting()
        return self._asked(self._connection, statement, values)

    def _asked(self, connection: Bounded, statement: str, values: dict[str, Any]) -> list[tuple[Any, ...]]:
        try:
            rows = connection.execute(statement, values).fetchall()
            return [tuple(masked(v) if isinstance(v, str) else v for v in row) for row in rows]
        except psycopg.OperationalError as problem:
            raise UnreachableError(
                f"the database did not answer: {said_by(problem)}",
                where=self.address.address,
                mend="run the same command again; what was begun is found again",
            ) from None
        except psycopg.Error as problem:
            raise RefusedError(
                f"looking was refused: {said_by(problem)}",
                where=self.address.address,
                mend="look with an administrator who may",
            ) from None

    def _read_clock(self) -> None:
        sent = datetime.now(UTC)
        now = self._ask("SELECT clock_timestamp()", {})[0][0]
        self.clock = ClockReading((now - datetime.now(UTC)).total_seconds(), (now - sent).total_seconds())


def said_by(problem: psycopg.Error) -> str:
    """What the server says, without the statement: that could hold a verifier."""
    told = str(problem.diag.message_primary or problem).strip() or type(problem).__name__
    return plain(told.rpartition("FATAL:")[2].strip().splitlines()[0])[:300]
