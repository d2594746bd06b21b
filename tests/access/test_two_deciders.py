"""The core's decision and the sandbox's real answer over its interface, held against each other at frozen times."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from access.worlds import BASE, FELT_SECONDS, PATHS, questions, seconds, stamp, tenants
from conftest import Sandbox, examples
from sigillum.core.deciding.gathering import explore, world_of
from sigillum.core.deciding.values import Question
from sigillum.core.deciding.world import World
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.registry import KINDS
from sigillum.core.kinds.snapshot import Snapshot, rounds
from sigillum.core.values.secret import Secret
from sigillum.core.values.worlds import Observed
from sigillum.tenants.port import Address, Link
from sigillum.tenants.scim.driver import OpenTenant, connect

Json = dict[str, Any]


def reach(sandbox: Sandbox, described: Json, name: str = "decided") -> OpenTenant:
    made = sandbox.control("tenants", {"open": {name: described}})
    token = Secret(made["tokens"][name]["ada.rusk"])
    return connect(Address(name, made["tenants"][name]), Link(token, Path()))


def look(tenant: OpenTenant, names: list[str]) -> tuple[World[Observed], dict[str, str], dict[str, str]]:
    """Gather the world through the interface, in rounds, as commands do; ids of principals and credentials by name."""
    snapshot = Snapshot("decided", BASE, tenant.profile)
    kinds = [KINDS[kind] for kind in ("account", "team")]
    snapshot.facts.update(tenant.facts([Query(kind, "name", n) for n in names for kind in kinds]))
    ids = {n: r.id for n in names for kind in kinds for r in snapshot.ask(Query(kind, "name", n)).records}
    rounds(snapshot, lambda: explore(snapshot, ids.values(), PATHS, credentials=True), tenant.facts)
    world = world_of(snapshot.known(), snapshot.profile)
    return world, ids, {c.principal: c.id for c in world.credentials.values()}


def agree(sandbox: Sandbox, described: Json, asked: list[tuple[str, str, str, bool]], moments: list[datetime]) -> None:
    sandbox.clock(set=BASE.isoformat(), freeze=True)  # the world is made now, and looked at when all of it shows
    tenant = reach(sandbox, described)
    sandbox.clock(move=3600)
    world, ids, credentials = look(tenant, sorted({a[0] for a in asked} | {"cam"}))
    for moment in moments:
        sandbox.clock(set=moment.isoformat(), freeze=True)
        put = [
            Question(
                ids[who],
                permission,
                f"@{ids['cam']}" if place == "@cam" else place,
                moment,
                credentials.get(ids[who], "") if with_credential else "",
            )
            for who, permission, place, with_credential in asked
        ]
        for question, theirs in zip(put, tenant.ask_all(put), strict=True):
            assert world.allowed(*question) == theirs.allowed, (question, theirs.reason)
            decision = world.decide(question)
            assert decision.allowed == theirs.allowed
            assert (decision.cause == "allowed") == decision.allowed


def run(sandbox: Sandbox, described: Json, asked: list[tuple[str, str, str, bool]], at: list[int]) -> None:
    edges = [
        datetime.fromisoformat(v)
        for g in [*described["grants"], *described["credentials"]]
        for k in ("from", "until")
        if (v := g.get(k))
    ]
    felt = [datetime.fromisoformat(g["made"]) + timedelta(seconds=FELT_SECONDS) for g in described["grants"] if "made" in g]
    try:
        agree(sandbox, described, asked, [*(BASE + timedelta(seconds=s) for s in at), *edges[:2], *felt[:1]])
    finally:
        sandbox.clock(set=datetime.now(UTC).isoformat(), freeze=False)


shared = settings(
    deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow, HealthCheck.data_too_large]
)


@settings(shared, max_examples=examples(170))  # x 4 questions x at least 3 times: over 2,000 pairs
@given(tenants(), st.lists(questions, min_size=4, max_size=4), st.lists(seconds, min_size=3, max_size=3, unique=True))
def test_two_deciders_agree(sandbox: Sandbox, described: Json, asked: list[tuple[str, str, str, bool]], at: list[int]) -> None:
    run(sandbox, described, asked, at)


# What the two once answered differently, or only one of several ways of asking found.
FOUND: dict[str, Json] = {
    "a team that is asked about itself is bound by its own reach": {
        "teams": [{"name": "crew", "members": [], "reach": ["root/a"]}],
        "grants": [{"to": "crew", "role": "r0", "at": "root"}],
    },
    "a grant made in a second counts from exactly that many seconds on": {
        "grants": [{"to": "wind", "role": "r0", "at": "root", "made": stamp(0)}]
    },
}


@pytest.mark.parametrize("case", FOUND)
def test_what_was_found_before(sandbox: Sandbox, case: str) -> None:
    described: Json = {
        "admins": [{"name": "ada.rusk", "powers": "all"}],
        "limits": {"felt_seconds": FELT_SECONDS},
        "people": [],
        "foreign": [],
        "credentials": [],
        "teams": [],
        "permissions": {"stream.read": {"class": "looks", "call": "GET /s/{place}"}},
        "roles": [{"name": "r0", "permissions": ["stream.read"]}],
        "places": [{"path": p, "kind": "folder"} for p in PATHS],
        "accounts": [{"name": "wind"}, {"name": "cam"}],
        **FOUND[case],
    }
    names = ["wind", *(t["name"] for t in described["teams"])]
    run(sandbox, described, [(n, "stream.read", p, False) for n in names for p in PATHS], [0, FELT_SECONDS - 1, FELT_SECONDS])


@pytest.mark.soak
@settings(shared, max_examples=4_000)  # x 12 questions x at least 5 times: over 200,000 pairs
@given(tenants(), st.lists(questions, min_size=12, max_size=12), st.lists(seconds, min_size=5, max_size=5, unique=True))
def test_two_deciders_agree_on_many(
    sandbox: Sandbox, described: Json, asked: list[tuple[str, str, str, bool]], at: list[int]
) -> None:
    run(sandbox, described, asked, at)
