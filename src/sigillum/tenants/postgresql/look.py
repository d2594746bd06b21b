"""What is asked of a PostgreSQL server, and what its answers are in our words. Values are parameters, always."""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import datetime
from typing import Any
from urllib.parse import unquote

from sigillum.core.kinds.access import GRANT, PLACE, ROLE
from sigillum.core.kinds.identities import ACCOUNT, TEAM
from sigillum.core.kinds.kind import Fact, Kind, Query, Record, answers
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.text import plain

from .asking import CARRIES, Asking, id_of
from .paths import names_of, path_of
from .rights import ATTRIBUTES, BECOMES, RIGHTS, roles

MARK, PASSWORD = re.compile(r"\[sigillum:([^\[\]\s]+)\]"), re.compile(r"\[password:([^\[\]\s]+)\]")
NOTES = re.compile(r"\[(?:sigillum|password|certificate):[^\[\]\s]+\]")
TRIAL = "[sigillum:trial]"  # in the comment of a table, a schema or a database: marked for trials
EVERYBODY = "0"  # the grantee PUBLIC
OID = re.compile(r"[0-9]{1,10}\Z")
# A membership gives its rights where it is inherited: each says that from version 16 on, before that the member does.
_ROLES = """
SELECT r.oid::text, r.rolname, r.rolconnlimit, nullif(r.rolvaliduntil, 'infinity'),
       coalesce(shobj_description(r.oid, 'pg_authid'), ''),
       ARRAY(SELECT DISTINCT m.member::text FROM pg_auth_members m JOIN pg_roles x ON x.oid = m.member
             WHERE m.roleid = r.oid AND coalesce((to_jsonb(m) ->> 'inherit_option')::boolean, x.rolinherit) ORDER BY 1)
FROM pg_roles r WHERE r.rolname !~ '^pg_' AND r.rolcanlogin = %(login)s AND """
_WHERE = {
    "id": "r.oid::text = %(value)s",
    "name": "lower(r.rolname) = lower(%(value)s)",
    "all": "true",
    "mark": "position(%(mark)s IN coalesce(shobj_description(r.oid, 'pg_authid'), '')) > 0",
    "member": "EXISTS (SELECT FROM pg_auth_members m JOIN pg_roles x ON x.oid = m.member WHERE m.roleid = r.oid "
    "AND m.member::text = %(value)s AND coalesce((to_jsonb(m) ->> 'inherit_option')::boolean, x.rolinherit))",
}
_PLACES = """
SELECT * FROM (
  SELECT ARRAY[current_database()::text] AS names, 'database' AS kind,
         coalesce((SELECT shobj_description(d.oid, 'pg_database') FROM pg_database d
                   WHERE d.datname = current_database()), '') AS said
  UNION ALL
  SELECT ARRAY[current_database()::text, n.nspname::text], 'schema',
         coalesce(obj_description(n.oid, 'pg_namespace'), '')
  FROM pg_namespace n WHERE n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'
  UNION ALL
  SELECT ARRAY[current_database()::text, n.nspname::text, c.relname::text], 'table',
         coalesce(obj_description(c.oid, 'pg_class'), '')
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
  WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'
) p WHERE """
_GRANTS = """
SELECT g.names, g.kind, g.privilege_type, coalesce(pg_get_userbyid(g.grantor), '') FROM (
  SELECT ARRAY[current_database()::text] AS names, 'database' AS kind, a.grantee, a.privilege_type, a.grantor
  FROM pg_database d, aclexplode(coalesce(d.datacl, acldefault('d', d.datdba))) a WHERE d.datname = current_database()
  UNION ALL
  SELECT ARRAY[current_database()::text, n.nspname::text], 'schema', a.grantee, a.privilege_type, a.grantor
  FROM pg_namespace n, aclexplode(coalesce(n.nspacl, acldefault('n', n.nspowner))) a
  WHERE n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'
  UNION ALL
  SELECT ARRAY[current_database()::text, n.nspname::text, c.relname::text], 'table', a.grantee, a.privilege_type, a.grantor
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace, aclexplode(coalesce(c.relacl, acldefault('r', c.relowner))) a
  WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'
  UNION ALL
  SELECT ARRAY[current_database()::text], r.rolname::text, m.member, '', m.grantor FROM pg_auth_members m
  JOIN pg_roles r ON r.oid = m.roleid JOIN pg_roles x ON x.oid = m.member
  WHERE r.rolname ~ '^pg_' AND coalesce((to_jsonb(m) ->> 'inherit_option')::boolean, x.rolinherit)
  UNION ALL
  SELECT ARRAY[current_database()::text], a.what, r.oid, '', NULL
  FROM pg_roles r, LATERAL (VALUES ATTRIBUTES) a(what, has) WHERE a.has
  UNION ALL
  SELECT ARRAY[current_database()::text], 'becomes-another-role', m.member, '', m.grantor FROM pg_auth_members m
  JOIN pg_roles x ON x.oid = m.member
  WHERE m.admin_option OR (coalesce((to_jsonb(m) ->> 'set_option')::boolean, true)
                           AND NOT coalesce((to_jsonb(m) ->> 'inherit_option')::boolean, x.rolinherit))
) g WHERE g.grantee::text = %(value)s""".replace("ATTRIBUTES", ", ".join(f"('{n}', r.{c})" for n, (c, _) in ATTRIBUTES.items()))
_BY_PRIVILEGE = {(r.at, r.privilege): r.role for r in RIGHTS.values() if r.privilege}


