"""Enacting in process: what ends in prod, what is blocked, what is recorded before, and of whom a word is."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from sigillum.core.records.history import OURS
from sigillum.core.values.errors import SomebodyError
from sigillum.workflows.enacting.doubts import said_ours
from sigillum.workflows.enacting.enact import EnactChoices, enact
from sigillum.workflows.proving.prove import before
from sigillum.workflows.rotating.rotate import RotationWish, rotate
from sigillum.workflows.stopping.due import clock_of
from sigillum.workflows.stopping.suspend import suspend
from workflows.memory import CHARTER, House, Memory, house


def staged(our: House, stage: str) -> None:
    path = our.folder / "sigillum.yaml"
    path.write_text(path.read_text().replace("stage: test", f"stage: {stage}"))


@pytest.mark.parametrize(
    ("tenant", "charter", "kept"),
    [("prod", "test", True), ("test", "prod", True), ("test", "test", False), ("prod", "prod", True)],
)
def test_what_ends_in_prod_wants_to_be_said(tmp_path: Path, tenant: str, charter: str, kept: bool) -> None:
    """The stage of the charter, or of the tenant: either is enough."""
    our = house(tmp_path, Memory())
    staged(our, tenant)
    text = CHARTER.replace("tenant: away\n", f"tenant: away\nstage: {charter}\n")
    our.enact(our.charter(text))
    fewer = our.charter(text.replace("grants:\n  - {role: writer, at: root/a, because: writes}\n", "").partition("proofs:")[0])
    with our.office() as office:
        enact(office, fewer, EnactChoices(end=False))
    assert bool(our.away.things["grant"]) is kept
    with our.office() as office:
        enact(office, fewer, EnactChoices(end=True))
    assert our.away.things["grant"] == []


def test_what_is_blocked_is_not_unchanged(tmp_path: Path) -> None:
    our = house(tmp_path, Memory())
    charter = our.charter()
    assert not our.enact(charter).unchanged
    assert our.enact(charter).unchanged
    with our.office() as office:
        done = enact(office, our.charter(CHARTER.replace("role: writer", "role: wirter")), EnactChoices())
    assert (done.blocked, done.unchanged) == (True, False)


def test_before_anything_was_allowed_a_refusal_shows_no_single_right(tmp_path: Path) -> None:
    our = house(tmp_path, Memory())
    charter = our.charter(
        CHARTER.replace(
            "  - {can: stream.read, at: root/a}\n",
            "  - {can: stream.read, at: root/a}\n  - {cannot: stream.delete, at: root/a}\n",
        )
    )
    our.enact(charter)
    account = our.away.things["account"][-1]

    def why() -> dict[str, str]:
        with our.office() as office:
            before(office, charter)
            return dict(office.books.history(charter.name)[1].before_why)

    some = why()
    assert ["nothing was allowed" in w for w in some.values()] == [False, False]
    our.away.things["grant"] = [r for r in our.away.things["grant"] if r.body.principal != account.id]
    assert ["nothing was allowed" in w for w in why().values()] == [
        True,
        False,
    ]  # of what was to be refused it goes without saying


def test_a_word_is_about_the_charter_that_it_names(tmp_path: Path) -> None:
    """Two identities are off without versions: a word about one says nothing of the other."""
    our = house(tmp_path, Memory(stamped=False))
    one, other = our.charter(), our.charter(CHARTER.replace("gauge", "meter"))
    for charter in (one, other):
        our.enact(charter)
        with our.office() as office:
            list(suspend(office, [charter], "x", lambda now: None))
    assert [r.body.active for r in our.away.things["account"] if r.body.name in ("gauge", "meter")] == [False, False]
    with our.office() as office:
        said_ours(office, [other], "mara")
        told = {
            c.name: [e for e in office.books.entries(office.books.history(c.name)[0]) if e.kind == OURS] for c in (one, other)
        }
    assert {n: len(e) for n, e in told.items()} == {"gauge": 0, "meter": 1}


def test_a_key_that_another_copy_keeps_is_rotated_there(tmp_path: Path) -> None:
    our = house(tmp_path, Memory())
    charter = our.charter()
    our.enact(charter)
    [key] = our.folder.glob(".sigillum/keys/*/key-1.json")
    (our.folder / ".sigillum" / "copy").unlink()  # as in a folder that was copied
    with our.office() as office:
        assert list(rotate(office, [charter], RotationWish()))  # it is here as well
    other = house(tmp_path / "other", Memory())
    charter = other.charter()
    other.enact(charter)
    [key] = other.folder.glob(".sigillum/keys/*/key-1.json")
    key.unlink()
    (other.folder / ".sigillum" / "copy").unlink()
    with other.office() as office, pytest.raises(SomebodyError) as told:
        list(rotate(office, [charter], RotationWish()))
    assert "and not here" in told.value.what


def test_due_counts_by_the_clock_that_is_followed_or_by_the_time_that_is_said(tmp_path: Path) -> None:
    our = house(tmp_path, Memory())
    our.away.ahead = timedelta(days=3)
    said = datetime(2027, 3, 1, tzinfo=UTC)
    with our.office() as office:
        assert clock_of(office, said)("away") == said
        assert clock_of(office, None)("away") > datetime.now(UTC) + timedelta(days=2)
        assert clock_of(office, said, timedelta(days=1))("away") == said + timedelta(days=1)
    path = our.folder / "sigillum.yaml"
    path.write_text(path.read_text().replace(", clock: tenant", ""))
    with our.office() as office:
        assert clock_of(office, None)("away") < datetime.now(UTC) + timedelta(days=1)
