"""Consumers that live beside the tool for more than a year: none of them is refused because of a rotation."""

from __future__ import annotations

import dataclasses
import json
import random
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from sigillum.core.kinds.changes import Doing
from sigillum.core.undertakings.late import BY_ITSELF
from sigillum.core.values.canonical import public_half, thumbprint
from sigillum.core.values.errors import NotYetError
from sigillum.tenants.port import Reply
from sigillum.workflows.stopping.sweep import due, sweep
from workflows.memory import CHARTER, USUAL, House, Memory, house

WEEK = timedelta(days=7)
DESCRIBED = {"fast": "{used_every: 1h}", "slow": "{used_every: 2h, picks_up: 1h}"}


@dataclass
class Consumer:
    """It uses what it read last; `every`: how long it waits between two uses and readings; `stays` with what it had first."""

    name: str
    every: timedelta
    stays: bool = False
    key: str = ""
    at: datetime | None = None


@dataclass
class Lived(Memory):
    """A tenant at which consumers call between all that the tool does."""

    around: Callable[[], None] = lambda: None

    def _do(self, doing: Doing, identity: str, mark: str = "") -> Reply:
        self.around()
        done = super()._do(doing, identity, mark)
        self.around()
        return done

    def lets_in(self, mark: str) -> bool:
        used = next((r for r in self.things["credential"] if r.body.thumbprint == mark and self._live(r)), None)
        if used is not None:
            self.put(used, used_at=self.now.replace(microsecond=0))
        return used is not None


@dataclass
class Life:
    """Some consumers, the house, and who was refused when."""

    our: House
    consumers: list[Consumer]
    refused: list[tuple[str, datetime, str]] = field(default_factory=list)

    @property
    def away(self) -> Any:
        return self.our.away

    def call(self) -> None:
        """Every consumer whose time it is uses the credential."""
        [path] = self.our.folder.glob(".sigillum/keys/*/current/key.json")
        current = thumbprint(public_half(json.loads(path.read_text())["key"]))
        for one in self.consumers:
            now = self.away.now
            if one.at is not None and now < one.at + one.every:
                continue
            one.key, one.at = one.key if one.stays and one.key else current, now
            if not self.away.lets_in(one.key):
                self.refused.append((one.name, now, one.key))

    def swept(self) -> list[str]:
        """One run of `sweep`: what it could not finish for want of somebody, and what of rotations it told."""
        with self.our.office() as office:
            return [
                done.error.what
                for done in sweep(office, due(office))
                if done.error is not None and not isinstance(done.error, NotYetError)
            ]

    def closed(self) -> list[str]:
        with self.our.office() as office:
            return [str(e.body["how"]) for e in office.books.ledger().entries(kind="closed")]


def lives(folder: Path, names: list[str]) -> Life:
    our = house(folder, Lived(profile=dataclasses.replace(USUAL, last_used="second")))
    path = our.folder / "sigillum.yaml"
    described = "".join(f"  {n}: {d}\n" for n in names if (d := DESCRIBED.get(n.rstrip("123"))))
    path.write_text(path.read_text().replace("consumers:\n", f"consumers:\n{described}"))
    charter = our.charter(
        CHARTER.replace("lasts: 90d, consumers: [mast]", f"lasts: 90d, renew_before: 60d, consumers: [{', '.join(names)}]")
    )
    our.enact(charter)
    life = Life(our, [Consumer(n, timedelta(hours=2 if n == "slow" else 0), n == "never") for n in names])
    life.call()
    life.away.around = life.call
    return life


CASES = [
    (days, every, names)
    for days, everys in ((400, (1, 6)), (130, (6,)))
    for every in everys
    for names in (["fast"], ["fast", "slow"], ["fast1", "fast2", "fast3", "slow", "never"])
]


@pytest.mark.parametrize(
    ("days", "every", "names"), [pytest.param(*c, marks=[pytest.mark.soak] if c[0] > 130 else []) for c in CASES], ids=str
)
def test_no_consumer_is_refused_before_the_tenants_own_end_of_its_key(
    tmp_path: Path, days: int, every: int, names: list[str]
) -> None:
    life = lives(tmp_path, names)
    away, chance = life.away, random.Random(days + every)
    first = next(c for c in away.things["credential"])
    named_at = None
    for day in range(days):
        for _ in range(24):
            away.ahead += timedelta(seconds=chance.randrange(3000, 3600))
            life.call()
        if day % every == 0:
            told = life.swept()
            if named_at is None and any("never" in t and "not known" in t for t in told):
                named_at = away.now
    others = [(n, at) for n, at, _ in life.refused if n != "never"]
    assert others == []
    made = list(away.things["credential"])
    assert len(made) in (1, 2)
    assert days < 400 or int(made[-1].body.name.rpartition("-")[2]) > 6
    if "never" in names:
        assert first.body.until is not None
        refusals = [at for n, at, key in life.refused if key == first.body.thumbprint]
        assert min(refusals) >= first.body.until
        assert named_at is not None
        assert named_at <= first.body.until - WEEK
        assert [c for c in life.closed() if c.startswith(BY_ITSELF) and "never" in c]
    else:
        assert named_at is None
        assert set(life.closed()) <= {"done"}
