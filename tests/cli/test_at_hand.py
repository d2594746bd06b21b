"""What a person is shown, and what is written for them: sentences, drafts of what stands, sheets, JSON everywhere."""

from __future__ import annotations

import dataclasses
import json
import re
import subprocess
from pathlib import Path

import pytest

from conftest import CHARTER, Away, Desk, Sandbox
from sigillum.cli.views.common import value_text
from sigillum.core.values.text import some
from sigillum.keys.material import make_key


def test_the_ledger_is_told_in_sentences_a_line_a_change(desk: Desk, away: Away, sandbox: Sandbox) -> None:
    sandbox.faults({"kind": "lost-after", "method": "POST", "path": "Grants"})
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    told = [
        line.split("  ", 2)[2]
        for line in desk.run("ledger", "show", "wind-ingest").out.replace("\n                      ", " ").splitlines()
    ]
    assert told[1:4] == [
        "made the identity, in summit as ada.rusk",
        "tried to make the grant of stream-writer at brindlemoor/sensing-prod: lost (the connection broke before the answer was complete), in summit as ada.rusk",
        "made the grant of stream-writer at brindlemoor/sensing-prod, in summit as ada.rusk",
    ]
    assert told[-1] == "proved 4 expectations: all hold"
    changes = desk.run("ledger", "show", "--format", "json").json["changes"]
    assert (changes[0]["what"].startswith("began the workspace"), [c["done"] for c in changes].count(False)) == (True, 1)
    assert {c["administrator"] for c in changes if c["what"].startswith("made")} == {"ada.rusk"}
    newest = desk.run("ledger", "show", "--newest", "2", "--format", "json").json["changes"]
    assert newest == changes[-2:]
    assert desk.run("ledger", "show", "--format", "csv").out.startswith(
        "entry,at,person,administrator,tenant,charter,what,done"
    )
    entries = desk.run("ledger", "show", "wind-ingest", "--entries").out
    assert ("intent" in entries, "of 4: made" in entries) == (True, True)


def test_usual_reasons_are_left_out_and_walls_of_names_are_counted(desk: Desk) -> None:
    text = desk.run("rehearse", "wind-ingest").out
    assert ("stores the readings" in text, "proves itself" in text, "before a probe" in text, "no becomes yes" in text) == (
        True,
        False,
        False,
        False,
    )
    assert text.count("Store wind readings") == 1
    whys = {s["why"] for s in desk.run("rehearse", "wind-ingest", "--format", "json").json["charters"][0]["steps"]}
    assert "the identity proves itself" in whys
    assert some([f"n{i:02}" for i in range(140)], "account").startswith("140 accounts, first ten: n00, n01,")
    assert (some(["x"], "account"), value_text(tuple("abcdefghijkl"))) == (
        "1 account (x)",
        "12 values: a, b, c, d, e, f, g, h, i, j, k, l",
    )


def test_no_word_grows_together_with_another(desk: Desk, away: Away) -> None:
    desk.charter(CHARTER + "roles: [{name: looker, display: Looks, permissions: [stream.read]}]\n")
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    desk.charter(CHARTER + "roles: [{name: looker, display: Looks, permissions: [stream.read, board.read]}]\n")
    assert "permissions stream.read (looks) becomes" in " ".join(desk.run("rehearse", "wind-ingest").out.split())
    lent = desk.run(
        "lend",
        "identity-user",
        "--at",
        "@wind-ingest",
        "--to",
        "ines.vole@brindlemoor.example",
        "--for",
        "10m",
        "--because",
        "looks",
        "--yes",
    )
    assert (lent.code, "identity-user at @wind-ingest to" in lent.out) == (0, True), lent.out + lent.err
    assert "at @wind-ingest" in desk.run("ledger", "show").out
    assert desk.run("loans", "--format", "json").json["loans"][0]["at"] == "@wind-ingest"


@pytest.mark.parametrize("name", ["camera-archive", "ferry-desk", "ingest-team", "everyone"])
def test_what_stands_is_described_whole_and_its_rehearsal_is_quiet(desk: Desk, name: str) -> None:
    assert desk.run("charter", "new", f"c-{name}", "--describe", name, "--tenant", "summit").code == 0
    again = desk.run("rehearse", f"c-{name}", "--strict")
    assert (again.code, "Nothing to do: everything is as the charter says." in again.out) == (0, True), again.out


