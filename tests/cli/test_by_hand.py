"""A tenant without an interface: facts from files, a work sheet, and people who confirm its lines."""

from __future__ import annotations

import hashlib
import itertools
import json
import os
import random
import shutil
import signal
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Away, Desk, Fork, Sandbox, examples
from sigillum.core.values.errors import FileError
from sigillum.reading.document import parse
from sigillum.reading.models import validate
from sigillum.tenants.by_hand.answers import AnswersFile

TODAY = datetime.now(UTC).date()
HEAD = f"# source: export\n# date: {TODAY}\n"
FILES = {
    "accounts.csv": HEAD
    + "id,name,display,active,purpose,owner,stage\n17,parts-scanner,Parts scanner,yes,Scans parts,ines@x.example,prod\n",
    "roles.csv": HEAD
    + "id,name,permissions\nr,stock-reader,stock.read=looks\nk,stock-clerk,stock.read=looks stock.book=changes-data\n",
    "places.json": json.dumps(
        {
            "source": "typed",
            "date": TODAY.isoformat(),
            "things": [{"id": 1, "path": "depot", "kind": "site"}, {"id": 2, "path": "depot/ropes", "test": True}],
        }
    ),
    "grants.csv": HEAD + "id,principal,role,place\n",
    "credentials.csv": HEAD + "id,principal,name,kind\n",
    "teams.csv": HEAD + "id,name,members\n9,crew,17\n",
}
CHARTER = """\
charter: rope-stock
tenant: depot
owner: mara.teel@brindlemoor.example
purpose: Reads how much rope is in stock
identity: {kind: service-account, display: Rope stock}
member_of: [crew]
grants: [{role: stock-reader, at: depot/ropes, for: 30d}]
credentials: [{name: stock-token, kind: api-token, lasts: 90d}]
proofs:
  - {can: stock.read, at: depot/ropes}
  - {cannot: stock.book, at: depot/ropes}
"""
ANSWERS: dict[str, Any] = {
    "make account rope-stock": {"id": "31", "by": "ines"},
    "add team 9": {"answer": True},
    "make grant stock-reader at depot/ropes": {"id": "g1"},
    "make credential stock-token": {"id": "c1"},
    "secret of credential stock-token": {"secret": "file:stock.secret", "for": "31"},
    "may stock.read at depot/ropes": {"answer": True},
    "may stock.book at depot/ropes": {"answer": False},
}
SECRET = "tok-of-the-depot-4711"


@pytest.fixture
def depot(bare: Desk) -> Desk:
    folder = bare.folder / "facts" / "depot"
    folder.mkdir(parents=True)
    for name, text in FILES.items():
        (folder / name).write_text(text)
    ran = bare.run(
        "tenant", "add", "depot", "https://depot.example", "--driver", "by-hand", "--admin", "ines.vole", "--stage", "test"
    )
    assert ran.code == 0, ran.err
    bare.charter(CHARTER, "rope-stock")
    (bare.folder / "stock.secret").write_text(SECRET)
    (bare.folder / "stock.secret").chmod(0o600)
    return bare


def keyed(answers: Any, generation: int = 1) -> Any:
    """The same by the keys that the work sheet has: of tenant, charter, and where something is made generation."""
    at = {k: f"depot/rope-stock{'' if k.startswith('may ') else f'/{generation}'} {k}" for k in answers}
    return {at[k]: v for k, v in answers.items()} if isinstance(answers, dict) else answers


def answered(desk: Desk, answers: dict[str, Any]) -> Any:
    (desk.folder / "done.yaml").write_text(json.dumps(keyed(answers)))
    return desk.program("enact", "rope-stock", "--yes", "--end", "--answers", "done.yaml", "--format", "json")


def look(desk: Desk) -> Any:
    return desk.run("rehearse", "rope-stock", "--format", "json").json["charters"][0]


