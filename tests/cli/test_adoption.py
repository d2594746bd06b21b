"""What stands already is taken over whole: credentials, grants and memberships; and a found key is kept here."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import pytest

from conftest import CHARTER, Away, Desk, Json, Sandbox
from sigillum.core.values.canonical import public_half, thumbprint
from sigillum.keys.material import make_key

JOINED = (
    CHARTER.replace("grants:", "member_of: [field-crew]\n\ngrants:")
    .replace("limits: [stream.append, stream.read]", "limits: []")
    .replace(", count: 3", "")
)
TEAM = "charter: field-crew\ntenant: summit\nowner: mara.teel@brindlemoor.example\npurpose: crew\nidentity: {kind: team, name: field-crew, reach: []}\n"


def standing(away: Away, key: Json, charter_kind: str = "key-pair") -> str:
    """An account that somebody made by hand: a key, a grant, a team."""
    state = away.state()["resources"]
    role, place = (
        next(r["id"] for r in state[kind] if r[field] == value)
        for kind, field, value in (("Role", "name", "stream-writer"), ("Place", "path", "brindlemoor/sensing-prod"))
    )
    account = away.make(
        "/Users",
        {
            "schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"],
            "userName": "wind-ingest",
            "displayName": "Wind readings ingest",
            "active": True,
        },
    )["id"]
    away.make(
        "/Grants",
        {
            "schemas": ["urn:sigillum:scim:1.0:Grant"],
            "principal": {"$ref": f"../Users/{account}"},
            "role": {"$ref": f"../Roles/{role}"},
            "place": {"$ref": f"../Places/{place}"},
            "reason": "stores the readings",
        },
    )
    made = away.make(
        "/Credentials",
        {
            "schemas": ["urn:sigillum:scim:1.0:Credential"],
            "principal": {"$ref": f"../Users/{account}"},
            "name": "ingest-key",
            "kind": charter_kind,
            **({"publicKey": public_half(key)} if charter_kind == "key-pair" else {}),
        },
    )
    away.scim(
        "PATCH",
        f"/Credentials/{made['id']}",
        {
            "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
            "Operations": [{"op": "replace", "path": "active", "value": True}],
        },
    )
    away.make(
        "/Groups",
        {
            "schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"],
            "displayName": "field-crew",
            "members": [{"value": account}],
        },
    )
    return str(account)


def counts(away: Away) -> dict[str, int]:
    return {kind: len(found) for kind, found in away.state()["resources"].items()}


@pytest.mark.parametrize("kind", ["key-pair", "api-token"])
def test_an_account_is_taken_over_with_all_that_hangs_on_it(desk: Desk, away: Away, kind: str, tmp_path: Path) -> None:
    key = make_key("Ed25519")
    standing(away, key, kind)
    desk.charter(JOINED.replace("kind: key-pair", f"kind: {kind}"))
    before = counts(away)
    ran = desk.run("enact", "wind-ingest", "--adopt", "--yes")
    told = " ".join(ran.out.split())
    assert (ran.code, counts(away)) == (0, before), ran.out
    for what in (
        "account wind-ingest is ours",
        "grant of stream-writer",
        "credential ingest-key is ours",
        "membership of wind-ingest in field-crew",
    ):
        assert what in told, told
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    assert counts(away) == before  # and nothing of it ends, since it is here no more than before
    if kind == "key-pair":
        found, copy = tmp_path / "found.jwk", tmp_path / "scripts" / "old.json"
        copy.parent.mkdir()
        found.write_text(json.dumps(key))
        copy.write_text(json.dumps(key))
        stranger = tmp_path / "stranger.jwk"
        stranger.write_text(json.dumps(make_key("Ed25519")))
        assert desk.run("key", "take", str(stranger), "wind-ingest").code == 6
        took = desk.run("key", "take", str(found), "wind-ingest", "--format", "json").json
        assert (took["generation"], {Path(c).name for c in took["copies"]}) == (1, {"found.jwk", "old.json"})
        assert key["d"] not in json.dumps(took)
        proved = desk.run("prove", "wind-ingest")
        assert (proved.code, "ingest-key, generation 1" in proved.out) == (0, True), proved.out
        assert desk.run("key", "take", str(found), "wind-ingest", "--remove").code == 0
        assert not found.exists()
        assert thumbprint(key) in str(
            desk.run("key", "read", next(str(p) for p in desk.folder.glob(".sigillum/keys/*/current/*.json"))).out
        )
    code = desk.run("rotate", "wind-ingest").code
    assert code == 7
    assert desk.run("suspend", "wind-ingest", "--because", "x", "--yes").code == 0
    assert desk.run("reinstate", "wind-ingest", "--because", "x").code == 0
    told_ = desk.run("retire", "wind-ingest", "--because", "over", "--yes", "--adopted-too", "--format", "json")
    assert told_.code == 0, told_.out + told_.err
    told_ = told_.json["retired"][0]
    left: dict[str, Any] = {k: n for k, n in counts(away).items() if n != before[k]}
    assert (told_["retired"], left) == (
        True,
        {"User": before["User"] - 1, "Grant": before["Grant"] - 1, "Credential": before["Credential"] - 1},
    ), told_


def test_a_standing_account_its_key_and_its_next_key(bare: Desk, sandbox: Sandbox) -> None:
    """Described, adopted, taken in, rotated: no step of it leads nowhere."""
    away, other = sandbox.tenant("summit"), Desk(bare.folder.parent / "other", bare.capture)
    assert other.run("init", str(other.folder)).code == 0
    other.know(away, "summit")
    other.charter(CHARTER)
    assert other.run("enact", "wind-ingest", "--yes").code == 0
    path = bare.folder / "found.jwk"
    path.write_text(json.dumps(json.loads(next(other.folder.glob(".sigillum/keys/*/ingest-key-1.json")).read_text())["key"]))
    path.chmod(0o600)
    bare.know(away, "summit")
    assert bare.run("charter", "new", "--describe", "wind-ingest", "--tenant", "summit", "ingest").code == 0
    assert bare.run("enact", "ingest", "--yes", "--adopt").code == 0
    ran = bare.run("key", "take", str(path), "ingest", "--remove")
    assert (ran.code, "Write `keep_in: file` at ingest-key" in ran.out) == (0, True), ran.out
    assert "kept-here" in [n["code"] for n in bare.run("rehearse", "ingest", "--format", "json").json["charters"][0]["notes"]]
    ran = bare.run("rotate", "ingest")
    assert (ran.code, "write `keep_in: file`" in ran.out) == (6, True), ran.out
    file = bare.folder / "charters" / "ingest.yaml"
    file.write_text(re.sub(r"keep_in: holder.*", "keep_in: file", file.read_text()))
    assert bare.run("rotate", "ingest").code == 7
    assert bare.run("rotate", "ingest", "--end-old", "--yes").code in (0, 7)
    assert [c["name"] for c in away.of("Credential")] == ["ingest-key-2"]
