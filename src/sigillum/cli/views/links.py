"""Local accounts of a cluster, as whom they act elsewhere, and what runs as them."""

from __future__ import annotations

from sigillum.cli.forms import Column
from sigillum.core.deciding.links import BOTH, Row
from sigillum.core.kinds.workloads import DEFAULT, Workload

LINKS: tuple[Column[Row], ...] = (
    Column("local account", lambda r: r.local, unbroken=True, key="account"),
    Column("subject", lambda r: r.subject, people=False),
    Column("tenant", lambda r: r.home, people=False),
    Column("acts_as", lambda r: r.acts_as, people=False),
    Column("who", lambda r: f"{r.acts_as} at {r.home}", head="acts as", data=False),
    Column("state", lambda r: r.half.code, people=False),
    Column("both", lambda r: "yes" if r.half.code == BOTH else r.half.code, head="both sides", data=False),
    Column("text", lambda r: r.half.text, people=False),
    Column("workloads", lambda r: r.workloads, people=False),
    Column("runs", lambda r: r.workloads or ("nothing",), head="runs as it", data=False),
)
WORKLOADS: tuple[Column[Workload], ...] = (
    Column("workload", lambda w: w.name, unbroken=True),
    Column("account", lambda w: w.account, people=False),
    Column("local", lambda w: f"{w.compartment}/{w.account or DEFAULT}", head="local account", data=False),
    Column("runs_as", lambda w: w.runs_as, people=False),
    Column("who", lambda w: "\n".join(dict.fromkeys(w.runs_as)) or "does not run", head="runs as", data=False),
)