def test_an_office_is_described_too(bare: Desk, sandbox: Sandbox) -> None:
    roster = sandbox.tenant("roster")
    bare.know(roster, "roster", "lena.frost")
    for name, kind in (("lift-telephone", "client"), ("snow-watch", "team"), ("old-robot", "service-account")):
        assert bare.run("charter", "new", f"c-{name}", "--describe", name, "--tenant", "roster").code == 0
        shown = bare.run("charter", "show", f"c-{name}", "--format", "json").json
        assert shown["identity"]["kind"] == kind
        assert bare.run("rehearse", f"c-{name}").code == 0
    text = (bare.folder / "charters" / "c-lift-telephone.yaml").read_text()
    assert "- {api: calendar, scopes: [calendar.read], acts: alone}" in text
    assert "proofs: []" not in text
    missing = bare.run("charter", "new", "none", "--describe", "nobody", "--tenant", "roster")
    assert (missing.code, "no account, team or client" in missing.err) == (6, True)
    assert (
        bare.run(
            "charter",
            "new",
            "rota",
            "--kind",
            "client",
            "--scope",
            "calendar:calendar.read",
            "--tenant",
            "roster",
            "--purpose",
            "Reads",
        ).code
        == 0
    )
    assert bare.run("rehearse", "rota").code == 0
    assert (
        bare.run(
            "charter", "new", "x", "--kind", "client", "--scope", "calendar", "--tenant", "roster", "--purpose", "Reads"
        ).code
        == 2
    )


def test_a_credential_of_two_consumers_is_told_of_and_split(desk: Desk) -> None:
    two = CHARTER.replace("lasts: 90d", "lasts: 90d, consumers: [mast-gateway, report-desk]").replace(
        "charter: wind-ingest", "charter: wind-ingest   # ours"
    )
    desk.charter(two)
    assert "is used by mast-gateway and report-desk" in " ".join(desk.run("rehearse", "wind-ingest").out.split())
    drafts = desk.run("charter", "split", "wind-ingest", "--format", "json").json["drafts"]
    assert [d["file"] for d in drafts] == ["charters/wind-ingest-mast-gateway.yaml", "charters/wind-ingest-report-desk.yaml"]
    assert desk.run("charter", "split", "wind-ingest", "--save").code == 0
    for one in drafts:
        name = one["file"].removeprefix("charters/").removesuffix(".yaml")
        ran = desk.run("enact", name, "--yes")
        assert (ran.code, "is used by" in ran.out) == (0, False), ran.out
    assert desk.run("charter", "split", "wind-ingest").code == 3  # they stand already
    desk.charter()
    assert desk.run("charter", "split", "wind-ingest").code == 6


def test_two_identities_of_one_job_stand_in_one_sheet(desk: Desk, away: Away) -> None:
    path = desk.folder / "sigillum.yaml"
    path.write_text(
        path.read_text()
        + "consumers:\n  gate:\n    asks: [{value: account}, {value: key}, {value: account, of: reader}, {value: key, of: reader, as: READER_KEY}]\n"
    )
    desk.charter(
        CHARTER.replace("name: wind-ingest", "name: wind-reader").replace("charter: wind-ingest", "charter: reader"), "reader"
    )
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    before = desk.run("handover", "wind-ingest", "--consumer", "gate", "--format", "json").json["sheets"][0]
    assert before["complete"] is False
    assert desk.run("enact", "reader", "--yes").code == 0
    assert desk.run("handover", "key", str(desk.folder / "gate.jwk")).code == 0
    sealed = desk.folder / "both.sealed"
    ran = desk.run(
        "handover", "wind-ingest", "--consumer", "gate", "--seal-to", str(desk.folder / "gate.public.jwk"), "--out", str(sealed)
    )
    assert ran.code == 0, ran.err
    opened = desk.program(
        "handover",
        "open",
        str(sealed),
        "--with-key",
        f"file:{desk.folder / 'gate.jwk'}",
        "--form",
        "json",
        "--out",
        "opened.json",
    )
    assert opened.code == 0, opened.err
    content = json.loads((desk.folder / "opened.json").read_text())
    values = content.get("values", content)
    assert (values["WIND_INGEST_ACCOUNT"], values["READER_ACCOUNT"]) == ("wind-ingest", "wind-reader")
    assert values["WIND_INGEST_KEY"] != values["READER_KEY"]
    told = desk.run("ledger", "show", "reader").out
    assert "handed over account, key: sealed to gate" in told
    folder = desk.folder / "sheets"
    many = desk.run(
        "handover", "wind-ingest", "reader", "--seal-to", str(desk.folder / "gate.public.jwk"), "--out", str(folder)
    )
    assert (many.code, sorted(p.name for p in folder.iterdir())) == (0, ["reader.sealed", "wind-ingest.sealed"]), many.err
    assert desk.run("handover", "wind-ingest", "reader", "--seal-to", str(desk.folder / "gate.public.jwk")).code == 2
    assert desk.run("handover", "sheet", "wind-ingest", "--format", "json").json["kind"] == "sheets"


