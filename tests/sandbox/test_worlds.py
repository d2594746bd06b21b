"""World files: every planted mistake is told with its place; a running sandbox follows a changed file, and goes on after a stop."""

from __future__ import annotations

import json
import os
import signal
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from pydantic import BaseModel

from conftest import Desk
from sigillum.cli import sandboxes
from sigillum.reading import FileError
from sigillum.reading.models import Section
from sigillum.sandbox.app import House
from sigillum.sandbox.scim.attributes import ACCOUNT
from sigillum.sandbox.worlds import check, file
from sigillum.sandbox.worlds.merging import merged

DOCS = Path(__file__).parents[2] / "docs" / "sandbox.md"
DEMO = sandboxes.usual_world()
STARTER = DEMO.with_name("starter.yaml").read_text()


def mistakes(text: str) -> list[str]:
    try:
        check.check(text, "w.yaml")
    except FileError as problem:
        return [f"{m.position}: {m.what}; {m.mend}" for m in problem.mistakes]
    return []


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("tenants:", "tenant:", "did you mean `tenants`?"),
        ("  hill:\n", "  Hill:\n", "'Hill' is not a name"),
        ("title:", "titel:", "did you mean `title`?"),
        ("powers: all", "powers: [look, account]", "did you mean accounts?"),
        ("powers: all", "powers: every", "no power"),
        ("name: you, powers", "nam: you, powers", "did you mean `name`?"),
        ("credential_seconds: 7776000", "credential_seconds: -1", "no whole number"),
        ("credential_seconds", "credential_second", "did you mean `credential_seconds`?"),
        ("keys_per_principal: 2", "keys_per_principal: two", "no whole number"),
        ("class: looks", "class: look", "did you mean looks?"),
        ('"GET /notes/{place}"', '"GET notes"', "write it like"),
        ('"GET /notes/{place}"', '"FETCH /notes/{place}"', "is not a call"),
        ("service: notes}", "services: notes}", "did you mean `service`?"),
        ("permissions: [note.read]", "permissions: [note.reed]", "did you mean note.read?"),
        ("permissions: [note.read]", "permissions: note.read", "must be a list"),
        ("name: note-writer", "name: note-reader", "there are two: the role 'note-reader'"),
        ("hill/notes-prod/diary", "hill/notes-pod/diary", "did you mean hill/notes-prod?"),
        ("{path: hill, kind: organisation}", "{path: hill//x}", "is not a place"),
        ("path: hill/notes-prod/trial", "path: hill/notes-prod/diary", "there are two: the place"),
        ("test_object: true", "test_object: yes please", "must be true or false"),
        ("items: [{note: snow}", "items: [snow", "must be a mapping"),
        ("everyone: true", "members: [nobody]", "has no principal 'nobody'"),
        ("everyone: true", "reach: [hill/x]", "has no place 'hill/x'"),
        ("Client, Service", "Clint, Service", "did you mean Client?"),
        ("name: you@hill.example", "nmae: you@hill.example", "is not known here"),
        (
            "    without:",
            "    grants: [{to: you@hill.example, role: note-raeder, at: hill}]\n    without:",
            "did you mean note-reader?",
        ),
        (
            "    without:",
            "    grants: [{to: you@hill.example, role: note-reader, at: '@me'}]\n    without:",
            "has no account 'me'",
        ),
        (
            "    without:",
            "    grants: [{to: you@hill.example, role: note-reader, at: hill, from: 2027-01-01}]\n    without:",
            "is not an instant",
        ),
        (
            "    without:",
            "    grants: [{to: you@hill.example, role: note-reader, at: hill, from: 2027-01-02T00:00:00Z, until: 2027-01-01T00:00:00Z}]\n    without:",
            "does not lie after",
        ),
        ("    without:", "    credentials: [{of: me, name: k, limits: [note.x]}]\n    without:", "has no account 'me'"),
        (
            "    without:",
            "    licences: [{name: seat, total: 0, holders: [you@hill.example]}]\n    without:",
            "1 hold it, and there are 0",
        ),
        ("    without:", "    sign_in_rules: [{name: r, networks: [10.0.0.0/99]}]\n    without:", "no network"),
        ("    without:", "    sign_in_rules: [{name: r}]\n    without:", "is for nobody"),
        ("    without:", "    accounts_live_in: area\n    without:", "no place of the kind 'area'"),
        (
            "    without:",
            "    clients: [{name: c, permissions: [{api: mail, scope: s, acts: alone}]}]\n    without:",
            "has no API 'mail'",
        ),
        ("    without:", "    organisations: [vally]\n    without:", "has no neighbour 'vally'"),
        (
            "    without:",
            "    local_accounts: [{name: a, compartment: x}, {name: a, compartment: y}, {name: a, compartment: x}]\n    without:",
            "there are two: the local account 'a'",
        ),
        ("    without:", "    credentials: [{of: you@hill.example, name: k, kind: pasword}]\n    without:", "did you mean"),
        ("    without:", "    secret_delivery: twice\n    without:", "cannot be 'twice'"),
        ("    without:", "    slow: {User: {second: 3}}\n    without:", "did you mean `seconds`?"),
        ("    without:", "    preconditions: [{what: luck}]\n    without:", "cannot be 'luck'"),
        (
            "    admins:\n      - {name: you, powers: all}\n      - {name: watch, powers: [look]}             # may look, and change nothing\n",
            "    admins: []\n",
            "has no administrator",
        ),
    ],
)
def test_every_planted_mistake_is_told_with_its_place(old: str, new: str, told: str) -> None:
    assert old in STARTER
    found = mistakes(STARTER.replace(old, new, 1))
    assert any(told in f and f.startswith("w.yaml:") and not f.startswith("w.yaml:1:1:") for f in found), found


