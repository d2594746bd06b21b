"""Decisions a second on one core, in three made-up worlds of 10,000 principals and 50,000 grants."""

from __future__ import annotations

import random
import statistics
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from benchmarks.tools import Measured
from sigillum.core.deciding.values import KnownPlace, KnownPrincipal, Membership, Question, Right, Team
from sigillum.core.deciding.world import World

PRINCIPALS, GRANTS, QUESTIONS, RUNS = 10_000, 50_000, 20_000, 5
NOW = datetime(2027, 3, 1, 12, 0, tzinfo=UTC)
ROLES = {f"role-{n}": frozenset(f"thing-{(n + k) % 20}.use" for k in range(4)) for n in range(20)}


def _window(number: int) -> tuple[datetime | None, datetime | None]:
    """A third has ended, a third lasts, a third has no end."""
    begin = NOW - timedelta(days=9)
    return ((begin, NOW - timedelta(days=1)), (begin, NOW + timedelta(days=9)), (None, None))[number % 3]


def _world(paths: list[str], teams: int, chosen: random.Random) -> World[Any]:
    people = {f"p{n}": KnownPrincipal(f"p{n}", f"p{n}") for n in range(PRINCIPALS)}
    made = {f"t{n}": Team(f"t{n}", f"t{n}") for n in range(teams)}
    return World(principals=people, teams=made, places={p: KnownPlace(p) for p in paths}, roles=ROLES)


def _rights(world: World[Any], carriers: list[str], count: int, chosen: random.Random) -> list[Right]:
    paths, roles = list(world.places), list(ROLES)
    return [
        Right(f"g{n}", chosen.choice(carriers), chosen.choice(roles), chosen.choice(paths), *_window(n)) for n in range(count)
    ]


def small_teams(chosen: random.Random) -> World[Any]:
    """2,000 teams; each principal is in three; half of the grants are held by teams."""
    paths = ["root", *(f"root/p{n}" for n in range(100)), *(f"root/p{n}/d{m}" for n in range(100) for m in range(9))]
    world = _world(paths, 2_000, chosen)
    world.memberships = [Membership(p, f"t{chosen.randrange(2_000)}") for p in world.principals for _ in range(3)]
    world.rights = _rights(world, list(world.principals), GRANTS // 2, chosen)
    world.rights += _rights(world, list(world.teams), GRANTS // 2, chosen)
    return world


def deep_tree(chosen: random.Random) -> World[Any]:
    """Places twenty levels deep; teams in teams, three deep."""
    paths = ["root"]
    for _ in range(2_000):
        paths.append(f"{chosen.choice(paths[-60:])}/x{len(paths)}")
    paths = [p for p in paths if p.count("/") <= 20]
    world = _world(paths, 300, chosen)
    world.memberships = [Membership(p, f"t{chosen.randrange(300)}") for p in world.principals]
    world.memberships += [Membership(f"t{n}", f"t{n // 7}") for n in range(1, 300)]
    world.rights = _rights(world, list(world.principals), GRANTS * 4 // 5, chosen)
    world.rights += _rights(world, list(world.teams), GRANTS // 5, chosen)
    return world


def hub(chosen: random.Random) -> World[Any]:
    """One team that everybody is in holds 300 grants at the root."""
    world = small_teams(chosen)
    world.teams["hub"] = Team("hub", "hub")
    world.memberships += [Membership(p, "hub") for p in world.principals]
    ended = (NOW - timedelta(days=9), NOW - timedelta(days=1))
    world.rights = world.rights[: GRANTS - 300] + [Right(f"h{n}", "hub", f"role-{n % 20}", "root", *ended) for n in range(300)]
    return world


def _rate(answer: Callable[[Question], object], questions: list[Question]) -> float:
    rates = []
    for _ in range(RUNS):
        begun = time.process_time()
        for question in questions:
            answer(question)
        rates.append(len(questions) / (time.process_time() - begun) / 1000)
    return statistics.median(rates)


def measure(folder: Path) -> list[Measured]:
    out = []
    for make, bounds in ((small_teams, (150, 60)), (deep_tree, (150, 60)), (hub, (15, 15))):
        chosen = random.Random(7)
        world = make(chosen)
        people, paths = list(world.principals), list(world.places)
        questions = [
            Question(chosen.choice(people), f"thing-{chosen.randrange(20)}.use", chosen.choice(paths), NOW)
            for _ in range(QUESTIONS)
        ]
        begun = time.process_time()
        yes = sum(world.allowed(*q) is True for q in questions)
        first = time.process_time() - begun
        bare = _rate(lambda q, w=world: w.allowed(*q), questions)  # type: ignore[misc]
        told = _rate(lambda q, w=world: w.decide(q), questions)  # type: ignore[misc]
        name = make.__name__.replace("_", " ")
        detail = f"{yes} of {QUESTIONS} allowed; the first round, with compiling, {first:.2f} s"
        out += [
            Measured(f"bare verdicts, {name}, thousand a second", bare, bounds[0], detail, at_most=False),
            Measured(f"with reasons, {name}, thousand a second", told, bounds[1], "", at_most=False),
        ]
    return out
