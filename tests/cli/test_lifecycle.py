"""A charter's life: enacted, enacted again, changed, adopted, described, renamed, proven, and written down."""

from __future__ import annotations

import json
import re
import shutil
import sqlite3
from pathlib import Path

import pytest

from conftest import CHARTER, Away, Desk, Sandbox

ENACT = ("enact", "wind-ingest", "--yes", "--format", "json")


def steps(desk: Desk, *more: str) -> list[tuple[str, str]]:
    """What a rehearsal would do, without the proof."""
    ran = desk.run("rehearse", "wind-ingest", "--format", "json", *more)
    return [(s["step"], s["about"]) for s in ran.json["charters"][0]["steps"] if s["step"] != "prove"]


def notes(desk: Desk) -> list[str]:
    return [n["code"] for n in desk.run("rehearse", "wind-ingest", "--format", "json").json["charters"][0]["notes"]]


def enact(desk: Desk, *more: str) -> None:
    ran = desk.run(*ENACT, *more)
    assert ran.code == 0, ran.out + ran.err


def test_enacting_again_changes_nothing_and_says_so(desk: Desk, away: Away) -> None:
    first = desk.program(*ENACT[:3])
    assert first.code == 0
    assert "Done: 5 steps carried out and read back, 4 proofs held." in first.out
    before, entries = away.state(), desk.run("ledger", "show", "--format", "json").out
    again = desk.program(*ENACT[:3])
    assert again.code == 0
    assert "Nothing to do: everything is as the charter says." in again.out
    assert away.state() == before
    assert desk.run("ledger", "show", "--format", "json").out == entries


@pytest.mark.parametrize(
    ("old", "new", "expected"),
    [
        ("display: Wind readings ingest", "display: Wind", [("change", "account wind-ingest")]),
        ("stores the readings", "keeps them", [("change", "reason of the grant of stream-writer at brindlemoor/sensing-prod")]),
        (
            "limits: [stream.append, stream.read]",
            "limits: [stream.append]",
            [
                ("keep", "private key of ingest-key here (Ed25519)"),
                ("make", "credential ingest-key (key-pair)"),
                ("change", "credential ingest-key: switch it on"),
                ("end", "credential ingest-key"),
            ],
        ),
        (
            "role: stream-writer",
            "role: stream-keeper",
            [
                ("make", "grant of stream-keeper at brindlemoor/sensing-prod"),
                ("end", "grant of stream-writer at brindlemoor/sensing-prod"),
            ],
        ),
        (
            "because: stores the readings}\n",
            "because: stores the readings}\n  - {role: stream-reader, at: brindlemoor/cameras, until: 2099-01-01T00:00:00Z}\n",
            [("make", "grant of stream-reader at brindlemoor/cameras")],
        ),
        (
            "proofs:",
            "  - {name: second, kind: api-token}\nproofs:",
            [
                ("make", "credential second (api-token)"),
                ("keep", "secret of second here, straight from the tenant"),
                ("change", "credential second: switch it on"),
            ],
        ),
        ("lasts: 90d", "lasts: 60d", []),  # the time limit of what stands is never moved
    ],
)
def test_changing_a_charter_changes_only_that(desk: Desk, old: str, new: str, expected: list[tuple[str, str]]) -> None:
    enact(desk)
    assert old in CHARTER
    desk.charter(CHARTER.replace(old, new))
    assert steps(desk) == expected
    enact(desk, "--end", "--no-prove")
    assert steps(desk) == []


def test_an_ending_in_prod_wants_to_be_said(desk: Desk, away: Away) -> None:
    enact(desk)
    desk.charter(CHARTER.replace("role: stream-writer", "role: stream-keeper"))
    ran = desk.run("enact", "wind-ingest", "--yes", "--no-prove")
    assert ran.code == 6
    assert "1 ending left out: in the stage prod it also wants --end." in ran.out
    assert len(away.of("Grant")) == 2
    enact(desk, "--end", "--no-prove")
    assert len(away.of("Grant")) == 1