def test_a_charter_serves_where_people_are_the_interface(depot: Desk) -> None:
    first = depot.program("enact", "rope-stock", "--yes")
    assert (first.code, "no one has confirmed it yet" in " ".join(first.out.split())) == (6, True)
    sheet = (depot.folder / "worksheets" / "rope-stock.md").read_text()
    for told in (
        "## 1. Make the account rope-stock",
        "- display: `Rope stock`",
        "- principal: `(from line 1)`",
        "Look afterwards:",
        "Comes back: its id.",
        "the secret, into Sigillum and nowhere else",
        "Try: cannot stock.book",
        "`depot/rope-stock/1 make account rope-stock: {id: '...'}`",
    ):
        assert told in sheet, told
    before = len(look(depot)["steps"])
    keys = list(ANSWERS)
    for number in range(1, len(keys)):  # one line a day
        ran = answered(depot, dict(list(ANSWERS.items())[:number]))
        assert ran.code == (1 if number >= 5 else 6), f"{number} {ran.out}{ran.err}"
        begins = hashlib.sha256(SECRET.encode()).hexdigest()[:12]
        assert (f"of 31, was received: its SHA-256 begins with {begins}" in ran.err) is (number == 5), ran.err
        assert ("no line asked for" in ran.err, "did you mean" in ran.err) == (
            number > 1,
            False,
        )  # what was done on the days before
    assert len(look(depot)["steps"]) < before
    ran = answered(depot, ANSWERS)
    assert ran.code == 0, ran.out + ran.err
    assert SECRET not in ran.out + ran.err
    proofs = ran.json["charters"][0]["proofs"]["proofs"]
    assert [(p["held"], p["how"]) for p in proofs] == [(True, "asked, not tried")] * 2
    seen = look(depot)
    assert (seen["steps"], seen["notes"]) == ([], [])
    (kept,) = (json.loads(p.read_text()) for p in (depot.folder / ".sigillum" / "keys").glob("*/*.json"))
    assert (kept["secret"], kept["credential"]["principal_id"], kept["credential"]["credential_id"]) == (SECRET, "31", "c1")
    entries = depot.run("ledger", "show", "rope-stock", "--entries", "--format", "json").json["entries"]
    confirmed = [(e["body"]["by"], e["body"]["about"]) for e in entries if e["kind"] == "confirmed"]
    assert confirmed[0] == ("ines", "account rope-stock")
    assert len(confirmed) == 5
    everything = sheet + json.dumps(entries) + "".join(p.read_text() for p in (depot.folder / "facts").rglob("*.*"))
    assert SECRET not in everything
    shown = depot.run("handover", "rope-stock", "--format", "json").json["sheets"][0]
    assert {v["value"]: v["problem"] for v in shown["values"] if v["problem"]} == {"token_endpoint": "depot names none"}
    assert depot.run("ledger", "verify").code == 0


def test_endings_changes_and_newer_exports(depot: Desk) -> None:
    assert answered(depot, ANSWERS).code == 0
    depot.charter(CHARTER.replace("member_of: [crew]\n", "").replace("display: Rope stock", "display: Ropes"), "rope-stock")
    assert [s["step"] for s in look(depot)["steps"]] == ["change", "end", "prove"]
    more = {
        "change account 31": {"answer": "yes", "by": "jon"},
        "take team 9": {"answer": True},
        **{k: v for k, v in ANSWERS.items() if k.startswith("may")},
    }
    ran = answered(depot, more)
    assert ran.code == 0, ran.out + ran.err
    path = depot.folder / "facts" / "depot" / "accounts.csv"
    path.write_text(path.read_text().replace(f"{TODAY}", f"{TODAY + timedelta(days=1)}"))  # a newer export, without ours
    assert look(depot)["steps"][0]["step"] in ("wait", "make")  # what was confirmed before that day counts no more
    path.write_text(path.read_text().replace(f"{TODAY + timedelta(days=1)}", f"{TODAY}"))  # of this day, and without ours
    os.utime(path, (time.time() + 60,) * 2)
    assert (look(depot)["steps"], [n["code"] for n in look(depot)["notes"]]) == ([], ["facts-old"])
    path.write_text(path.read_text().replace(f"{TODAY}", f"{TODAY}T00:00:00Z"))  # before it was confirmed
    assert (look(depot)["steps"], look(depot)["notes"]) == ([], [])
    path.write_text(path.read_text().replace(f"{TODAY}T00:00:00Z", f"{TODAY}T23:59:59Z"))  # after it
    assert look(depot)["steps"][0]["step"] in ("wait", "make")
    path.write_text(path.read_text().replace(f"{TODAY}T23:59:59Z", f"{TODAY - timedelta(days=30)}"))
    assert [n for n in look(depot)["notes"] if n["code"] == "facts-old"] == []
    path.write_text(path.read_text().replace(f"{TODAY - timedelta(days=30)}", f"{TODAY - timedelta(days=31)}"))
    assert "31 days old" in next(n["text"] for n in look(depot)["notes"] if n["code"] == "facts-old")