def test_every_command_that_ends_in_something_tells_it_in_json(desk: Desk, bare: Desk) -> None:
    for words, kind in (
        (["init", str(bare.folder / "inner"), "--example"], "begun"),
        (
            ["charter", "new", "n", "--tenant", "summit", "--purpose", "p", "--role", "stream-reader", "--at", "brindlemoor"],
            "written",
        ),
        (["charter", "rename", "n", "m"], "written"),
        (["handover", "key", str(bare.folder / "k.jwk")], "key"),
        (["sandbox", "show"], "sandbox"),
        (["tenant", "list"], "tenants"),
        (["enact", "wind-ingest", "--yes"], "enacted"),
        (["handover", "connected", "wind-ingest", "--consumer", "gate", "--connection", "4"], "connected"),
        (
            [
                "advise",
                "x",
                "--signs-in",
                "form",
                "--in-the-name-of",
                "people",
                "--runs",
                "supplier",
                "--services",
                "mail.send",
            ],
            "advice",
        ),
        (["ledger", "show"], "ledger"),
    ):
        ran = desk.run(*words, "--format", "json")
        assert (ran.json["version"], ran.json["kind"]) == (1, kind), words
    assert len(desk.run("ledger", "key").out.strip()) == 43


def test_an_empty_workspace_says_so_and_a_template_is_blamed_once(bare: Desk) -> None:
    for command in ("rehearse", "enact", "prove"):
        ran = bare.run(command, "--all", *(["--yes"] if command == "enact" else []))
        assert (ran.code, "This workspace has no charters yet" in ran.err) == (0, True), ran.err
    (bare.folder / "l.csv").write_text("station\na\nb\nc\n")
    (bare.folder / "t.yaml").write_text("charter: ${station}\npurpose: ${purpse}\n")
    ran = bare.run("charter", "new", "--from-list", str(bare.folder / "l.csv"), "--template", str(bare.folder / "t.yaml"))
    assert (ran.code, ran.err.count("has no column"), "t.yaml:2:10" in ran.err) == (3, 1, True), ran.err


def test_an_id_is_one_things_only(bare: Desk) -> None:
    bare.run("init", str(bare.folder), "--example")
    assert bare.run("tenant", "add", "depot", "https://depot.example", "--driver", "by-hand", "--admin", "ines.vole").code == 0
    answers = bare.folder / "done.yaml"
    answers.write_text(answers.read_text().replace('"88"', '"31"'))
    ran = bare.program("enact", "rope-stock", "--yes", "--answers", "done.yaml")
    assert (ran.code, "'31' is the account that stands there already" in " ".join(ran.out.split())) == (6, True), ran.out


def test_inspect_shows_the_office_whole(bare: Desk, sandbox: Sandbox) -> None:
    roster = sandbox.tenant("roster")
    sandbox.control(
        "tenants",
        {
            "describe": {
                roster.name: {
                    "preconditions": [{"what": "owner", "types": ["Client"], "met": False, "about": "ask Mara"}],
                    "credential_kinds": ["key-pair", "shared-secret"],
                }
            }
        },
    )
    bare.know(roster, "roster", "lena.frost")
    text = " ".join(bare.run("tenant", "inspect", "roster").out.split())
    for told in (
        "calendar.read looks on-behalf or alone calendar",
        "mail-seat per-user 1 of 2 yes",
        "people-second-factor on people second-factor",
        "owner client not so yet ask Mara",
        "credentials key-pair, shared-secret",
    ):
        assert told in text, told
    found = bare.run("tenant", "inspect", "roster", "--format", "json").json
    assert (len(found["scopes"]), found["licences"][1]["licence"], found["preconditions"][0]["what"]) == (
        6,
        "mail-seat",
        "owner",
    )


