"""Twenty mistakes that an administrator makes: each told with its place and its mend, and with its exit code."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import CHARTER, Desk

CHECK, REHEARSE = ("charter", "check", "wind-ingest"), ("rehearse", "wind-ingest")


def replaced(old: str, new: str) -> str:
    assert old in CHARTER
    return CHARTER.replace(old, new, 1)


# what is wrong, the command that tells, the charter, the exit code, where it points, what it says, what mends it
CASES: dict[str, tuple[tuple[str, ...], str, int, str, str, str]] = {
    "YAML syntax": (CHECK, replaced("grants:\n", "grants: [\n"), 3, "wind-ingest.yaml:7:3", "this is not YAML", "bracket"),
    "unknown key": (
        CHECK,
        replaced("because:", "becuse:"),
        3,
        "wind-ingest.yaml:7:57",
        "the key `becuse` is not known",
        "did you mean `because`?",
    ),
    "wrong type": (
        CHECK,
        replaced("limits: [stream.append, stream.read]", "limits: stream.append"),
        3,
        "wind-ingest.yaml:9:60",
        "`limits` must be a list, and this is text",
        "write a list here",
    ),
    "missing owner": (
        CHECK,
        replaced("owner: mara.teel@brindlemoor.example\n", ""),
        3,
        "wind-ingest.yaml:1:1",
        "nobody is named as owner",
        "add `owner: name@example`",
    ),
    "unknown tenant": (
        CHECK,
        replaced("tenant: summit", "tenant: sumit"),
        3,
        "wind-ingest.yaml:2:9",
        "knows no tenant 'sumit'",
        "did you mean summit?",
    ),
    "unknown tenant of an entry": (
        CHECK,
        replaced("because: stores", "in: sumit, because: stores"),
        3,
        "wind-ingest.yaml:7:5",
        "knows no tenant 'sumit'",
        "did you mean summit?",
    ),
    "unknown role": (
        REHEARSE,
        replaced("role: stream-writer", "role: stream-writter"),
        3,
        "wind-ingest.yaml:7:5",
        "summit has no role 'stream-writter'",
        "did you mean stream-writer?",
    ),
    "unknown place": (
        REHEARSE,
        replaced("at: brindlemoor/sensing-prod,", "at: brindlemoor/sensing-prd,"),
        3,
        "wind-ingest.yaml:7:5",
        "summit has no place 'brindlemoor/sensing-prd'",
        "did you mean brindlemoor/sensing-prod?",
    ),
    "place not in the tree": (
        REHEARSE,
        replaced("at: brindlemoor/sensing-prod,", "at: stationyard/yard-1,"),
        3,
        "wind-ingest.yaml:7:5",
        "'stationyard/yard-1' does not lie in the tree of summit",
        "begin with one of the tenant's own roots",
    ),
    "bad duration": (
        CHECK,
        replaced("lasts: 90d", "lasts: 3 months"),
        3,
        "wind-ingest.yaml:9:47",
        "'3 months' is not a duration",
        "write 10m, 8h, 90d",
    ),
    "instant without offset": (
        CHECK,
        replaced("because: stores", "until: 2027-03-01T08:00:00, because: stores"),
        3,
        "wind-ingest.yaml:7:64",
        "'2027-03-01T08:00:00' is not an instant with an offset",
        "write it like 2027-03-01T08:00:00Z",
    ),
    "life longer than the house allows": (
        CHECK,
        replaced("lasts: 90d", "lasts: 200d"),
        3,
        "wind-ingest.yaml:9:5",
        "ingest-key lasts 200d, the house allows 180d",
        "write `lasts: 180d` or less",
    ),
    "two credentials of one name": (
        CHECK,
        replaced("proofs:", "  - {name: ingest-key, kind: api-token}\nproofs:"),
        3,
        "wind-ingest.yaml:10:5",
        "ingest-key is asked for twice",
        "a name of its own",
    ),
    "missing because": (
        REHEARSE,
        replaced(", because: stores the readings", ""),
        3,
        "wind-ingest.yaml:7:5",
        "the role stream-writer changes data and no reason is given",
        "add `because: ...`",
    ),
}


@pytest.mark.parametrize("case", CASES)
def test_a_mistake_in_a_charter(desk: Desk, case: str) -> None:
    command, text, code, where, what, mend = CASES[case]
    if case == "missing owner":
        path = desk.folder / "sigillum.yaml"
        path.write_text(path.read_text().replace("  owner: mara.teel@brindlemoor.example\n", ""))
    desk.charter(text)
    ran = desk.program(*command)
    assert ran.code == code, ran.err
    told = " ".join((ran.err + ran.out).split())
    assert where in told, told
    assert what in told, told
    assert mend in told, told
    assert "Traceback" not in told
    as_json = desk.run(*command, "--format", "json")
    assert as_json.code == code
    content = as_json.json
    mistakes = content["mistakes"] if "mistakes" in content else content["charters"][0]["mistakes"]
    assert any(what in m["what"] and where in m["where"] for m in mistakes)


def test_all_mistakes_are_told_at_once(desk: Desk) -> None:
    desk.charter(CHARTER.replace("because:", "becuse:").replace("lasts: 90d", "lasts: soon").replace("kind: key", "kind: kez"))
    ran = desk.program(*CHECK)
    assert ran.code == 3
    assert ran.err.count("wind-ingest.yaml:") == 3
    assert "did you mean key-pair?" in ran.err


def test_a_life_longer_than_the_tenant_allows(desk: Desk) -> None:
    path = desk.folder / "sigillum.yaml"
    path.write_text(path.read_text().replace("longest_credential: 180d", "longest_credential: 300d"))
    desk.charter(replaced("lasts: 90d", "lasts: 200d"))
    ran = desk.program(*REHEARSE)
    assert (ran.code, "ingest-key lasts 200d, summit allows 180d" in ran.out) == (3, True)
    assert "wind-ingest.yaml:9:5" in ran.out
    assert "write `lasts: 180d` or less" in ran.out


def test_a_forbidden_role(desk: Desk) -> None:
    path = desk.folder / "sigillum.yaml"
    path.write_text(path.read_text().replace("forbidden_roles: []", "forbidden_roles: [tenant-owner]"))
    desk.charter(replaced("role: stream-writer", "role: tenant-owner"))
    ran = desk.program(*CHECK)
    assert ran.code == 3
    assert "wind-ingest.yaml:7:5: a house rule forbids the role 'tenant-owner'" in ran.err
    assert "choose a narrower role" in ran.err


def test_a_charter_name_that_is_taken(desk: Desk) -> None:
    desk.charter(name="copy")
    ran = desk.program(*CHECK)
    assert ran.code == 3
    assert "the charter name 'wind-ingest' is taken: copy.yaml, wind-ingest.yaml use it" in ran.err
    assert "a name of its own" in ran.err
    new = desk.program("charter", "new", "wind-ingest", "--tenant", "summit", "--purpose", "x", "--role", "r", "--at", "p")
    assert (new.code, "is taken" in new.err) == (3, True)


def test_no_workspace(tmp_path: Path, desk: Desk) -> None:
    ran = Desk(tmp_path, desk.capture).program(*CHECK)
    assert ran.code == 3
    assert "there is no workspace here" in ran.err
    assert "sigillum init" in ran.err
    elsewhere = desk.program("--workspace", str(tmp_path / "nowhere"), *CHECK)
    assert (elsewhere.code, "there is no workspace there" in elsewhere.err) == (3, True)


def test_a_key_file_that_others_can_read(desk: Desk) -> None:
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    key = next((desk.folder / ".sigillum" / "keys").glob("*/*.json"))
    key.chmod(0o644)
    ran = desk.program("prove", "wind-ingest")
    assert ran.code == 8
    assert "the file can be read by others (mode 0644)" in ran.err
    assert str(key) in ran.err
    assert "chmod 600" in ran.err


def test_a_secret_written_inline(desk: Desk) -> None:
    path = desk.folder / "sigillum.yaml"
    path.write_text(path.read_text().replace("'file:.sigillum/summit.ada.rusk.token'", "hush-hush-4711"))
    ran = desk.program(*REHEARSE)
    assert ran.code == 3
    assert "a secret stands here itself instead of a reference to it" in ran.err
    assert "env:NAME, file:PATH or keyring:NAME" in ran.err
    assert "sigillum.yaml:" in ran.err
    assert "hush" not in ran.err + ran.out


@pytest.mark.parametrize(
    "spoil",
    [
        lambda p: p.write_bytes(b"charter: wind-ingest\npurpose: \xff\xfe"),
        lambda p: (p.unlink(), p.mkdir()),
        lambda p: (p.chmod(0), None),
    ],
    ids=["not text", "a folder", "no rights"],
)
def test_an_unreadable_file(desk: Desk, spoil: Callable[[Path], object]) -> None:
    path = desk.folder / "charters" / "wind-ingest.yaml"
    spoil(path)
    if os.geteuid() == 0 and path.is_file() and not path.read_bytes().count(b"\xff"):
        pytest.skip("nothing is unreadable for the superuser")
    ran = desk.program(*CHECK)
    assert ran.code == 3
    assert "charters/wind-ingest.yaml" in ran.err
    assert "save it as UTF-8" in ran.err or "check its path and rights" in ran.err


@pytest.mark.parametrize(
    ("arguments", "what"),
    [
        (["enact"], "no charter is named"),
        (["rehearce"], "there is no command 'rehearce'"),
        (["rehearse", "wind-ingest", "--fromat", "json"], "unrecognized arguments"),
        (["charter"], "VERB"),
        (["rehearse", "wind-ingest", "--timeout", "soon"], "'soon' is not a number of seconds"),
        (["enact", "wind-ingest"], "there is nobody to ask"),
        (["-v"], "no command is given"),
        (["tenant", "add", "x", "http://tenant.example/scim", "--admin", "a", "--token", "env:T"], "only https"),
        (["tenant", "add", "x", "https://tenant.example/scim", "--admin", "a", "--token", "abc"], "never the secret itself"),
    ],
)
def test_usage(desk: Desk, arguments: list[str], what: str) -> None:
    ran = desk.program(*arguments)
    assert ran.code == 2, ran.err
    assert what in ran.err
    assert ran.out == ""


def test_the_schema_describes_what_the_check_takes(desk: Desk) -> None:
    schema = desk.run("charter", "schema").json
    assert schema["additionalProperties"] is False
    assert {"charter", "tenant", "purpose", "identity"} == set(schema["required"])
    assert "for" in schema["$defs"]["GrantSection"]["properties"]
    assert json.dumps(schema)


def test_near_misses_do_not_hide_what_is_missing(desk: Desk) -> None:
    desk.charter(replaced("role:", "rol:"))
    told = desk.run(*CHECK).err
    assert "did you mean `role`?" in told
    assert "`role` is missing" not in told
    desk.charter(replaced("role: stream-writer, ", ""))
    assert "`role` is missing" in desk.run(*CHECK).err
