"""The ledger's storage on its own: many writers at once, and what spoils one entry and no other."""

from __future__ import annotations

import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from sigillum.core.records.books import rows_of
from sigillum.core.records.chain import check
from sigillum.core.values.errors import MachineError
from sigillum.keys.ledgerkey import LedgerKey, Verifier
from sigillum.ledger.port import Fresh
from sigillum.ledger.sqlite import SqliteLedger


def test_many_writers_get_one_chain_and_each_its_own_place(tmp_path: Path) -> None:
    key, sizes, gate = LedgerKey.make(), list[int](), threading.Barrier(8)
    ledger = SqliteLedger(tmp_path / "ledger.db", "ws", "me", key.key_id, key.sign)
    write = ledger._write

    def counted(waiting: list[object]) -> object:
        sizes.append(len(waiting))
        return write(waiting)  # type: ignore[arg-type]

    ledger._write = counted  # type: ignore[assignment, method-assign]

    def writer(number: int) -> None:
        gate.wait()
        for turn in range(12):
            one = f"{number}-{turn}"
            if turn == 5:
                with pytest.raises(ValueError, match="float"):  # it has no canonical form, and spoils nobody else's
                    ledger.append([Fresh("known", one, {"name": one, "odd": 0.5})])
            elif turn == 7:
                with pytest.raises(MachineError, match="somebody else"):
                    ledger.append([Fresh("known", one, {"name": one})], ledger.head()._replace(sequence=0))
            else:
                head = ledger.append([Fresh("known", one, {"name": one}), Fresh("before", one, {"held": {}})])
                assert [e.charter for e in ledger.entries() if e.sequence in (head.sequence, head.sequence - 1)] == [one, one]

    with ThreadPoolExecutor(8) as pool:
        list(pool.map(writer, range(8)))
    entries = list(ledger.entries())
    assert check(entries, "ws", Verifier(key.public["x"]).all) == (ledger.head(), [])
    assert len(entries) == 8 * 10 * 2
    assert ledger.books() == rows_of(entries)
    assert max(sizes) > 1  # several shared a transaction


def test_an_interrupted_append_leaves_nothing_behind(tmp_path: Path) -> None:
    key = LedgerKey.make()
    ledger = SqliteLedger(tmp_path / "ledger.db", "ws", "me", key.key_id, key.sign)

    def interrupted(message: bytes) -> str:
        raise KeyboardInterrupt

    ledger._sign = interrupted
    with pytest.raises(KeyboardInterrupt):
        ledger.append([Fresh("known", "c", {"name": "c"})])
    ledger._sign = key.sign
    ledger.append([Fresh("known", "d", {"name": "d"})])
    assert [e.charter for e in ledger.entries()] == ["d"]