def test_colour_speaks_of_outcomes_and_never_of_the_kind_of_a_step(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("FORCE_COLOR", "1")
    painted = re.compile(r"\x1b\[[\d;]*3[1-6][\d;]*m([^\x1b]*)")
    assert painted.findall(desk.run("rehearse", "wind-ingest").out) == []
    words = {w.strip() for w in painted.findall(desk.run("enact", "wind-ingest", "--yes").out)}
    assert words == {"done", "holds"}
    assert painted.findall(desk.run("enact", "wind-ingest", "--yes", "--no-colour").out) == []


def test_what_is_private_stays_out_of_version_control_and_out_of_reach(bare: Desk, tmp_path: Path) -> None:
    house = tmp_path / "other"
    house.mkdir()
    (house / ".gitignore").write_bytes(b"*.log\n\xff\n.sigillum/")
    assert bare.run("init", str(house)).code == 0
    lines = (house / ".gitignore").read_bytes().splitlines()
    assert (lines[:3], lines.count(b".sigillum/"), b"*.jwk" in lines) == ([b"*.log", b"\xff", b".sigillum/"], 1, True)
    subprocess.run(["git", "init", "-q", "."], cwd=house, check=True)
    for name in ("a.jwk", "a.public.jwk", "t.token", "charters/c.yaml", ".sigillum/x", "requests/1.csr.pem"):
        (house / name).write_text("x")
    told = subprocess.run(
        ["git", "ls-files", "-o", "--exclude-standard"], cwd=house, check=True, capture_output=True, text=True
    )
    assert set(told.stdout.split()) == {".gitignore", "a.public.jwk", "charters/c.yaml", "requests/1.csr.pem", "sigillum.yaml"}
    private = house / ".sigillum"
    private.chmod(0o755)
    inside = dataclasses.replace(bare, folder=house)
    ran = inside.run("loans")
    assert (ran.code, "could be read by others" in ran.err, private.stat().st_mode & 0o777) == (0, True, 0o700)
    private.chmod(0o777)
    assert (inside.run("loans").code, private.stat().st_mode & 0o777) == (8, 0o777)


@pytest.mark.parametrize("address", ["https://a.example/scim/v2?x=1", "https://a.example/scim/v2#x"])
def test_an_address_is_where_paths_are_added(bare: Desk, address: str) -> None:
    ran = bare.run("tenant", "add", "a", address, "--admin", "ada", "--token", "env:PATH")
    assert (ran.code, "no query and no fragment" in ran.err) == (2, True)


@pytest.fixture
def done(desk: Desk) -> Desk:
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    return desk


def test_what_is_mistyped_in_a_question_is_not_called_refused(done: Desk) -> None:
    for words, told in (
        (("stream.apend", "brindlemoor/sensing-prod"), "did you mean stream.append?"),
        (("stream.append", "brindlemoor/sensing-prd"), "did you mean brindlemoor/sensing-prod?"),
        (("stream.append,stream.apend", "brindlemoor/sensing-prod", "--matrix"), "did you mean stream.append?"),
    ):
        ran = done.run("explain", "wind-ingest", *words)
        assert (ran.code, told in ran.err, "refused" in ran.out + ran.err) == (2, True, False), ran.err


def test_a_refused_sign_in_names_the_cause_that_the_tenant_shows(
    done: Desk, away: Away, sandbox: Sandbox, tmp_path: Path
) -> None:
    """Off, expired, gone, or valid there: each is named, and none is guessed."""

    def said(number: int) -> str:
        ran = done.run("token", "fetch", "wind-ingest", "--out", str(tmp_path / str(number)))
        assert (ran.code, "clock right" in ran.err) == (4, False), ran.err
        return ran.err

    key = away.state()["resources"]["Credential"][0]
    user = next(u for u in away.state()["resources"]["User"] if u["userName"] == "wind-ingest")
    for path, active, told in (
        (f"/Users/{user['id']}", False, "shows wind-ingest as off"),
        (f"/Users/{user['id']}", True, ""),
        (f"/Credentials/{key['id']}", False, "the tenant shows it as off"),
        (f"/Credentials/{key['id']}", True, ""),
    ):
        body = {
            "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
            "Operations": [{"op": "replace", "path": "active", "value": active}],
        }
        assert away.scim("PATCH", path, body).status == 200
        if told:
            assert told in " ".join(said(len(path)).split())
    file = next((done.folder / ".sigillum" / "keys").glob("*/ingest-key-1.json"))
    kept, other = json.loads(file.read_text()), json.loads(file.read_text())
    other["key"] |= {n: v for n, v in make_key("Ed25519").items() if n in ("x", "d")}
    file.write_text(json.dumps(other))
    assert "shows the account and the credential as valid" in " ".join(said(3).split())
    file.write_text(json.dumps(kept))
    assert away.scim("DELETE", f"/Credentials/{key['id']}").status == 204
    assert "shows no such credential any more" in " ".join(said(4).split())
