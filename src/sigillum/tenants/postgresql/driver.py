"""The driver `postgresql`: every change is one transaction, every proof a statement that is rolled back."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress
from typing import Any

import psycopg
from psycopg import sql

from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.changes import Change, End, Entry, Make
from sigillum.core.kinds.identities import ACCOUNT, TEAM
from sigillum.core.kinds.kind import Fact, Kind, Query, Record
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.errors import RefusedError, UnreachableError
from sigillum.tenants.port import Address, Link, Reply, Result, SignedIn, Tenant

from .asking import Asking, id_of
from .certificates import NOTE, against, note, noted
from .connection import said_by, server_of
from .identity import DatabaseSignIns, object_of
from .look import NOTES, OID, PASSWORD, answer, parts_of
from .rights import ATTRIBUTES, RIGHTS
from .scram import verifier

OFF, ON = 0, -1  # connection limits: nobody gets in, and no limit
STATES = {
    "42710": Result.EXISTS,
    "23505": Result.EXISTS,
    "42704": Result.MISSING,
    "3D000": Result.MISSING,
    "3F000": Result.MISSING,
    "42P01": Result.MISSING,
    "40001": Result.BUSY,
    "40P01": Result.BUSY,
    "55P03": Result.BUSY,
    "57014": Result.BUSY,  # its own time limit, or somebody stopped it: rolled back
}  # SQLSTATEs, by what they mean


def connect(address: Address, link: Link) -> Tenant:
    """Sign in as the administrator. Raises UnreachableError, RefusedError, UsageError."""
    return Database(address, link, server_of(address.address))


# what DROP ROLE would be refused for: all but what this driver takes away itself, which stands in this database
HOLDINGS = """
SELECT CASE s.deptype WHEN 'o' THEN 'it owns ' ELSE 'something is granted to it: ' END ||
       CASE WHEN s.dbid IN (0, (SELECT oid FROM pg_database WHERE datname = current_database()))
            THEN pg_describe_object(s.classid, s.objid, s.objsubid) ELSE 'an object' END,
       CASE WHEN s.dbid IN (0, (SELECT oid FROM pg_database WHERE datname = current_database()))
            THEN '' ELSE (SELECT datname::text FROM pg_database WHERE oid = s.dbid) END
FROM pg_shdepend s
WHERE s.refclassid = 'pg_authid'::regclass AND s.refobjid::text = %(i)s
  AND (s.deptype = 'o' OR s.dbid NOT IN (0, (SELECT oid FROM pg_database WHERE datname = current_database())))