def test_lives_are_lines_of_the_sheet_and_nothing_ends_without_an_answer(depot: Desk) -> None:
    def said(words: tuple[str, ...], *lines: str) -> Any:
        (depot.folder / "said.yaml").write_text(
            json.dumps({line: {"answer": True, "by": "ines"} for line in lines or ("nothing",)})
        )
        return depot.program(*words, "--answers", "said.yaml")

    assert answered(depot, ANSWERS).code == 0
    sheet = depot.folder / "worksheets" / "rope-stock.md"
    for words, line in (
        (("rotate", "rope-stock"), "Make the credential stock-token-2"),
        (("suspend", "rope-stock", "--because", "x", "--yes"), "Change the account 31"),
        (("retire", "rope-stock", "--because", "x", "--yes"), "End the account 31"),
    ):
        ran = said(words)
        assert (ran.code, line in sheet.read_text()) == (6, True), f"{ran.out}{ran.err}{sheet.read_text()}"
        assert "whether it was us" not in ran.out
    off = said(("suspend", "rope-stock", "--because", "x", "--yes"), "depot/rope-stock/1 change account 31")
    assert (off.code, "is off" in off.out) == (0, True), off.out
    keys = [
        line.partition("`")[2].partition(": {")[0]
        for line in sheet.read_text().splitlines()
        if line.startswith("In a file of answers")
    ]
    assert len(keys) == 1
    said(("retire", "rope-stock", "--because", "x", "--yes"))
    keys = [
        line.partition("`")[2].partition(": {")[0]
        for line in sheet.read_text().splitlines()
        if line.startswith("In a file of answers")
    ]
    done = said(("retire", "rope-stock", "--because", "x", "--yes"), *keys)
    assert (done.code, "is retired" in done.out) == (0, True), done.out


@pytest.mark.parametrize(
    ("name", "old", "new", "told"),
    [
        ("accounts.csv", "# source: export\n", "", "where these facts come from"),
        ("accounts.csv", f"{TODAY}", "soon", "of which day"),
        ("accounts.csv", "id,name", "id,nmae", "did you mean name?"),
        ("accounts.csv", "17,parts", "17,x\n17,parts", "stands there twice"),
        ("accounts.csv", ",yes,", ",perhaps,", "write yes or no"),
        ("accounts.csv", "17,", ",", "it has to be there"),
        ("roles.csv", "=looks", "", "write thing.verb=CLASS"),
        ("places.json", '"things"', '"thinks"', "cannot be read"),
        ("places.json", "{", "[", "cannot be read"),
        ("grants.csv", "place\n", "place,until\ng,1,r,depot,noon\n", "until"),
    ],
)
def test_facts_are_checked_like_a_charter(depot: Desk, name: str, old: str, new: str, told: str) -> None:
    path = depot.folder / "facts" / "depot" / name
    assert old in path.read_text()
    path.write_text(path.read_text().replace(old, new, 1))
    ran = depot.run("rehearse", "rope-stock")
    assert (ran.code, told in ran.err, f"facts/depot/{name}:" in ran.err) == (3, True, True), ran.err


def test_what_no_file_tells_is_unknown_and_nothing_of_it_is_made(depot: Desk) -> None:
    folder = depot.folder / "facts" / "depot"
    (folder / "grants.csv").unlink()
    seen = look(depot)
    assert "grant" not in [s["facet"] for s in seen["steps"]]
    assert "no resource type for a grant" in next(n["text"] for n in seen["notes"] if n["code"] == "unknown")
    asked = depot.run("explain", "parts-scanner", "stock.read", "depot/ropes", "--format", "json")
    told = asked.json["questions"][0] if "questions" in asked.json else asked.json
    assert (asked.code, told["allowed"], told["cause"]) == (6, None, "facts-unknown")
    assert told["not_shown"] == [
        f"what is granted to {n} cannot be looked up: there is no file of facts about a grant"
        for n in ("parts-scanner", "crew")
    ]
    assert "not known" in depot.run("explain", "parts-scanner", "stock.read", "depot/ropes").out
    (folder / "acounts.csv").write_text(HEAD)
    assert "did you mean accounts?" in depot.run("rehearse", "rope-stock").err
    for path in folder.iterdir():
        path.unlink()
    ran = depot.run("rehearse", "rope-stock")
    assert (ran.code, "there are no facts of depot" in ran.err) == (3, True)


