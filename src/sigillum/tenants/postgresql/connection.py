"""Connections to a PostgreSQL server: whose, how secured, and what went wrong with them."""

from __future__ import annotations

import re
import weakref
from datetime import UTC, datetime
from typing import Any, NamedTuple

import psycopg

from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.profile import ONCE, Profile
from sigillum.core.values.errors import RefusedError, UnreachableError, UsageError
from sigillum.core.values.secret import Secret
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
    def _open(self, user: str, proof: Secret, scheme: str = "password") -> psycopg.Connection[Any]:
        """TLS with a certificate that is checked; on this machine itself also without. Raises RefusedError,
        UnreachableError.
        """
        server, ca = self._server, self.address.ca
        usual = {
            "sslmode": "prefer" if server.here else "verify-full",
            "sslrootcert": str(self._link.folder / ca) if ca else ("" if server.here else "system"),
        }
        try:
            with presented(proof, scheme, here=server.here) as shown:
                return psycopg.connect(
                    host=server.host,
                    port=server.port,
                    dbname=server.database,
                    user=user,
                    autocommit=True,
                    connect_timeout=max(2, int(self._link.timeout_seconds)),
                    application_name="sigillum",
                    **{**usual, **shown},  # type: ignore[arg-type]
                )
        except psycopg.OperationalError as problem:
            said = said_by(problem)
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

    def _lasting(self) -> psycopg.Connection[Any]:
        """The administrator's connection, closed when nobody needs this any more."""
        made = self._open(self.address.admin, self._link.token)
        weakref.finalize(self, made.close)
        return made

    def _ask(self, statement: str, values: dict[str, Any]) -> list[tuple[Any, ...]]:
        """Raises UnreachableError, RefusedError."""
        self.statements += 1
        try:
            return self._connection.execute(statement, values).fetchall()
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