def parts_of(identity: str) -> list[str]:
    return [unquote(v) for v in identity.split("/")]


def answer(ask: Asking, query: Query[Any]) -> Fact[Any]:
    """One question, by one statement."""
    kind = query.kind
    if kind is ROLE:
        found: Iterable[Record[Any]] = roles()
    elif kind in (ACCOUNT, TEAM):
        found = _people(ask, kind, query)
    elif kind is PLACE:
        found = places(ask, query)
    elif kind is CREDENTIAL:
        found = _credentials(ask, query)
    elif kind is GRANT:
        if query.field not in ("principal", "id", "itself"):
            return Fact(unknown=f"grants are not looked up by {query.field} here")
        found = [] if query.field == "itself" else _grants(ask, query)
    else:
        return Fact(unknown=f"a database server has no {kind.name}", never=True)
    hits = (r for r in found if answers(query, r))
    return Fact(tuple(r if r.carried is not None else r._replace(carried=CARRIES[kind.name]) for r in hits))


def _people(ask: Asking, kind: Kind[Any], query: Query[Any]) -> list[Record[Any]]:
    everybody = [Record(TEAM, EVERYBODY, TEAM.type("public", everyone=True))] if kind is TEAM else []
    if query.field == "everyone":
        return list(everybody)
    if query.field not in _WHERE or (query.field in ("id", "member") and not OID.match(query.value)):
        return list(everybody)
    rows = ask(
        _ROLES + _WHERE[query.field], {"value": query.value, "login": kind is ACCOUNT, "mark": f"[sigillum:{query.value}]"}
    )
    return [*everybody, *(_person(kind, *row) for row in rows)]


def _person(
    kind: Kind[Any], oid: str, name: str, limit: int, until: datetime | None, said: str, members: list[str]
) -> Record[Any]:
    marked = MARK.search(said)
    display = plain(NOTES.sub("", said)).strip()
    body = kind.type(name, display, active=limit != 0) if kind is ACCOUNT else kind.type(name, tuple(members))
    return Record(kind, oid, body, mark=marked[1] if marked else "")


def _credentials(ask: Asking, query: Query[Any]) -> list[Record[Any]]:
    """Told by their marks in the comment: of each account one password, at which nobody may look, and its certificates."""
    if query.field == "mark":
        where, value = "position(%(mark)s IN coalesce(shobj_description(r.oid, 'pg_authid'), '')) > 0", query.value
    elif query.field in ("principal", "id"):
        value = parts_of(query.value)[0]
        where = "r.oid::text = %(value)s" if OID.match(value) else "false"
    else:
        where, value = "true", query.value
    from .certificates import noted

    out = list[Record[Any]]()
    for oid, _, _, until, said, _ in ask(_ROLES + where, {"value": value, "login": True, "mark": f":{query.value}]"}):
        out += noted(oid, said)
        marked = PASSWORD.search(said)
        if marked:
            out.append(
                Record(
                    CREDENTIAL,
                    id_of(oid, "password"),
                    CREDENTIAL.type(oid, type="password", until=until),
                    mark=marked[1],
                )
            )
    return out


def places(ask: Asking, query: Query[Any]) -> list[Record[Any]]:
    """Database, schemas, tables and views."""
    where = {
        "path": "p.names = %(names)s::text[]",
        "id": "p.names = %(names)s::text[]",
        "under": "p.names[:cardinality(p.names) - 1] = %(names)s::text[]",
    }.get(query.field, "true")
    return [
        Record(PLACE, path_of(names), PLACE.type(path_of(names), kind, test=TRIAL in said))
        for names, kind, said in ask(_PLACES + where, {"names": names_of(query.value)})
    ]


def _grants(ask: Asking, query: Query[Any]) -> list[Record[Any]]:
    principal = parts_of(query.value)[-1] if query.field == "id" else query.value
    if not OID.match(principal):
        return []
    out = list[Record[Any]]()
    rows = ((path_of(names), *rest) for names, *rest in ask(_GRANTS, {"value": principal}))
    for path, kind, privilege, grantor in dict.fromkeys(rows):
        known = kind in RIGHTS or kind in ATTRIBUTES or kind == BECOMES.role
        role = _BY_PRIVILEGE.get((kind, privilege), "") if privilege else kind if known else ""
        if role:
            said = f"granted by {grantor}" if grantor else ""
            body = GRANT.type(principal, role, path, role_id=role, place_id=path, reason=said)
            out.append(Record(GRANT, id_of(role, path, principal), body))
    return out
