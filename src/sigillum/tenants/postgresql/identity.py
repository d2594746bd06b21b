"""The identity's own side of a database: a connection with its password, and statements that are rolled back."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import psycopg
from psycopg import sql

from sigillum.core.deciding.proofs import Trial
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.profile import Operation
from sigillum.core.values.errors import RefusedError
from sigillum.core.values.secret import Secret
from sigillum.tenants.port import Proof, SignedIn

from .certificates import SCHEME, bundle
from .connection import Connected, said_by
from .look import answer
from .paths import names_of
from .rights import PERMISSIONS

if TYPE_CHECKING:
    from sigillum.core.deciding.values import Question

COLUMN = """
SELECT a.attname::text FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = %(s)s AND c.relname = %(t)s AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum LIMIT 1"""


class DatabaseSignIns(Connected):
    """Signing in, trying rights, and asking the server whether something is allowed."""

    @property
    def token_endpoint(self) -> str:
        return ""

    def _name_of(self, principal: str) -> str:
        record = answer(self._ask, Query(ACCOUNT, "id", principal)).first
        return str(record.body.name) if record is not None else ""

    def sign_in(self, proof: Proof) -> SignedIn:
        """A connection of its own, with its password; the server says as whom."""
        if proof.secret is None and not (proof.key is not None and proof.der):
            raise RefusedError(
                "accounts sign in with a password or a certificate here",
                where=self.address.address,
                mend="use a credential of kind password or certificate",
            )
        scheme = "password" if proof.secret is not None else SCHEME
        shown = proof.secret or bundle(proof.key or {}, proof.der)
        name = proof.account or self._name_of(proof.principal)
        with self._open(name, shown, scheme) as connection:
            row = self._asked(connection, "SELECT session_user::text", {})[0]
            secure = "over TLS" if connection.pgconn.ssl_in_use else "without TLS, on this machine"
        said = str(row[0])
        if said != name:
            raise RefusedError(
                f"it runs as {said or 'nobody'}, not as {name}", where=self.address.address, mend="nothing was tried"
            )
        return SignedIn(shown, proof.principal, f"with its {scheme}, {secure}; the server says: {said}", scheme)

    def taken(self, signed_in: SignedIn) -> bool | None:
        try:
            self._open(self._name_of(signed_in.principal) or "nobody", signed_in.token, signed_in.scheme).close()
        except RefusedError:
            return False
        return True

    def as_administrator(self, principal: str) -> SignedIn:
        return SignedIn(
            self._link.token, principal, "asked by the administrator, not signed in as the identity", "administrator"
        )

    def token_for(self, proof: Proof, issuer: str) -> Secret:
        raise RefusedError(
            "a database server gives no tokens", where=self.address.address, mend="use a tenant of the driver open"
        )

    def attempt(self, signed_in: SignedIn, operation: Operation, place: str) -> Trial:
        """A statement as the role, in a transaction that is rolled back."""
        right = PERMISSIONS[operation.permission]
        if not right.trial:
            return Trial(None, f"{operation.permission} is not tried")
        kind = object_of(place)[1]
        if kind != right.at:
            return Trial(None, f"{place} is a {kind}, and {operation.permission} is tried at a {right.at}")
        names = names_of(place)[1:]
        column = self._column(names) if "{column}" in right.trial else ""
        statement = sql.SQL(right.trial).format(table=sql.Identifier(*(names or [""])), column=sql.Identifier(column or "ctid"))
        try:
            with (
                self._open(self._name_of(signed_in.principal), signed_in.token, signed_in.scheme) as connection,
                connection.transaction(force_rollback=True),
            ):
                connection.execute(statement)
        except psycopg.errors.InsufficientPrivilege as problem:
            said = f"refused ({problem.sqlstate}: {said_by(problem)})"
            otherwise = self.ask(signed_in, operation.permission, place).allowed is True  # a sequence, or its schema
            return Trial(False, said, otherwise=otherwise)
        except psycopg.errors.IntegrityError:
            return Trial(True, "allowed; the row itself was not valid")
        except RefusedError as problem:
            return Trial(False, problem.what, unauthenticated=True)
        except psycopg.Error as problem:
            return Trial(None, f"{problem.sqlstate or 'no answer'}: {said_by(problem)}")
        return Trial(True, "done, and rolled back")

    def _column(self, names: list[str]) -> str:
        rows = self._ask(COLUMN, {"s": names[0], "t": names[-1]})
        return str(rows[0][0]) if rows else ""

    def ask(self, signed_in: SignedIn, permission: str, place: str, person: str = "") -> Trial:
        """The server's own decision: `has_…_privilege`, for roles that it inherits from, too."""
        right, names = PERMISSIONS.get(permission), names_of(place)
        kind = ("database", "schema", "table")[min(len(names), 3) - 1]
        if right is None or not right.privilege or right.at != kind:
            return Trial(None, f"{permission} is not asked at a {kind}")
        named = (
            names[0]
            if kind == "database"
            else names[1]
            if kind == "schema"
            else sql.Identifier(*names[1:]).as_string(self._connection)
        )
        who = self._name_of(signed_in.principal)
        rows = self._ask(
            f"SELECT has_{kind}_privilege(%(who)s, %(what)s, %(privilege)s)",
            {"who": who, "what": named, "privilege": right.privilege},
        )
        return Trial(bool(rows[0][0]), f"has_{kind}_privilege says so")

    def ask_all(self, questions: Sequence[Question]) -> list[Trial]:
        return [self.ask(self.as_administrator(q.principal), q.permission, q.place) for q in questions]

    def ask_sign_in(self, account: str, context: Mapping[str, Any]) -> Trial:
        return Trial(None, "a database server is not asked about sign-in")


def object_of(place: str) -> tuple[sql.Composable, str]:
    """A place as a statement names it, and its kind."""
    names = names_of(place)
    kind = ("database", "schema", "table")[min(len(names), 3) - 1]
    return sql.SQL(kind.upper() + " {}").format(
        sql.Identifier(*names[1:]) if len(names) > 1 else sql.Identifier(names[0])
    ), kind
