"""What is kept of a charter's credentials: made once, given by one rename, and never over another hand's file."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from sigillum.core.values.errors import SomebodyError
from sigillum.core.values.secret import Secret
from sigillum.keeping.files import FileKeeping
from sigillum.keeping.port import Vault
from sigillum.keys import material


def nowhere(where: str) -> Vault:
    raise AssertionError(f"no vault is asked for: {where}")


@pytest.fixture
def kept(tmp_path: Path) -> FileKeeping:
    made = FileKeeping(tmp_path / "keys", material, nowhere)
    for number in (1, 2, 3):
        made.keep_key("main", number, "Ed25519")
        made.complete("main", number, {"credential_id": f"c{number}"})
    return made


def test_a_generation_takes_the_place_of_the_one_before_it_and_of_nothing_else(kept: FileKeeping) -> None:
    assert kept.serving("main") == 1  # the first that was complete
    kept.give("main", 2, 1)
    kept.give("main", 2, 1)  # once more, after a kill
    assert kept.serving("main") == 2
    with pytest.raises(SomebodyError):
        kept.give("main", 3, 1)  # another one stands there than was said
    mine = kept.current("main").read_text()
    for theirs in (mine.replace('"c2"', '"theirs"'), json.dumps({"credential": {"generation": 9}})):
        kept.current("main").write_text(theirs)
        with pytest.raises(SomebodyError):
            kept.give("main", 3, 2)
        assert kept.current("main").read_text() == theirs
    kept.current("main").unlink()
    kept.give("main", 3, 2)
    assert kept.serving("main") == 3


def test_what_is_not_complete_or_not_given_is_told(kept: FileKeeping) -> None:
    assert kept.incomplete() == frozenset()
    kept.keep_key("main", 4, "Ed25519")
    assert kept.incomplete() == {("main", 4)}
    kept.current("main").unlink()  # nobody can read it
    assert kept.incomplete() == {("main", n) for n in (1, 2, 3, 4)}


def test_what_lies_beside_says_what_is_known_by_now(kept: FileKeeping) -> None:
    kept.lay_beside("main", 2)
    kept.complete("main", 3, {"tenant": "other"})
    beside = json.loads(kept.beside("main").read_text())["credential"]
    assert (beside["generation"], "tenant" in beside) == (2, False)
    kept.complete("main", 2, {"tenant": "away"})
    assert json.loads(kept.beside("main").read_text())["credential"]["tenant"] == "away"
    assert kept.serving("main") == 1


def test_a_password_is_made_once_and_a_chosen_one_replaces_it(tmp_path: Path) -> None:
    kept = FileKeeping(tmp_path / "keys", material, nowhere)
    kept.keep_password("word", 1, None, {}, "file")
    made = kept.secret("word", 1).reveal()
    kept.keep_password("word", 1, None, {}, "file")
    assert (kept.secret("word", 1).reveal(), len(made) > 16) == (made, True)
    kept.keep_password("word", 1, Secret("chosen-by-hand-4711"), {}, "file")
    assert kept.secret("word", 1).reveal() == "chosen-by-hand-4711"


def test_another_key_is_never_kept_in_the_place_of_one(kept: FileKeeping) -> None:
    same, _ = kept.key("main", 1)
    kept.keep_found("main", 1, same, "Ed25519")
    assert kept.about("main", 1)["credential_id"] == "c1"
    with pytest.raises(SomebodyError):
        kept.keep_found("main", 1, material.make_key("Ed25519"), "Ed25519")
