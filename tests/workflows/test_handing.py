"""Handing over in process: what counts as used since, and whose a connection is."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from sigillum.core.values.errors import SomebodyError
from sigillum.workflows.handing.handover import Choice, collect, connected, handed, record, used_since
from workflows.memory import House, Memory, house


def given(our: House) -> datetime:
    """Hand the key over; when that was, by the second that the ledger has."""
    our.enact()
    with our.office() as office:
        record(office, collect(office, our.charter(), Choice("mast")), "shown", "mast")
        return datetime.fromisoformat(handed(office, "gauge")[-1]["at"])


def test_a_use_in_the_second_of_the_handing_over_is_none_since(tmp_path: Path) -> None:
    """It may have been our own proof, a moment before."""
    our = house(tmp_path, Memory())
    at = given(our)
    for later, used in ((None, False), (-1, False), (0, False), (1, True)):
        key = our.away.things["credential"][0]
        our.away.put(key, used_at=at + timedelta(seconds=later) if later is not None else None)
        with our.office() as office:
            assert used_since(office, our.charter(), handed(office, "gauge")[-1]).used is used, later


def test_a_number_of_a_connection_is_one_of_its_consumer(tmp_path: Path) -> None:
    our = house(tmp_path, Memory())
    given(our)
    our.away.put(our.away.things["credential"][0], used_at=datetime.now(UTC) + timedelta(minutes=1))
    with our.office() as office:
        connected(office, our.charter(), "mast", "17")
        connected(office, our.charter(), "barge", "17")
        with pytest.raises(SomebodyError, match="the connection 17 of mast is taken"):
            connected(office, our.charter(), "mast", "17")
