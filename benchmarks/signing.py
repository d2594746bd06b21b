"""What the sign-in rules of a large tenant cost: comparing a charter that relaxes one, with 4,000 accounts and with 1,000."""

from __future__ import annotations

import statistics
import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from benchmarks.tools import Measured
from sigillum.core.charter.charter import Charter, Identity
from sigillum.core.charter.rules import HouseRules
from sigillum.core.charter.wants import RelaxWant, SignInWant
from sigillum.core.comparing.compare import Comparison, compare
from sigillum.core.deciding.sign_in import ALL_ACCOUNTS, ALL_RULES, ALL_TEAMS
from sigillum.core.facets.seen import Choices
from sigillum.core.kinds.identities import ACCOUNT, TEAM, Account, Team
from sigillum.core.kinds.kind import Fact, Query, Record
from sigillum.core.kinds.profile import Profile
from sigillum.core.kinds.registry import KINDS
from sigillum.core.kinds.signing import RULE, SignInRule
from sigillum.core.kinds.snapshot import Snapshot
from sigillum.core.records.history import History

FEW, MANY, BOUND, TURNS = 1_000, 4_000, 5.0, 7
NOW = datetime(2026, 3, 1, tzinfo=UTC)
CHARTER = Charter(
    "robot",
    "t",
    "test",
    "to measure",
    "owner",
    Identity("service-account", "a-0", "a-0"),
    sign_in=SignInWant(relax=RelaxWant("house", "owner", "it is measured", NOW.date(), "wide")),
)


class NoBooks:
    """Nobody else made anything."""

    def owner(self, tenant: str, kind: object, identity: str) -> str:
        return ""

    def lent(self, mark: str) -> bool:
        return False

    def lends(self, tenant: str, identity: str) -> str:
        return ""

    def has_charter(self, name: str) -> bool:
        return False

    def joins(self, tenant: str, identity: str, team: str) -> bool:
        return False

    def takes_in(self, tenant: str, team: str, member: str) -> bool:
        return False

    def expected(self, tenant: str, identity: str) -> None:
        return None


def _seconds(accounts: int) -> float:
    """One comparison: a team of all, tens in hundreds, a rule for everybody and one for the team of all."""
    people = tuple(Record(ACCOUNT, f"a-{n}", Account(f"a-{n}", active=True)) for n in range(accounts))
    ids = tuple(p.id for p in people)
    tens = [Record(TEAM, f"ten-{n}", Team(f"ten-{n}", members=ids[n : n + 10])) for n in range(0, accounts, 10)]
    hundreds = [
        Record(TEAM, f"hundred-{n}", Team(f"hundred-{n}", members=tuple(t.id for t in tens[n : n + 10])))
        for n in range(0, len(tens), 10)
    ]
    teams = (Record(TEAM, "all", Team("all", members=ids)), *tens, *hundreds)
    rules = (
        Record(RULE, "house", SignInRule("house", enabled=True, everyone=True, demands=("second-factor",))),
        Record(RULE, "wide", SignInRule("wide", enabled=True, targets=("all",), demands=("second-factor",))),
    )
    facts: dict[Query[Any], Fact[Any]] = {
        ALL_ACCOUNTS: Fact(people),
        ALL_TEAMS: Fact(teams),
        ALL_RULES: Fact(rules),
        Query(ACCOUNT, "name", "a-0"): Fact(people[:1]),
    }
    snapshot = Snapshot("t", NOW, Profile(carries={n: frozenset(k.fields) for n, k in KINDS.items()}))
    begun = time.perf_counter()
    for _ in range(5):  # rounds, as a command has them
        compare(Comparison(CHARTER, History(), {"t": snapshot}, HouseRules(), {}, NoBooks(), Choices()))
        missed = snapshot.asked()
        snapshot.facts.update({q: facts.get(q, Fact()) for q in missed})
        if not missed:
            assert ALL_ACCOUNTS in snapshot.facts
            return time.perf_counter() - begun
    raise AssertionError("it never stops asking")


def measure(folder: Path) -> list[Measured]:
    pairs = [(_seconds(MANY), _seconds(FEW)) for _ in range(TURNS)]
    many, few = (statistics.median(p[side] for p in pairs) for side in (0, 1))
    return [
        Measured(
            f"sign-in rules over {MANY:,} accounts, and over {FEW:,}",
            statistics.median(a / b for a, b in pairs),
            BOUND,
            f"{many * 1e3:.0f} ms, {few * 1e3:.0f} ms",
        )
    ]