def test_an_ending_elsewhere_needs_no_option(desk: Desk, away: Away) -> None:
    path = desk.folder / "sigillum.yaml"
    path.write_text(path.read_text().replace("stage: prod", "stage: test"))
    enact(desk)
    desk.charter(CHARTER.replace("role: stream-writer", "role: stream-keeper"))
    enact(desk, "--no-prove")
    assert len(away.of("Grant")) == 1
    desk.charter("stage: prod\n" + CHARTER)  # the charter says what its tenant does not
    assert desk.run("enact", "wind-ingest", "--yes", "--no-prove").code == 6
    assert len(away.of("Grant")) == 2


def test_it_asks_before_it_changes_anything(desk: Desk, away: Away) -> None:
    ran = desk.answered("no\n", "enact", "wind-ingest")
    assert (ran.code, "Carry out 6 steps?" in ran.err, "Nothing was changed." in ran.err) == (1, True, True)
    assert away.of("User") == []
    ran = desk.answered("yes\n", "enact", "wind-ingest")
    assert (ran.code, "4 proofs held" in ran.out) == (0, True), ran.err
    desk.charter(CHARTER.replace("role: stream-writer", "role: stream-keeper"))
    kept = desk.answered("\nyes\n", "enact", "wind-ingest", "--no-prove")
    assert (kept.code, len(away.of("Grant"))) == (6, 2)
    ended = desk.answered("end\nyes\n", "enact", "wind-ingest", "--no-prove")
    assert (ended.code, len(away.of("Grant"))) == (0, 1), ended.err


def test_a_new_charter_asks_five_questions(desk: Desk) -> None:
    path = desk.folder / "sigillum.yaml"
    path.write_text(path.read_text().replace("  owner: mara.teel@brindlemoor.example\n", ""))
    ran = desk.answered(
        "summit\nIndex of pictures\njon.askew@brindlemoor.example\nstream-reader\nbrindlemoor/cameras\n",
        "charter",
        "new",
        "cam",
    )
    assert (ran.code, ran.err.count("?")) == (0, 5), ran.err
    assert desk.run("charter", "show", "cam", "--format", "json").json["owner"] == "jon.askew@brindlemoor.example"


def test_a_time_limit_counts_from_the_first_enacting(desk: Desk, away: Away, sandbox: Sandbox) -> None:
    desk.charter(CHARTER.replace("because: stores", "for: 10m, because: stores"))
    enact(desk)
    until = away.of("Grant")[0]["validUntil"]
    sandbox.clock(move=200)
    try:
        assert steps(desk) == []
        enact(desk)
        assert [g["validUntil"] for g in away.of("Grant")] == [until]
        desk.charter(CHARTER.replace("because: stores", "for: 20m, because: stores"))  # said anew: counts anew
        enact(desk, "--end")
        assert [g["validUntil"] > until for g in away.of("Grant")] == [True]
    finally:
        sandbox.clock(move=-200)


def test_a_look_only_administrator_can_rehearse(bare: Desk, away: Away) -> None:
    bare.know(away, admin="watch")
    bare.charter()
    assert len(steps(bare)) == 5
    assert bare.run("enact", "wind-ingest", "--yes").code == 6
    assert away.of("User") == []


def test_a_fresh_copy_of_the_workspace_watches_for_drift(desk: Desk, away: Away, tmp_path: Path) -> None:
    enact(desk)
    copy = Desk(tmp_path / "copy", desk.capture)
    shutil.copytree(desk.folder, copy.folder, ignore=shutil.ignore_patterns("ledger*", "keys", "*.lock"))
    strict = copy.run("rehearse", "--all", "--strict")
    assert strict.code == 0, strict.out
    grant = away.of("Grant")[0]["id"]
    assert away.scim("DELETE", f"/Grants/{grant}").status == 204
    assert copy.run("rehearse", "--all", "--strict").code == 1