@pytest.mark.parametrize(
    ("answers", "code", "told"),
    [
        ({"make account rope-stock": {"id": "has spaces in it"}}, 6, "is not an identifier"),
        ({"make account rope-stock": {"answer": True}}, 6, "is not an identifier"),
        ({"make account rope-stock": {"answer": "off"}}, 6, "says that it is not done"),
        ({**ANSWERS, "add team 9": {"answer": "no"}}, 6, "says that it is not done"),
        ({**ANSWERS, "secret of credential stock-token": {"secret": SECRET, "for": "31"}}, 3, "instead of a reference"),
        ({**ANSWERS, "secret of credential stock-token": {"secret": "file:stock.secret"}}, 3, "whose secret it is"),
        (
            {**ANSWERS, "secret of credential stock-token": {"secret": "file:stock.secret", "for": "17"}},
            6,
            "gives a secret of 17, and this one is for 31",
        ),
        ([], 3, "mapping"),
        *(
            ({**ANSWERS, "add team 9": given}, 3, told)
            for given, told in (
                ({"answer": "perhaps"}, "'perhaps' is neither true nor false"),
                ({"answer": None}, "nothing is neither true nor false"),
                ({}, "says nothing"),
                ({"Answer": False}, "did you mean `answer`?"),
                ({"by": "ines"}, "says nothing"),
                ({"answer": 0}, "0 is neither true nor false"),
                ({"answer": False, "id": "7"}, "keep one of them"),
            )
        ),
        ({**ANSWERS, "may stock.read at depot/ropes": {"id": "x"}}, 1, "no one has answered the question yet"),
        ({**ANSWERS, "may stock.raed at depot/ropes": {"answer": True}}, 0, "did you mean 'depot/rope-stock may stock.read at"),
        ({**ANSWERS, "may stock.book at depot/ropes": {"answer": True}}, 1, "does not hold"),
    ],
)
def test_answers_are_checked(depot: Desk, tmp_path: Path, answers: Any, code: int, told: str) -> None:
    (depot.folder / "done.yaml").write_text(json.dumps(keyed(answers)))
    ran = depot.program("enact", "rope-stock", "--yes", "--answers", "done.yaml")
    assert (ran.code, told in " ".join((ran.out + ran.err).split())) == (code, True), ran.out + ran.err
    assert SECRET not in ran.out + ran.err


words = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(-2, 2),
    st.floats(allow_nan=False),
    st.text(max_size=6),
    st.sampled_from(["yes", "Yes", "YES ", "no", "off", "on", "true", "y", "n", "ja", "perhaps", "yes?", "~", "1"]),
    st.lists(st.booleans(), max_size=2),
    st.dictionaries(st.just("answer"), st.booleans(), max_size=1),
)


@settings(max_examples=examples(500), deadline=None)
@given(st.dictionaries(st.sampled_from(["answer", "Answer", "id", "secret", "for", "by", "done"]), words, max_size=4))
def test_nothing_is_a_yes_but_a_yes(given_: dict[str, Any]) -> None:
    text = json.dumps({"depot/rope-stock/1 add team 9": given_})
    try:
        (answer,) = validate(AnswersFile, parse(text, "done.yaml")).root.values()
    except FileError as problem:
        assert problem.mistakes and all(m.position is not None for m in problem.mistakes)
        return
    said = given_.get("answer")
    yes = said is True or (isinstance(said, str) and said.strip().lower() in ("yes", "true", "on"))
    assert (answer.answer is True) == yes
    assert answer.answer is not None or answer.id or answer.secret
    assert not answer.secret or answer.secret.partition(":")[0] in ("env", "file", "keyring", "store")


def test_line_by_line_at_a_terminal(depot: Desk) -> None:
    depot.charter(CHARTER.split("credentials:")[0].replace("member_of: [crew]\n", ""), "rope-stock")
    ran = depot.answered("31\ng1\n", "enact", "rope-stock", "--yes")
    assert ran.code == 0, ran.out + ran.err
    assert "Write the id that it has now" in ran.err
    depot.charter(CHARTER.split("credentials:")[0], "rope-stock")
    assert depot.answered("\n", "enact", "rope-stock", "--yes").code == 6
    assert depot.answered("yes\n", "enact", "rope-stock", "--yes").code == 0
    assert look(depot)["steps"] == []


