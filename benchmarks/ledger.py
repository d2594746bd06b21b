"""What a long ledger costs: one charter against 100,000 entries of others, and against 1,000."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

from benchmarks.tools import SIGILLUM, Measured, in_turns, workspace
from sigillum.charters.workspace import load
from sigillum.core.records.history import INTENT, KNOWN, OUTCOME
from sigillum.keeping.private import read_private_json
from sigillum.keys.ledgerkey import LedgerKey
from sigillum.ledger.port import Fresh
from sigillum.ledger.sqlite import SqliteLedger

FEW, MANY = 1_000, 100_000
A_CHARTER = 20  # entries


def fill(folder: Path, entries: int) -> None:
    """Entries of other charters, each of which made a few things."""
    house = load(folder)
    key = LedgerKey.of(read_private_json(house.signing_key), "")
    ledger = SqliteLedger(house.ledger, house.file.workspace, "bench", key.key_id, key.sign)
    fresh, sequence = list[Fresh](), ledger.head().sequence
    for number in range(entries // A_CHARTER):
        uid = f"other-{number}"
        fresh.append(Fresh(KNOWN, uid, {"name": uid}))
        for thing in range(A_CHARTER // 2):
            about = {"facet": "grant", "tenant": "summit", "key": [["role", f"r{thing}"], ["at", "brindlemoor"]]}
            intent = {
                "verb": "make",
                **about,
                "generation": 1,
                "digest": "",
                "thing": "grant",
                "tenant_time": "",
                "external_id": f"{uid}-{thing}",
                "terms": {},
            }
            fresh += [
                Fresh(INTENT, uid, intent),
                Fresh(
                    OUTCOME,
                    uid,
                    {"attempt": sequence + len(fresh) + 1, "result": "made", "tenant_time": "", "id": f"{uid}-{thing}"},
                ),
            ]
    ledger.append(fresh)
    ledger.close()


def measure(folder: Path) -> list[Measured]:
    few, many = folder / "few", folder / "many"
    with workspace(few):
        subprocess.run(
            [*SIGILLUM, "enact", "wind-0", "--yes"], cwd=few, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        shutil.copytree(few, many)
        fill(few, FEW)
        fill(many, MANY)
        found = []
        asked = ["explain", "wind-0", "stream.append", "brindlemoor/sensing-prod/streams/mast-4"]
        for words in (["rehearse", "wind-0"], ["enact", "wind-0", "--yes"], asked):
            large, small, ratio = in_turns(
                [*SIGILLUM, *words, "--workspace", str(many)], [*SIGILLUM, *words, "--workspace", str(few)], folder
            )
            found.append(
                Measured(
                    f"{words[0]} against {MANY:,} entries, and against {FEW:,}",
                    ratio,
                    1.2,
                    f"{large * 1e3:.0f} ms, {small * 1e3:.0f} ms",
                )
            )
    return found