UNION ALL
SELECT DISTINCT 'it granted ' || a.privilege_type || ' on ' || c.relname || ' to ' || pg_get_userbyid(a.grantee), ''
FROM pg_class c, aclexplode(c.relacl) a WHERE a.grantor::text = %(i)s AND c.relowner::text <> %(i)s
ORDER BY 1"""


class Database(DatabaseSignIns):
    """One database of a server, and the roles of that server."""

    def facts(self, queries: Iterable[Query[Any]]) -> dict[Query[Any], Fact[Any]]:
        out = dict[Query[Any], Fact[Any]]()
        for query in queries:
            try:
                out[query] = answer(self._ask, query)
            except RefusedError as problem:
                out[query] = Fact(unknown=problem.what)
        return out

    def read(self, kind: Kind[Any], identity: str) -> Record[Any] | None:
        return answer(self._ask, Query(kind, "id", identity)).first

    # --- changes: one transaction each ----------------------------------------------------------------------------------
    def _change(self, do: Callable[[Asking], Reply]) -> Reply:
        """Everything or nothing. Where the connection breaks, whether it was done is not known."""

        def run(statement: Any, values: dict[str, Any]) -> list[tuple[Any, ...]]:
            cursor = self._connection.execute(statement, values or None)
            return cursor.fetchall() if cursor.description is not None else []

        try:
            with self._connection.transaction():
                return do(run)
        except psycopg.OperationalError as problem:
            if problem.sqlstate in STATES:
                return self._refused(problem)
            error = UnreachableError(
                f"the database did not answer: {said_by(problem)}",
                where=self.address.address,
                mend="run the same command again; what was begun is found again",
            )
            with suppress(UnreachableError, RefusedError):
                self._connection = self._lasting()
            return Reply(Result.LOST, detail=error.what, error=error)
        except psycopg.Error as problem:
            return self._refused(problem)

    def _refused(self, problem: psycopg.Error) -> Reply:
        result = STATES.get(problem.sqlstate or "", Result.REFUSED)
        error = RefusedError(
            f"it was refused: {said_by(problem)}",
            where=self.address.address,
            mend="look at the detail; what depends on it has to go first, or another administrator has the right",
        )
        return Reply(result, detail=said_by(problem), error=error)

    def make(self, make: Make, mark: str) -> Reply:
        part = make.part
        if make.kind in (ACCOUNT, TEAM):
            return self._change(lambda run: self._make_role(run, make.kind, part, mark))
        if make.kind is GRANT:
            return self._change(lambda run: self._grant(run, part))
        if make.kind is CREDENTIAL and part.get("type") == "password":
            return self._change(lambda run: self._set_password(run, part, mark, make.instead_of))
        if make.kind is CREDENTIAL and part.get("type") == "certificate":
            return self._change(lambda run: self._note_certificate(run, part, mark))
        return self._not_here(f"a {make.kind.name} is not made here")

    def _not_here(self, what: str) -> Reply:
        error = RefusedError(what, where=self.address.address, mend="have it done with the server's own tools")
        return Reply(Result.REFUSED, detail=what, error=error)

    def _make_role(self, run: Asking, kind: Kind[Any], part: Mapping[str, Any], mark: str) -> Reply:
        name = sql.Identifier(str(part["name"]))
        how = (
            sql.SQL("LOGIN CONNECTION LIMIT {}").format(sql.Literal(ON if part.get("active", True) else OFF))
            if kind is ACCOUNT
            else sql.SQL("NOLOGIN")
        )
        run(sql.SQL("CREATE ROLE {} {}").format(name, how), {})  # type: ignore[arg-type]
        self._comment(run, str(part["name"]), f"{part.get('display', '')} [sigillum:{mark}]")
        oid = run("SELECT oid::text FROM pg_roles WHERE rolname = %(n)s", {"n": part["name"]})[0][0]
        return Reply(Result.DONE, Record(kind, oid, kind.made(part), mark=mark))

    def _comment(self, run: Asking, name: str, text: str) -> None:
        run(sql.SQL("COMMENT ON ROLE {} IS {}").format(sql.Identifier(name), sql.Literal(text.strip())), {})  # type: ignore[arg-type]

    def _role(self, run: Asking, identity: str) -> tuple[str, str]:
        """Its name and its comment, for an id. Raises what makes it missing."""
        rows = (
            run(
                "SELECT rolname, coalesce(shobj_description(oid, 'pg_authid'), '') FROM pg_roles WHERE oid::text = %(i)s",
                {"i": identity},
            )
            if OID.match(identity)
            else []
        )
        if not rows:
            raise psycopg.errors.UndefinedObject("there is no such role")
        return str(rows[0][0]), str(rows[0][1])

    def _grant(self, run: Asking, part: Mapping[str, Any]) -> Reply:
        right, principal, place = RIGHTS.get(str(part["role"])), str(part["principal"]), str(part["place"])
        record = Record(GRANT, id_of(str(part["role"]), place, principal), GRANT.made(part))
        if right is None or part.get("start") is not None:
            return self._not_here("a grant begins at once here" if right is not None else f"there is no right {part['role']}")
        if answer(run, Query(GRANT, "id", record.id)).first is not None:
            return Reply(Result.EXISTS, detail="it is granted already")
        name, _ = self._role(run, principal)
        run(self._granting("GRANT", right.privilege, right.role, place, name), {})  # type: ignore[arg-type]
        return Reply(Result.DONE, record)

    def _granting(self, verb: str, privilege: str, role: str, place: str, name: str) -> sql.Composable:
        to = sql.SQL(" TO " if verb == "GRANT" else " FROM ")
        what = sql.SQL(privilege + " ON ") + object_of(place)[0] if privilege else sql.Identifier(role)
        narrow = self._narrow if verb == "GRANT" and not privilege else ""
        return sql.SQL(verb + " ") + what + to + sql.Identifier(name) + sql.SQL(narrow)

    def _set_password(self, run: Asking, part: Mapping[str, Any], mark: str, instead_of: str) -> Reply:
        principal, password = str(part["principal"]), part["password"]
        name, said = self._role(run, principal)
        there = PASSWORD.search(said)
        if there is not None and there[1] != instead_of:
            return Reply(Result.EXISTS, detail="it has a password already")
        until = part.get("until")
        run(
            sql.SQL("ALTER ROLE {} PASSWORD {} VALID UNTIL {}").format(  # type: ignore[arg-type]
                sql.Identifier(name), sql.Literal(verifier(password)), sql.Literal(until.isoformat() if until else "infinity")
            ),
            {},
        )
        self._comment(run, name, f"{PASSWORD.sub('', said).strip()} [password:{mark}]")
        return Reply(Result.DONE, Record(CREDENTIAL, id_of(principal, "password"), CREDENTIAL.made(part), mark=mark))

    def _note_certificate(self, run: Asking, part: Mapping[str, Any], mark: str) -> Reply:
        name, said = self._role(run, str(part["principal"]))
        if any(r.mark == mark for r in noted(str(part["principal"]), said)):
            return Reply(Result.EXISTS, detail="it is noted already")
        with suppress(psycopg.errors.InsufficientPrivilege), self._connection.transaction():  # else signing in will tell
            why = against(run, name, self._server.database)
            if why:
                error = RefusedError(why, where=self.address.address, mend="have the server's administrator add the line")
                return Reply(Result.REFUSED, detail=why, error=error)
        self._comment(run, name, f"{said} {note(part, mark)}")
        return Reply(Result.DONE, next(noted(str(part["principal"]), note(part, mark))))

    def change(self, change: Change) -> Reply:
        if change.kind is not ACCOUNT or not set(change.part) <= {"active", "display"}:
            return self._not_here(f"{', '.join(change.part)} of a {change.kind.name} is not changed here")

        def do(run: Asking) -> Reply:
            name, said = self._role(run, str(change.id))
            if "active" in change.part:
                run(
                    sql.SQL("ALTER ROLE {} CONNECTION LIMIT {}").format(  # type: ignore[arg-type]
                        sql.Identifier(name), sql.Literal(ON if change.part["active"] else OFF)
                    ),
                    {},
                )
            if "display" in change.part:
                marks = " ".join(NOTES.findall(said))
                self._comment(run, name, f"{change.part['display']} {marks}")
            if change.part.get("active") is False:
                self._cut(run, name)
            return Reply(Result.DONE)

        return self._change(do)

    def _cut(self, run: Asking, name: str) -> None:
        """End the sessions of a role; an administrator who may not leaves them."""
        with suppress(psycopg.errors.InsufficientPrivilege), self._connection.transaction():
            run("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = %(n)s", {"n": name})

    def enter(self, entry: Entry) -> Reply:
        if entry.kind is not TEAM or entry.field != "members":
            return self._not_here(f"{entry.field} of a {entry.kind.name} are not changed here")

        def do(run: Asking) -> Reply:
            team, member = self._role(run, str(entry.id))[0], self._role(run, str(entry.value))[0]
            verb = "REVOKE {} FROM {}" if entry.out else f"GRANT {{}} TO {{}}{self._narrow}"
            run(sql.SQL(verb).format(sql.Identifier(team), sql.Identifier(member)), {})  # type: ignore[arg-type]
            return Reply(Result.DONE)

        return self._change(do)

    @property
    def _narrow(self) -> str:
        """The options of a membership: its rights, and neither becoming the team nor passing it on (from version 16 on)."""
        return " WITH INHERIT TRUE, SET FALSE, ADMIN FALSE" if self._connection.info.server_version >= 160_000 else ""

    def end(self, end: End) -> Reply:
        identity = str(end.id)

        def do(run: Asking) -> Reply:
            if end.kind in (ACCOUNT, TEAM):
                name, _ = self._role(run, identity)
                run(sql.SQL("DROP ROLE {}").format(sql.Identifier(name)), {})  # type: ignore[arg-type]
                if end.kind is ACCOUNT:
                    self._cut(run, name)
            elif end.kind is CREDENTIAL:
                name, said = self._role(run, parts_of(identity)[0])
                if parts_of(identity)[1] == "certificate":
                    rest = NOTE.sub(lambda m: "" if m[1] == parts_of(identity)[2] else m[0], said)
                    if rest == said:
                        return Reply(Result.MISSING, detail="no such certificate is noted")
                    self._comment(run, name, rest)
                    return Reply(Result.DONE)
                if not PASSWORD.search(said):
                    return Reply(Result.MISSING, detail="it has no password of ours")
                run(sql.SQL("ALTER ROLE {} PASSWORD NULL VALID UNTIL 'infinity'").format(sql.Identifier(name)), {})  # type: ignore[arg-type]
                self._comment(run, name, PASSWORD.sub("", said))
            elif end.kind is GRANT:
                role, place, principal = parts_of(identity)
                if answer(run, Query(GRANT, "id", identity)).first is None:
                    return Reply(Result.MISSING, detail="it is not granted")
                name, _ = self._role(run, principal)
                return self._revoke(run, identity, role, place, name)
            else:
                return self._not_here(f"a {end.kind.name} is not ended here")
            return Reply(Result.DONE)

        return self._change(do)

    def _revoke(self, run: Asking, identity: str, role: str, place: str, name: str) -> Reply:
        """By whoever granted it, where we may become that one; what is then still there is somebody else's to end."""
        if role in ATTRIBUTES:
            word = sql.SQL("NO" + ATTRIBUTES[role][0].removeprefix("rol").replace("super", "superuser").upper())
            run(sql.SQL("ALTER ROLE {} ").format(sql.Identifier(name)) + word, {})  # type: ignore[arg-type]
            return Reply(Result.DONE)
        if role not in RIGHTS:
            return self._not_here(f"{role} at {place} is a membership that is not inherited: it is ended where it was given")
        revoke = self._granting("REVOKE", RIGHTS[role].privilege, role, place, name)
        run(revoke, {})  # type: ignore[arg-type]
        left = answer(run, Query(GRANT, "id", identity)).first
        by = left.body.reason.removeprefix("granted by ") if left is not None else ""
        if left is not None and by:
            with suppress(psycopg.errors.InsufficientPrivilege), self._connection.transaction():
                run(sql.SQL("SET LOCAL ROLE {}").format(sql.Identifier(by)), {})  # type: ignore[arg-type]
                run(revoke, {})  # type: ignore[arg-type]
                run("RESET ROLE", {})
            left = answer(run, Query(GRANT, "id", identity)).first
        if left is None:
            return Reply(Result.DONE)
        what = f"{role} at {place} was granted by {by}: only {by} ends it, or a superuser"
        error = RefusedError(what, where=self.address.address, mend=f"have {by} or a superuser revoke it")
        return Reply(Result.REFUSED, detail=what, error=error)

    def holdings(self, identity: str) -> tuple[str, ...]:
        """Objects that it owns, and what was granted to it or by it, here and in the server's other databases."""
        if not OID.match(identity):
            return ()
        return tuple(
            f"{what}{f' in the database {database}' if database else ''}"
            for what, database in self._ask(HOLDINGS, {"i": identity})
        )

    def store(self, path: str, by: SignedIn | None = None) -> None:
        """It is no store."""

    def fetch_secret(self, identity: str) -> Reply:
        return Reply(Result.MISSING, detail="a database server makes no secrets")