def test_all_mistakes_come_at_once_and_what_ships_has_none(bare: Desk) -> None:
    assert (mistakes(STARTER), mistakes(DEMO.read_text())) == ([], [])
    wrong = (
        STARTER.replace("class: looks", "class: look")
        .replace("[note.read]", "[note.reed]")
        .replace("path: hill/notes-prod/trial", "path: hill/x/trial")
    )
    assert len(mistakes(wrong)) == 3
    path = bare.folder / "w.yaml"
    assert bare.run("sandbox", "world", "new", str(path)).code == 0
    assert (bare.run("sandbox", "world", "new", str(path)).code, bare.run("sandbox", "world", "check", str(path)).code) == (
        3,
        0,
    )
    path.write_text(wrong)
    ran = bare.run("sandbox", "world", "check", str(path))
    assert (ran.code, ran.err.count(str(path)), "3 mistakes" in ran.err) == (3, 3, True)
    started = bare.run("sandbox", "start", "--world", str(path), "--background")
    assert (started.code, "did you mean note.read?" in started.err) == (3, True)
    assert bare.run("sandbox", "world", "check", "no.yaml").code == 3
    assert json.loads(bare.run("sandbox", "world", "schema").out) == check.schema()


def models() -> list[type[BaseModel]]:
    return [m for m in vars(file).values() if isinstance(m, type) and issubclass(m, Section) and m is not Section]


def test_the_page_names_everything_that_a_world_can_say() -> None:
    text = DOCS.read_text()
    for model in models():
        for name, field in model.model_fields.items():
            assert f"`{field.alias or name}`" in text, (model.__name__, name)


@pytest.mark.parametrize(
    ("now", "before", "after", "then"),
    [
        ({"a": 1, "b": 2}, {"a": 1}, {"a": 3}, {"a": 3, "b": 2}),
        ({"a": 9}, {"a": 1}, {"a": 1}, {"a": 9}),
        ({"a": 1, "b": 2}, {"a": 1}, {}, {"b": 2}),
        (
            {"m": [{"value": "x"}, {"value": "ours"}]},
            {"m": [{"value": "x"}]},
            {"m": [{"value": "y"}]},
            {"m": [{"value": "ours"}, {"value": "y"}]},
        ),
        ({"m": ["x", "ours"]}, {"m": ["x"]}, {}, {"m": ["ours"]}),
        ({"o": {"p": 1, "q": 2}}, {"o": {"p": 1}}, {"o": {"p": 5}}, {"o": {"p": 5, "q": 2}}),
    ],
)
def test_what_was_done_meanwhile_stays(now: Any, before: Any, after: Any, then: Any) -> None:
    assert merged(now, before, after) == then


def test_what_stands_already_has_its_kind_its_age_and_its_last_use() -> None:
    more = """\
    credentials:
      - of: you@hill.example
        name: old
        kind: api-token
        made: 2024-03-01T08:00:00Z
        last_used: 2026-06-01T09:30:00Z
        last_used_from: 192.0.2.7
    without:"""
    text = STARTER.replace("    without:", more).replace(
        "display: You}", "display: You, deputy: kai@hill.example, email: you@post.example, made: 2020-01-02T00:00:00Z}"
    )
    told = list[str]()
    house = House(check.check(text, "w.yaml"), "http://127.0.0.1:1", "t", tell=told.append)
    house.change(house.world)
    tenant = house.tenants["hill"]
    (user,) = tenant.store.records["User"].values()
    (key,) = tenant.store.records["Credential"].values()
    data = user.data or {}
    assert (user.created, data["emails"][0]["value"], data[ACCOUNT]["deputy"]) == (
        datetime(2020, 1, 2, tzinfo=UTC),
        "you@post.example",
        "kai@hill.example",
    )
    assert ((key.data or {})["kind"], key.created) == ("api-token", datetime(2024, 3, 1, 8, tzinfo=UTC))
    assert tenant.last_used(key.id) == {"lastUsedAt": "2026-06-01T09:30:00Z", "lastUsedFrom": "192.0.2.7"}
    tenant.use(key.id, "127.0.0.1")
    house.change(house.world)
    assert tenant.last_used(key.id)["lastUsedFrom"] == "127.0.0.1", "a use that was seen is newer"
    assert told[0].startswith("hill: 0 ")