def test_what_a_tenant_by_hand_needs_and_the_others(bare: Desk) -> None:
    without = bare.run("tenant", "add", "x", "https://x.example", "--admin", "a")
    assert (without.code, "--token" in without.err) == (2, True)
    empty = bare.run("tenant", "add", "x", "https://x.example", "--admin", "a", "--driver", "by-hand")
    assert (empty.code, "export or type them" in empty.err) == (3, True)
    assert bare.run(
        "tenant", "add", "x", "https://x.example", "--admin", "a", "--driver", "no-such", "--token", "env:X"
    ).code in (2, 3)


def test_what_a_standard_token_endpoint_allows_is_tried(depot: Desk, away: Away) -> None:
    """The same depot, whose accounts sign in at a token endpoint: a person makes account and key there by hand."""
    path = depot.folder / "sigillum.yaml"
    path.write_text(
        path.read_text().replace(
            "    driver: by-hand\n", f"    driver: by-hand\n    issuer: {away.address.removesuffix('/scim/v2')}\n"
        )
    )
    depot.charter(CHARTER.replace("member_of: [crew]\n", "").replace("kind: api-token", "kind: key-pair"), "rope-stock")
    user = away.make(
        "/Users", {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "userName": "rope-stock", "active": True}
    )
    answers = {"make account rope-stock": {"id": user["id"]}, "make grant stock-reader at depot/ropes": {"id": "g1"}}
    assert answered(depot, answers).code == 6
    sheet = (depot.folder / "worksheets" / "rope-stock.md").read_text()
    (kept,) = (json.loads(p.read_text())["key"] for p in (depot.folder / ".sigillum" / "keys").glob("*/*.json"))
    assert kept["d"] not in sheet
    made = away.make(
        "/Credentials",
        {
            "schemas": ["urn:sigillum:scim:1.0:Credential"],
            "principal": {"value": user["id"], "$ref": f"../Users/{user['id']}"},
            "kind": "key-pair",
            "active": True,
            "publicKey": {n: kept[n] for n in ("kty", "crv", "x")},
        },
    )
    ran = answered(
        depot,
        {
            **answers,
            "make credential stock-token": {"id": made["id"]},
            **{k: v for k, v in ANSWERS.items() if k.startswith("may")},
        },
    )
    assert ran.code == 0, ran.out + ran.err
    assert ran.json["charters"][0]["proofs"]["ran_as"] == f"a fresh token; the tenant says: {user['id']}"
    away.scim("DELETE", f"/Credentials/{made['id']}")
    again = depot.run("prove", "rope-stock")
    assert (again.code, "No live key" in again.err) == (4, True)


def test_clients_stand_in_facts_and_are_registered_by_hand(depot: Desk) -> None:
    folder = depot.folder / "facts" / "depot"
    (folder / "clients.csv").write_text(
        HEAD + "id,name,client_id,purpose,owner,stage\n77,old-board,c-77,Shows stock,ines@x.example,test\n"
    )
    depot.charter(
        CHARTER.replace("kind: service-account, display: Rope stock", "kind: client, name: stock-board")
        .replace("member_of: [crew]\n", "")
        .replace("kind: api-token", "kind: shared-secret"),
        "rope-stock",
    )
    lines = [s["about"] for s in depot.run("rehearse", "rope-stock", "--format", "json").json["charters"][0]["steps"]]
    assert lines[0].startswith("client registration stock-board"), lines
    waiting = depot.run("enact", "rope-stock", "--yes")
    assert waiting.code == 6
    sheet = (depot.folder / "worksheets" / "rope-stock.md").read_text()
    answers = {
        "make client stock-board": {"id": "c-81", "by": "ines"},
        "make grant stock-reader at depot/ropes": {"id": "g1"},
        "make credential stock-token": {"id": "c1"},
        "secret of credential stock-token": {"secret": "file:stock.secret", "for": "c-81"},
        "may stock.read at depot/ropes": {"answer": True},
        "may stock.book at depot/ropes": {"answer": False},
    }
    ran = answered(depot, answers)
    assert ran.code == 0, (ran.out, sheet)
    values = {
        v["value"]: v["content"] for v in depot.run("handover", "rope-stock", "--format", "json").json["sheets"][0]["values"]
    }
    assert values["client_id"] == "c-81"
    named = depot.run("rehearse", "rope-stock", "--strict")
    assert named.code in (0, 1), named.out


