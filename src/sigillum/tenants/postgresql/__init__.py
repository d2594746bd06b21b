"""The driver `postgresql`: roles, memberships and privileges of a PostgreSQL server (docs/postgresql.md)."""