DIARY = """\
charter: diary
tenant: hill
purpose: Writes the diary
owner: you@hill.example
identity: {kind: service-account, name: diary, display: Diary}
member_of: [writers]
grants:
  - {role: note-writer, at: hill/notes-prod, because: writes}
credentials:
  - {name: k, kind: key-pair, lasts: 30d}
proofs:
  - {can: note.write, at: hill/notes-prod/trial}
  - {cannot: note.delete, at: hill/notes-prod/diary}
"""


def test_a_running_sandbox_follows_its_file_and_goes_on_after_a_stop(bare: Desk) -> None:
    world, state = bare.folder / "w.yaml", bare.folder / "state.json"
    text = STARTER.replace("teams:\n", "teams:\n      - {name: writers, members: [you@hill.example]}\n")
    world.write_text(text)
    bare.charter(DIARY, "diary")
    start = ("sandbox", "start", "--background", "--state", str(state))
    try:
        assert bare.run(*start, "--world", str(world)).code == 0
        folder = bare.folder / ".sigillum" / "sandbox"
        about = json.loads((folder / "running.json").read_text())
        assert (
            bare.run(
                "tenant",
                "add",
                "hill",
                about["tenants"]["hill"]["address"],
                "--admin",
                "you",
                "--token",
                "file:.sigillum/sandbox/hill.you.token",
            ).code
            == 0
        )
        assert bare.run("enact", "diary", "--yes").code == 0
        changed = text.replace("display: You}", "display: Yourself}\n      - {name: kai@hill.example}").replace(
            "members: [you@hill.example]", "members: [kai@hill.example]"
        )
        world.write_text(
            changed.replace(
                "      - {path: hill/notes-prod/trial",
                "      - {path: hill/more, kind: project}\n      - {path: hill/notes-prod/trial",
            )
            .replace("keys_per_principal: 2", "keys_per_principal: 1")
            .replace("note-reader, display: Reads notes, permissions: [note.read]", "note-looker, permissions: [note.read]")
        )
        done = bare.run("sandbox", "change", str(world))
        assert (done.code, "What was enacted stays" in done.out) == (0, True), done.err
        assert bare.run("rehearse", "diary", "--strict").code == 0
        assert "hill/more" in bare.run("tenant", "places", "hill").out
        shown = " ".join(bare.run("tenant", "inspect", "hill").out.split())
        assert ("note-looker" in shown, "note-reader" in shown, "credentials each 1" in shown) == (True, False, True)
        team = next(
            t
            for t in sandboxes.control(folder, "state", {"tenant": "hill"})["resources"]["Group"]
            if t["displayName"] == "writers"
        )
        users = {u["id"]: u["userName"] for u in sandboxes.control(folder, "state", {"tenant": "hill"})["resources"]["User"]}
        assert sorted(users[m["value"]] for m in team["members"]) == ["diary", "kai@hill.example"]
        before = sandboxes.control(folder, "state", {"tenant": "hill"})
        assert bare.run("sandbox", "clock", "+2h").code == 0
        assert "clock: tenant" in (bare.folder / "sigillum.yaml").read_text()
        os.kill(json.loads((folder / "running.json").read_text())["pid"], 0)
        assert bare.run("sandbox", "stop").code == 0
        assert (state.stat().st_mode & 0o777, bare.run(*start).code) == (0o600, 0)
        assert json.loads((folder / "running.json").read_text())["port"] == about["port"]
        assert sandboxes.control(folder, "state", {"tenant": "hill"}) == before
        now = datetime.fromisoformat(sandboxes.control(folder, "clock")["now"].replace("Z", "+00:00"))
        assert timedelta(hours=1) < now - datetime.now(UTC) < timedelta(hours=3)
        assert (bare.run("rehearse", "diary", "--strict").code, bare.run("prove", "diary").code) == (0, 0)
        told = bare.run("sandbox", "clock", "+1h")
        assert "as sigillum.yaml says" in told.out
        bad = bare.folder / "bad.yaml"
        bad.write_text(text.replace("[note.read]", "[note.reed]"))
        refused = bare.run("sandbox", "change", str(bad))
        assert (refused.code, "did you mean note.read?" in refused.err) == (3, True)
        process = json.loads((folder / "running.json").read_text())["pid"]
        os.kill(process, signal.SIGKILL)
        os.waitpid(process, 0)
        assert (bare.run("sandbox", "show").out, bare.run("sandbox", "clock").code) == ("No sandbox runs here.\n", 6)
        state.write_text('{"version": 9}')
        odd = bare.run(*start)
        assert (odd.code, "did not start" in odd.err, "Traceback" in odd.err) == (8, True, False), odd.err
    finally:
        bare.run("sandbox", "stop")
