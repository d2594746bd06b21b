"""The facet *client* has no section of its own: its keys stand in `identity:`, whose model is in `account`."""

from __future__ import annotations

FACET = "client"
AUDIENCES = {"this-tenant": "tenant", "any-tenant": "any"}
