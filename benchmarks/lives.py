"""What is due among 100,000 credentials, and what rotating many takes: seconds, and requests a charter."""

from __future__ import annotations

import json
import subprocess
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

from benchmarks.tools import SIGILLUM, Measured, workspace
from sigillum.charters.workspace import load
from sigillum.core.records.history import INTENT, KNOWN, OUTCOME
from sigillum.core.values.times import format_instant, whole_second
from sigillum.keeping.private import read_private_json
from sigillum.keys.ledgerkey import LedgerKey
from sigillum.ledger.port import Fresh
from sigillum.ledger.sqlite import SqliteLedger

CREDENTIALS, EACH = 100_000, 100
ROTATED = 500


def _fill(folder: Path) -> None:
    """Credentials of 1,000 charters, whose ends lie in the year to come."""
    house = load(folder)
    key = LedgerKey.of(read_private_json(house.signing_key), "")
    ledger = SqliteLedger(house.ledger, house.file.workspace, "bench", key.key_id, key.sign)
    now = whole_second(datetime.now(UTC))
    for charter in range(CREDENTIALS // EACH):
        uid, sequence = f"other-{charter}", ledger.head().sequence
        fresh = [Fresh(KNOWN, uid, {"name": uid})]
        for number in range(EACH):
            day = (charter * EACH + number) % 365
            until = format_instant(now + timedelta(days=day, hours=1))
            about = {"facet": "credential", "tenant": "summit", "key": [["name", f"key-{number}"]], "generation": 1}
            intent = {
                "verb": "make",
                **about,
                "digest": "",
                "thing": "credential",
                "tenant_time": "",
                "external_id": f"{uid}-{number}",
                "terms": {"until": until},
            }
            fresh += [
                Fresh(INTENT, uid, intent),
                Fresh(
                    OUTCOME,
                    uid,
                    {"attempt": sequence + len(fresh) + 1, "result": "made", "tenant_time": "", "id": f"{uid}-{number}"},
                ),
            ]
        ledger.append(fresh)
    ledger.close()


def _requests(folder: Path, *words: str) -> int:
    """How many requests a command sends, as its own log of exchanges tells."""
    ran = subprocess.run([*SIGILLUM, *words, "--verbose"], cwd=folder, capture_output=True, text=True)
    return sum(1 for line in ran.stderr.splitlines() if line.split(" ")[0] in ("GET", "POST", "PATCH", "PUT", "DELETE"))


def measure(folder: Path) -> list[Measured]:
    house, found = folder / "lives", list[Measured]()
    with workspace(house, ROTATED):
        names = sorted(p.stem for p in (house / "charters").glob("wind-*.yaml"))
        subprocess.run([*SIGILLUM, "enact", *names, "--yes", "--no-prove"], cwd=house, check=True, capture_output=True)
        one = _requests(house, "rotate", names[0])
        begun = time.perf_counter()
        many = _requests(house, "rotate", *names[1:])
        took = time.perf_counter() - begun
        each = many / (len(names) - 1)
        found.append(
            Measured(
                f"requests a charter: rotating {len(names) - 1}, against rotating one",
                each / one,
                1.0,
                f"{each:.1f} and {one}, in {took:.0f} s",
            )
        )
        _fill(house)
        _due(house)  # keeps what it read of the charters' files
        taken, count = sorted(_due(house) for _ in range(5))[2]
        found.append(
            Measured(
                f"`due --format json`, {CREDENTIALS:,} credentials, {ROTATED} charters: seconds",
                taken,
                2.0,
                f"{count:,} of them due or ending soon",
            )
        )
    return found


def _due(folder: Path) -> tuple[float, int]:
    """Seconds, and how many are told; it ends with 1 where something is over."""
    begun = time.perf_counter()
    ran = subprocess.run([*SIGILLUM, "due", "--format", "json"], cwd=folder, capture_output=True, text=True)
    return time.perf_counter() - begun, len(json.loads(ran.stdout)["due"])