def test_what_was_removed_by_somebody_is_made_anew(desk: Desk, away: Away, sandbox: Sandbox) -> None:
    enact(desk)
    assert away.scim("DELETE", f"/Users/{away.of('User')[0]['id']}").status == 204
    # changes arrive at once here, with some seconds of slack: until then it may only not be shown yet
    assert steps(desk)[0] == ("wait", "until the tenant shows the account wind-ingest")
    sandbox.clock(move=10)
    try:
        assert steps(desk)[0] == ("make", "account wind-ingest")
        assert "gone" in notes(desk)
        enact(desk, "--end")
        assert [c["active"] for c in away.of("Credential")] == [True]
        assert steps(desk) == []
    finally:
        sandbox.clock(move=-10)


def test_a_thing_of_the_same_name_is_shown_and_never_taken_over_unasked(desk: Desk, away: Away) -> None:
    made = away.make(
        "/Users",
        {
            "schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"],
            "userName": "wind-ingest",
            "displayName": "Somebody's",
            "externalId": "theirs-1",
        },
    )
    ran = desk.run("rehearse", "wind-ingest")
    assert ran.code == 6
    assert "exists" in ran.out
    assert "Somebody's" in ran.out
    assert "differs" in ran.out
    refused = desk.run("enact", "wind-ingest", "--yes")
    assert refused.code == 6
    assert len(away.of("Grant")) == 0
    enact(desk, "--adopt")
    account = away.of("User")[0]
    assert (account["id"], account["displayName"], account["externalId"]) == (made["id"], "Wind readings ingest", "theirs-1")
    assert steps(desk) == []


def test_a_stranger_takes_the_name_meanwhile(desk: Desk, away: Away, sandbox: Sandbox) -> None:
    """The rehearsal saw nothing, and the creation is refused: it is told whose the name is, not called a success."""
    sandbox.control("tenants", {"limits": {away.name: {"arrival_seconds": 1}}})
    away.make("/Users", {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "userName": "wind-ingest"})
    ran = desk.run(*ENACT)
    assert ran.code == 6
    assert "Sigillum did not make it" in ran.out
    assert away.of("Grant") == []


@pytest.mark.parametrize("made_by", ["hand", "sigillum"])
def test_an_account_described_as_it_stands_yields_no_steps(desk: Desk, away: Away, made_by: str) -> None:
    name = "camera-archive"
    if made_by == "sigillum":
        text = CHARTER.replace("because: stores", "until: 2099-01-01T00:00:00Z, because: stores")
        desk.charter(text)
        enact(desk)
        name = "wind-ingest"
    assert desk.run("charter", "new", "described", "--describe", name, "--tenant", "summit").code == 0
    ran = desk.run("rehearse", "described", "--format", "json")
    assert (ran.code, ran.json["charters"][0]["steps"]) == (0, []), ran.out
    missing = desk.run("charter", "new", "other", "--describe", "nobody", "--tenant", "summit")
    assert (missing.code, "shows no account, team or client 'nobody'" in missing.err) == (6, True)


def test_renaming_keeps_what_was_made(desk: Desk, away: Away) -> None:
    enact(desk)
    before = away.state()
    assert desk.run("charter", "rename", "wind-ingest", "mast-wind").code == 0
    ran = desk.run("rehearse", "mast-wind", "--strict", "--format", "json")
    assert ran.code == 0
    assert ran.json["charters"][0]["steps"] == []
    assert away.state() == before
    assert not (desk.folder / "charters" / "wind-ingest.yaml").exists()
    assert desk.run("ledger", "verify").code == 0
    assert "mast-wind" in desk.run("ledger", "show", "mast-wind").out


def test_a_new_charter_is_right_from_the_start(desk: Desk) -> None:
    ran = desk.program(
        "charter",
        "new",
        "cam",
        "--tenant",
        "summit",
        "--purpose",
        "Index: pictures # of the summit",
        "--role",
        "stream-reader",
        "--at",
        "brindlemoor/cameras",
    )
    assert ran.code == 0, ran.err
    shown = desk.run("charter", "show", "cam", "--format", "json").json
    assert shown["purpose"] == "Index: pictures # of the summit"
    assert shown["review"] is not None
    assert "cam-key" in desk.run("charter", "show", "cam").out
    assert desk.run("enact", "cam", "--yes").code == 0


