"""Privileges of a PostgreSQL server as roles of ours: one a privilege, so that each grant can be told from every other."""

from __future__ import annotations

from typing import Any, NamedTuple

from sigillum.core.kinds.access import NOWHERE, ROLE
from sigillum.core.kinds.kind import Record
from sigillum.core.kinds.profile import Operation


class Right(NamedTuple):
    """A privilege on a kind of object, or membership in a predefined role.

    `trial`: a statement that needs it, without effect.
    """

    role: str
    at: str  # database, schema or table
    privilege: str
    class_: str
    permissions: tuple[str, ...]
    trial: str = ""


RIGHTS = {
    r.role: r
    for r in (
        Right("database-connect", "database", "CONNECT", "looks", ("database.connect",), "SELECT 1"),
        Right("database-temporary", "database", "TEMPORARY", "changes-data", ("database.temporary",)),
        Right("database-create", "database", "CREATE", "manages", ("database.create",)),
        Right("schema-usage", "schema", "USAGE", "looks", ("schema.usage",)),
        Right("schema-create", "schema", "CREATE", "manages", ("schema.create",)),
        Right("table-select", "table", "SELECT", "looks", ("table.select",), "SELECT 1 FROM {table} LIMIT 0"),
        Right("table-insert", "table", "INSERT", "changes-data", ("table.insert",), "INSERT INTO {table} DEFAULT VALUES"),
        Right(
            "table-update",
            "table",
            "UPDATE",
            "changes-data",
            ("table.update",),
            "UPDATE {table} SET {column} = DEFAULT WHERE false",
        ),
        Right("table-delete", "table", "DELETE", "changes-data", ("table.delete",), "DELETE FROM {table} WHERE false"),
        Right("table-truncate", "table", "TRUNCATE", "changes-data", ("table.truncate",)),
        Right("table-references", "table", "REFERENCES", "manages", ("table.references",)),
        Right("table-trigger", "table", "TRIGGER", "manages", ("table.trigger",)),
        Right("pg_read_all_data", "database", "", "looks", ("table.select", "schema.usage")),
        Right(
            "pg_write_all_data",
            "database",
            "",
            "changes-data",
            ("table.insert", "table.update", "table.delete", "schema.usage"),
        ),
        Right("pg_monitor", "database", "", "looks", ("server.monitor",)),
    )
}
# What a role is, beside what is granted to it: nobody grants that here, and whoever has it may do what no grant says.
ATTRIBUTES = {
    r.role: (column, r)
    for column, r in (
        (
            "rolsuper",
            Right(
                "superuser",
                "",
                "",
                "administers",
                (*dict.fromkeys(p for r in RIGHTS.values() for p in r.permissions), "server.administer"),
            ),
        ),
        ("rolcreaterole", Right("creates-roles", "", "", "administers", ("server.make-roles",))),
        ("rolcreatedb", Right("creates-databases", "", "", "manages", ("server.make-databases",))),
        ("rolreplication", Right("replicates", "", "", "administers", ("server.replicate",))),
        ("rolbypassrls", Right("passes-row-rules", "", "", "administers", ("table.see-all-rows",))),
    )
}
BECOMES = Right("becomes-another-role", "", "", "administers", ("server.become-another-role",))
PERMISSIONS = {p: r for r in RIGHTS.values() for p in r.permissions if r.privilege or p == "server.monitor"}
NEEDS = {"table": ("schema.usage@schema", "database.connect@database"), "schema": ("database.connect@database",)}


def roles() -> list[Record[Any]]:
    """They are the same on every server."""
    classes = {p: r.class_ for p, r in PERMISSIONS.items()}
    return [
        Record(ROLE, r.role, ROLE.type(r.role, r.role, "curated", tuple((p, classes[p]) for p in r.permissions), (r.at,)))
        for r in RIGHTS.values()
    ] + [
        Record(ROLE, r.role, ROLE.type(r.role, r.role, "broad", tuple((p, r.class_) for p in r.permissions), (NOWHERE,)))
        for r in (*(r for _, r in ATTRIBUTES.values()), BECOMES)
    ]


def operations() -> dict[str, Operation]:
    return {
        p: Operation(p, r.class_, "SQL" if r.trial else "", r.trial, needs=NEEDS.get(p.partition(".")[0], ()))
        for p, r in PERMISSIONS.items()
    }