def test_a_foreign_principal_is_tied_to_a_client_that_was_registered_by_hand(depot: Desk, sandbox: Sandbox) -> None:
    summit = sandbox.tenant("summit")
    depot.know(summit)
    folder = depot.folder / "facts" / "depot"
    (folder / "clients.csv").write_text(HEAD + "id,name,client_id\n77,old-board,c-77\n")
    path = depot.folder / "sigillum.yaml"
    path.write_text(
        path.read_text().replace("https://depot.example", "https://depot.example\n    issuer: https://id.depot.example")
    )
    depot.charter(
        CHARTER.replace("kind: service-account, display: Rope stock", "kind: client, name: stock-board, usable_in: any-tenant")
        .replace("member_of: [crew]\n", "")
        .partition("credentials:")[0]
        .replace(
            "for: 30d}]",
            "for: 30d}, {role: stream-reader, at: brindlemoor/sensing-prod, in: summit, because: beside the wind}]",
        ),
        "rope-stock",
    )
    ran = answered(depot, {"make client stock-board": {"id": "c-81"}, "make grant stock-reader at depot/ropes": {"id": "g1"}})
    assert ran.code == 0, ran.out + ran.err
    (foreign,) = (u for u in summit.state()["resources"]["User"] if u["userName"] == "stock-board")
    about = foreign["urn:sigillum:scim:1.0:ServiceAccount"]
    assert (about["kind"], about["organisation"], about["subject"]) == ("foreign", "https://id.depot.example", "c-81")


def ten(depot: Desk) -> None:
    """Ten charters that use one name for their credential, and one file of answers for all of them."""
    answers: dict[str, Any] = {}
    for n in range(10):
        name = f"stock-{n}"
        text = CHARTER.partition("member_of")[0].replace("rope-stock", name).replace("display: Rope stock", f"name: {name}")
        depot.charter(f"{text}credentials: [{{name: tok, kind: api-token, lasts: 90d}}]\n", name)
        (depot.folder / f"{n}.secret").write_text(f"secret-of-{n}")
        (depot.folder / f"{n}.secret").chmod(0o600)
        at = f"depot/{name}/1"
        answers |= {
            f"{at} make account {name}": {"id": f"a{n}", "by": "ines"},
            f"{at} make credential tok": {"id": f"c{n}"},
            f"{at} secret of credential tok": {"secret": f"file:{n}.secret", "for": f"a{n}"},
        }
    (depot.folder / "charters" / "rope-stock.yaml").unlink()
    (depot.folder / "done.yaml").write_text(json.dumps(answers))


def secrets_kept(depot: Desk) -> list[tuple[str, str]]:
    """Whose secrets are kept, and which."""
    kept = [json.loads(p.read_text()) for p in depot.folder.glob(".sigillum/keys/*/*-[0-9].json")]
    return sorted((k["credential"].get("principal_id", ""), k["secret"]) for k in kept)


def check_ten(depot: Desk) -> None:
    ran = depot.program("enact", "--all", "--yes", "--answers", "done.yaml")
    assert ran.code == 0, ran.out + ran.err
    assert secrets_kept(depot) == [(f"a{n}", f"secret-of-{n}") for n in range(10)]
    confirmed = json.loads((depot.folder / "facts" / "depot" / "confirmed.json").read_text())["confirmed"]
    assert len(confirmed) == 20
    for n in range(10):
        told = depot.run("ledger", "show", f"stock-{n}", "--entries", "--format", "json").json["entries"]
        assert [e["kind"] for e in told].count("confirmed") >= 3


def test_ten_at_once_and_each_secret_at_its_own_principal(depot: Desk) -> None:
    """Several are carried out at the same time, and write one file."""
    ten(depot)
    check_ten(depot)


@pytest.mark.parametrize("rounds", [2, pytest.param(20, marks=pytest.mark.soak)])
def test_ten_at_once_killed_at_random_and_each_secret_at_its_own_principal(depot: Desk, forked: Fork, rounds: int) -> None:
    ten(depot)
    chance, clean = random.Random(7), depot.folder.with_name("clean")
    shutil.copytree(depot.folder, clean)
    for _ in range(rounds):
        for _ in range(chance.randint(1, 4)):
            left = itertools.count(chance.randint(1, 60), -1)

            def boundary(name: str, left: Iterator[int] = left) -> None:
                if next(left) <= 0:
                    os.kill(os.getpid(), signal.SIGKILL)

            forked(depot, ["enact", "--all", "--yes", "--answers", "done.yaml"], boundary)
            assert all(secret == f"secret-of-{who[1:]}" for who, secret in secrets_kept(depot) if who)
        check_ten(depot)
        shutil.rmtree(depot.folder)
        shutil.copytree(clean, depot.folder)