def test_a_key_that_its_holder_made(desk: Desk, away: Away) -> None:
    text = CHARTER.replace("limits: [stream.append, stream.read]", "keep_in: holder")
    desk.charter(text)
    ran = desk.run(*ENACT)
    assert ran.code == 6
    assert "send its public half" in ran.out
    assert len(away.of("Grant")) == 1  # everything else goes on
    public = {"kty": "OKP", "crv": "Ed25519", "x": "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}  # RFC 8037 A.2
    (desk.folder / "holder.jwk").write_text(json.dumps({**public, "d": "nWGxne_9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A"}))
    desk.charter(text.replace("keep_in: holder", "keep_in: holder, public_key: file:holder.jwk"))
    private = desk.run(*ENACT)
    assert (private.code, "holds a private key" in private.err) == (3, True)
    (desk.folder / "holder.jwk").write_text(json.dumps(public))
    ran = desk.run(*ENACT)
    assert away.of("Credential")[0]["thumbprint"] == "kPrK_qmxVWaYVA9wwBF6Iuo3vVzz7TxHCTwXBygrS4k"  # RFC 8037 A.3
    assert "asked, not tried" in ran.out  # nobody here can sign in as it: the administrator asks


def test_a_lost_key_is_replaced_and_its_credential_ended(desk: Desk, away: Away) -> None:
    enact(desk)
    old = away.of("Credential")[0]["id"]
    next((desk.folder / ".sigillum" / "keys").glob("*/*.json")).unlink()
    ran = desk.run(*ENACT, "--end")  # another copy of the workspace may keep it, and use it
    assert (ran.code, "enact with --lost" in ran.out, [c["id"] for c in away.of("Credential")]) == (6, True, [old]), ran.out
    enact(desk, "--end", "--lost")
    assert [(c["id"] == old, c["active"]) for c in away.of("Credential")] == [(False, True)]
    assert steps(desk) == []


def test_a_proof_that_does_not_hold(desk: Desk, away: Away) -> None:
    away.limits(answer_items=2)
    desk.charter(
        CHARTER.replace("cannot: stream.append", "can: stream.append").replace("count: 3", "count: 4")
        + "  - {can: stream.read, at: brindlemoor/sensing-prod/streams/mast-4, value: {unit: m/s}}\n"
        "  - {can: stream.read, at: brindlemoor/sensing-prod/streams/mast-4, value: {unit: knots}}\n"
        "  - {can: place.arrange, at: brindlemoor/sensing-prod}\n"
    )
    assert desk.run(*ENACT).code == 1
    report = desk.run("prove", "wind-ingest", "--format", "json")
    assert report.code == 1
    results = [(p["held"], p["how"], p["capped"]) for p in report.json["charters"][0]["proofs"]]
    assert results == [
        (True, "tried", False),
        (False, "tried", True),
        (True, "asked, not tried", False),
        (False, "tried", False),
        (True, "tried", True),
        (None, "tried", True),
        (False, "asked, not tried", False),
    ]
    text = desk.run("prove", "wind-ingest").out
    assert report.json["charters"][0]["proofs"][1]["said"] == "3 counted; the tenant capped the answer at 2 of 3"
    assert "7 proofs: 3 hold, 3 do not, 1 not known; 2 asked, not tried." in text
    # no proof can harm: the stream that is no test object is as it was
    assert len(away.state()["streams"]["brindlemoor/sensing-prod/streams/mast-4"]) == 3


@pytest.mark.parametrize(
    ("more", "proof", "codes"),
    [
        ("", "{cannot: stream.delte, at: brindlemoor/sensing-prod/streams/mast-4}", ["permission-unknown"]),
        ("", "{cannot: stream.delete, at: brindlemoor/sensing-prod/streams/mats-4}", ["place-unknown"]),
    ],
)
def test_what_is_misspelt_in_a_proof_is_a_mistake_and_no_refusal_that_holds(
    desk: Desk, away: Away, more: str, proof: str, codes: list[str]
) -> None:
    desk.charter(CHARTER + f"  - {proof}\n")
    ran = desk.run("rehearse", "wind-ingest", "--format", "json")
    found = ran.json["charters"][0]["mistakes"]
    assert ([m["code"] for m in found], ["did you mean" in m["do"] for m in found], ran.code) == (codes, [True], 3)
    assert desk.run("enact", "wind-ingest", "--yes").code == 3
    assert away.of("User") == []


def test_a_refusal_for_another_reason_is_not_shown(desk: Desk) -> None:
    early = CHARTER.replace(
        "credentials:",
        "  - {role: stream-keeper, at: brindlemoor/sensing-prod, because: later, from: 2099-01-01T00:00:00Z, until: 2099-02-01T00:00:00Z}\n"
        "credentials:",
    ).replace("limits: [stream.append, stream.read]", "limits: [stream.append, stream.read, stream.delete]")
    for charter, word, why in (
        (
            CHARTER.replace(
                "credentials:", "  - {role: board-reader, at: brindlemoor/timetable, because: departures}\ncredentials:"
            ).replace("limits: [stream.append, stream.read]", "limits: [stream.append, stream.read, board.read]")
            + "  - {cannot: board.read, at: brindlemoor/timetable/prod}\n",
            "not shown",
            "service-off",
        ),
        (early, "does not hold", "does not hold from 2099-01-01T00:00:00Z on"),
    ):
        desk.charter(charter)
        ran = desk.run("enact", "wind-ingest", "--yes", "--end")
        assert (ran.code, "the charter says `cannot" in ran.out) == (3, True)  # foreseen
        desk.charter("\n".join(line for line in charter.splitlines() if "cannot:" not in line))
        assert desk.run("enact", "wind-ingest", "--yes", "--end").code == 0
        desk.charter(charter)
        ran = desk.run("prove", "wind-ingest")
        told = " ".join(ran.out.split())
        assert (ran.code, word in told, why in told) == (1, True, True), ran.out


def test_proving_uses_a_fresh_token_and_says_as_whom(desk: Desk, away: Away) -> None:
    enact(desk)
    principal = away.of("User")[0]["id"]
    assert (
        desk.run("prove", "wind-ingest", "--format", "json").json["charters"][0]["ran_as"]
        == f"a fresh token; the tenant says: {principal}"
    )
    away.scim(
        "PATCH",
        f"/Users/{principal}",
        {
            "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
            "Operations": [{"op": "replace", "path": "active", "value": False}],
        },
    )
    ran = desk.run("prove", "wind-ingest")
    assert ran.code == 4
    assert "The account is suspended" in ran.err
    masked = desk.run("--presenting", "tenant", "inspect", "summit")
    assert away.address not in masked.out + masked.err


OFF = {
    "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
    "Operations": [{"op": "replace", "path": "active", "value": False}],
}


@pytest.mark.parametrize(
    ("kind", "path", "words"),
    [("User", "Users", "account wind-ingest"), ("Credential", "Credentials", "credential ingest-key")],
)
def test_what_somebody_else_switched_off_stays_off_until_a_person_says_otherwise(
    desk: Desk, away: Away, sandbox: Sandbox, kind: str, path: str, words: str
) -> None:
    enact(desk)
    sandbox.clock(move=30)  # what we switched on a moment ago may not show yet: nothing would be concluded
    away.scim("PATCH", f"/{path}/{away.of(kind)[0]['id']}", OFF)
    before, written = away.state()["resources"], list[int]()
    for _ in range(3):  # a timer
        ran = desk.run("enact", "--all", "--yes")
        told = " ".join(ran.out.split())
        assert (ran.code, f"about the {words}, which somebody else switched off" in told, "--switch-on" in told) == (
            6,
            True,
            True,
        ), ran.out
        written.append(len(desk.run("ledger", "show", "--entries", "--format", "json").json["entries"]))
    assert away.state()["resources"] == before
    assert len(set(written)) == 1
    assert desk.run("rehearse", "wind-ingest", "--strict").code != 0
    assert [
        s["step"] for s in desk.run("rehearse", "wind-ingest", "--switch-on", "--format", "json").json["charters"][0]["steps"]
    ][:1] == ["change"]
    desk.charter(
        CHARTER.replace("limits: [stream.append, stream.read]", "limits: [stream.append]")
    )  # no new key beside a stopped one
    assert desk.run("enact", "wind-ingest", "--yes", "--end").code == 6
    assert len(away.of("Credential")) == (1 if kind == "Credential" else len(away.of("Credential")))
    desk.charter(CHARTER)
    assert desk.run("enact", "wind-ingest", "--yes", "--switch-on", "--no-prove", "--end").code == 0
    assert all(r["active"] for r in away.of(kind))
    sandbox.clock(move=-30)


def test_an_adopted_account_that_is_off_is_not_switched_on(desk: Desk, away: Away) -> None:
    made = away.scim(
        "POST",
        "/Users",
        {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "userName": "wind-ingest", "active": False},
    )
    ran = desk.run("enact", "wind-ingest", "--yes", "--adopt")
    assert (ran.code, "which somebody else switched off" in " ".join(ran.out.split())) == (6, True), ran.out + ran.err
    assert away.of("User")[0]["active"] is False is made.json()["active"]


def test_the_ledger_shows_every_change_by_somebody_else(desk: Desk) -> None:
    enact(desk)
    head = desk.folder / "head.json"
    head.write_text(desk.run("ledger", "head").out)
    assert desk.run("ledger", "verify", "--checkpoint", str(head)).code == 0
    for sql, what in (
        ("UPDATE entries SET body = replace(body, 'ingest-key', 'other-key') WHERE kind = 'kept'", "content was changed"),
        ("UPDATE entries SET at = '2020-01-01T00:00:00Z' WHERE sequence = 2", "content was changed"),
        ("DELETE FROM entries WHERE sequence = 4", "is missing"),
        ("UPDATE books SET uid = 'x'", "the books say something else of the charter wind-ingest"),
        ("UPDATE entries SET body = '[' WHERE sequence = 3", "entry 3 of the ledger cannot be read"),
        ("DELETE FROM entries", "the ledger is empty"),
        ("CREATE TRIGGER t AFTER INSERT ON entries BEGIN DELETE FROM entries; END", "trigger t"),
        ("CREATE TABLE more (x)", "table more"),
        ("DELETE FROM entries WHERE sequence > 5", "rolled back"),
    ):
        spoiled = Desk(desk.folder.parent / "spoiled", desk.capture)
        shutil.rmtree(spoiled.folder, ignore_errors=True)
        shutil.copytree(desk.folder, spoiled.folder)
        with sqlite3.connect(spoiled.folder / ".sigillum" / "ledger.db") as db:
            db.execute(sql)
        db.close()
        ran = spoiled.run("ledger", "verify", "--checkpoint", str(head))
        assert (ran.code, what in ran.out) == (1, True), ran.out
        assert spoiled.run("ledger", "verify", "--rebuild").code == (
            0 if "books" in sql else 1 if "sequence > 5" not in sql else 0
        )
        if "sequence > 5" not in sql:  # that shows against the checkpoint of the last run; the others from the beginning
            (spoiled.folder / ".sigillum" / "ledger-head.json").unlink()
        refused = spoiled.run("enact", "wind-ingest", "--yes")  # no work on what does not hold
        assert (refused.code, "Traceback" in refused.err) == (0 if "books" in sql else 8, False), (sql, refused.err)
        assert "books" not in sql or (spoiled.folder / ".sigillum" / "ledger-head.json").exists()
    (desk.folder / ".sigillum" / "ledger-head.json").write_text('{"checkpoint": 1}')
    assert "is no checkpoint" in desk.run("enact", "wind-ingest", "--yes").err
    forged = json.loads(head.read_text())
    head.write_text(json.dumps({**forged, "sequence": 3}))
    assert "not signed by this ledger's key" in desk.run("ledger", "verify", "--checkpoint", str(head)).out
    head.write_text("{}")
    assert desk.run("ledger", "verify", "--checkpoint", str(head)).code == 3


def test_nothing_is_written_with_a_foreign_key(desk: Desk, away: Away) -> None:
    path = desk.folder / "sigillum.yaml"
    text = path.read_text()
    key = re.search(r"ledger_key: (\S+)", text)
    assert key is not None
    path.write_text(text.replace(key[1], key[1][::-1] if key[1][::-1] != key[1] else "A" * 43))
    ran = desk.run("enact", "wind-ingest", "--yes")
    assert (ran.code, "is not the one of sigillum.yaml" in ran.err, away.of("User")) == (8, True, [])


def test_a_ledger_of_another_format_gets_one_clear_error(desk: Desk) -> None:
    enact(desk)
    with sqlite3.connect(desk.folder / ".sigillum" / "ledger.db") as db:
        db.execute("UPDATE entries SET version = 1")
    db.close()
    ran = desk.run("rehearse", "wind-ingest")
    assert (ran.code, "the ledger is of format 1" in ran.err, "Traceback" in ran.err) == (8, True, False)


def test_a_witness_is_kept_after_each_run(desk: Desk) -> None:
    path = desk.folder / "sigillum.yaml"
    path.write_text(path.read_text() + "witness: ../witness.json\n")
    enact(desk)
    witness = json.loads((desk.folder.parent / "witness.json").read_text())
    assert witness["sequence"] == len(desk.run("ledger", "show", "--entries", "--format", "json").json["entries"])
    assert "it continues the checkpoint" in desk.run("ledger", "verify").out


def test_a_tenant_whose_external_ids_are_not_unique(bare: Desk, sandbox: Sandbox) -> None:
    loose = sandbox.tenant("loose", arrival_seconds=1)
    bare.know(loose)
    bare.charter()
    sandbox.faults({"kind": "lost-after", "method": "POST", "path": f"{loose.name}/scim/v2/Grants"})
    enact(bare)
    sandbox.faults()
    assert len(loose.of("Grant")) == 1  # it looked before it sent again


def test_many_charters_at_once(desk: Desk, away: Away) -> None:
    for number in range(12):
        desk.charter(CHARTER.replace("wind-ingest", f"wind-{number}").replace("ingest-key", f"key-{number}"), f"wind-{number}")
    ran = desk.run("enact", "--all", "--yes")
    assert ran.code == 0, ran.out + ran.err
    assert "13 charters: 13 as wished, 0 not." in ran.out
    assert len(away.state()["resources"]["Credential"]) == 13
    assert desk.run("ledger", "verify").code == 0
    assert desk.run("rehearse", "--all", "--strict").code == 0


def test_lists_as_tables_json_and_csv(desk: Desk) -> None:
    enact(desk)
    assert desk.run("tenant", "list", "--format", "csv").out.startswith("tenant,address,stage,administrator,driver")
    assert desk.run("tenant", "list", "--format", "json").json["tenants"][0]["tenant"] == "summit"
    assert desk.run("ledger", "show", "--newest", "2", "--format", "csv").out.count("\n") == 3
    inspected = desk.run("tenant", "inspect", "summit", "--format", "json").json
    assert inspected["administrator"]["name"] == "ada.rusk"
    assert inspected["limits"]["credential_seconds"] == 15552000
    assert abs(inspected["skew_seconds"]) < 2


def test_what_a_charter_left_behind_is_told_when_its_file_is_gone(desk: Desk) -> None:
    enact(desk)
    assert desk.run("rehearse", "--all", "--strict").code == 0
    (desk.folder / "charters" / "wind-ingest.yaml").rename(desk.folder / "kept.yaml")
    ran = desk.run("rehearse", "--all", "--strict", "--format", "json")
    (gone,) = ran.json["gone"]
    assert (ran.code, gone["charter"], sorted(x["what"] for x in gone["left"])) == (
        1,
        "wind-ingest",
        ["the credential ingest-key", "the grant of stream-writer at brindlemoor/sensing-prod", "the identity"],
    )
    assert "its file is gone" in desk.run("rehearse", "--all").out
    assert "its file is gone" in desk.run("enact", "--all", "--yes").err
