"""Tenants that a dialect file describes: the built program against small services of other tastes."""

from __future__ import annotations

import os
import re
import shutil
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Desk, Fork, boundaries, examples, kill_at
from sigillum.core.kinds.changes import Change, End, Make
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.registry import KINDS
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.errors import SigillumError
from sigillum.core.values.secret import Secret
from sigillum.protocols.http import Http
from sigillum.reading.document import parse
from sigillum.reading.models import validate
from sigillum.tenants.dialect import shipped
from sigillum.tenants.dialect.driver import DialectTenant
from sigillum.tenants.dialect.model import DialectFile
from sigillum.tenants.port import Address, Link, Proof, Result
from tenants.quay import Quay
from tenants.services import Asked, Lock, Pierhead, Refuse, Service, Wharf, route
from tenants.shore import Berth, Cellar, Ferry
from tenants.skerry import Skerry

HERE = Path(__file__).parent / "dialects"
CHARTER = """\
charter: crane
tenant: {tenant}
owner: mara.teel@brindlemoor.example
purpose: Reads what lies at the piers
identity: {{kind: service-account, name: crane-7, display: Crane seven{area}}}
grants: [{{role: looker, at: {place}, because: it reads}}]
credentials: [{{name: crane-pass, kind: {kind}, lasts: 30d}}]
proofs:
  - {{can: {thing}.read, at: {place}}}
  - {{cannot: {thing}.{changes}, at: {trial}}}
"""
TASTES: dict[str, tuple[Callable[[], Any], str, dict[str, str]]] = {
    "pierhead": (
        Pierhead,
        "hugo.pell",
        {
            "place": "pierhead/north",
            "place_id": "2",
            "trial": "pierhead/trial",
            "kind": "api-token",
            "thing": "cargo",
            "changes": "load",
        },
    ),
    "lock": (Lock, "root", {"place": "north", "trial": "trial", "kind": "password", "thing": "key", "changes": "write"}),
    "wharf": (
        Wharf,
        "hugo.pell",
        {"place": "north", "trial": "trial", "kind": "api-token", "thing": "cargo", "changes": "load"},
    ),
    "ferry": (
        Ferry,
        "hugo.pell",
        {"place": "north", "trial": "trial", "kind": "key-pair, algorithm: ES256", "thing": "cargo", "changes": "load"},
    ),
    "berth": (
        Berth,
        "hugo.pell",
        {"place": "north", "trial": "trial", "kind": "api-token", "thing": "cargo", "changes": "load"},
    ),
    "cellar": (
        Cellar,
        "hugo.pell",
        {"place": "north", "trial": "trial", "kind": "api-token", "thing": "secret", "changes": "read"},
    ),
    "quay": (
        Quay,
        "hugo.pell",
        {
            "place": "north",
            "place_id": "7",
            "trial": "trial",
            "kind": "key-pair, algorithm: ES256",
            "thing": "cargo",
            "changes": "load",
            "area": ", area: north",
        },
    ),
    "skerry": (
        Skerry,
        "hugo.pell",
        {"place": "north", "trial": "trial", "kind": "api-token", "thing": "cargo", "changes": "load", "area": ", area: north"},
    ),
}


def text_of(name: str) -> str:
    """A dialect; pierhead's is the example of the documentation."""
    documented = (HERE.parents[2] / "docs" / "dialects.md").read_text()
    return (
        documented.partition("```yaml\n")[2].partition("```")[0] if name == "pierhead" else (HERE / f"{name}.yaml").read_text()
    )


class House:
    """A workspace that knows one of these services."""

    def __init__(self, desk: Desk, name: str) -> None:
        make, admin, words = TASTES[name]
        self.desk, self.name, self.service, self.charter = (
            desk,
            name,
            make(),
            CHARTER.format(tenant=name, **{"area": "", **words}),
        )
        self.words = words
        (desk.folder / "dialects").mkdir()
        (desk.folder / "dialects" / f"{name}.yaml").write_text(text_of(name))
        (desk.folder / "admin.secret").write_text(self.service.key)
        (desk.folder / "admin.secret").chmod(0o600)
        ran = desk.run(
            "tenant",
            "add",
            name,
            self.service.address,
            "--driver",
            "dialect",
            "--admin",
            admin,
            "--token",
            "file:admin.secret",
            "--stage",
            "test",
        )
        assert ran.code == 0, ran.out + ran.err

    def enact(self, *more: str) -> Any:
        self.desk.charter(self.charter, "crane")
        return self.desk.run("enact", "crane", "--yes", *more)

    def is_whole(self) -> None:
        """Exactly what is wanted stands there, and another run does nothing."""
        accounts, credentials, held = self.service.count()
        assert (accounts, credentials, len(held)) == (["crane-7"], 1, 1)
        made = self.service.changes
        ran = self.desk.run("enact", "crane", "--yes")
        assert (ran.code, self.service.changes) == (0, made), ran.out + ran.err
        assert self.desk.run("rehearse", "crane", "--format", "json").json["charters"][0]["steps"] == []


@pytest.fixture(params=TASTES)
def house(bare: Desk, request: pytest.FixtureRequest) -> Iterator[House]:
    made = House(bare, request.param)
    yield made
    made.service.stop()


@pytest.fixture
def pierhead(bare: Desk) -> Iterator[House]:
    made = House(bare, "pierhead")
    yield made
    made.service.stop()


def test_a_charter_serves_where_a_dialect_says_how(house: House) -> None:
    ran = house.enact()
    assert (ran.code, ran.out.count("holds "), house.service.key in ran.out + ran.err) == (0, 2, False), ran.out + ran.err
    house.is_whole()
    assert house.desk.run("ledger", "verify").code == 0


@pytest.mark.parametrize(
    ("number", "fate"),
    [
        *((n, "lost-after") for n in range(3)),
        *(pytest.param(n, f, marks=pytest.mark.soak) for n in range(3) for f in ("lost-before", "busy")),
    ],
)
def test_whatever_becomes_of_a_request_one_more_run_ends_with_what_is_wanted(house: House, number: int, fate: str) -> None:
    house.service.fates = [""] * number + [fate]
    for _ in range(2):
        ran = house.enact()
        assert "Traceback" not in ran.err
    assert ran.code == 0, ran.out + ran.err
    house.is_whole()


def test_others_entries_of_one_document_stay(pierhead: House) -> None:
    service = pierhead.service
    service.policies["2"] = (
        7,
        {
            "bindings": [
                {"role": "looker", "members": ["person:ada", "hand:1"]},
                {"role": "owner", "members": ["person:ada"], "note": "x"},
            ]
        },
    )
    assert pierhead.enact().code == 0
    [number] = service.hands
    theirs = {"role": "owner", "members": ["person:ada"], "note": "x"}
    assert service.policies["2"][1]["bindings"] == [
        {"role": "looker", "members": ["hand:1", f"hand:{number}", "person:ada"]},
        theirs,
    ]
    assert pierhead.desk.run("retire", "crane", "--because", "over", "--yes").code == 0
    assert service.policies["2"][1]["bindings"] == [{"role": "looker", "members": ["hand:1", "person:ada"]}, theirs]


def test_what_another_hand_may_have_written_is_used_and_not_ended(pierhead: House) -> None:
    service = pierhead.service

    def meanwhile() -> str:
        [number] = service.hands
        service.policies["2"] = (
            9,
            {"bindings": [{"role": "looker", "members": [f"hand:{number}"]}, {"role": "owner", "members": ["person:ada"]}]},
        )
        return "lost-before"

    service.fates = ["", meanwhile]
    ran = pierhead.enact()
    assert (ran.code, ran.out.count("holds ")) == (0, 2), ran.out + ran.err
    assert "cannot tell whether" in pierhead.desk.run("ledger", "show").out
    assert pierhead.desk.run("rehearse", "crane", "--format", "json").json["charters"][0]["steps"] == []
    assert pierhead.desk.run("retire", "crane", "--because", "over", "--yes").code in (0, 1)
    assert service.policies["2"][1]["bindings"][0] == {"role": "looker", "members": ["hand:100"]}


def test_a_late_write_that_brings_back_what_was_ended_is_waited_for(pierhead: House) -> None:
    desk, service = pierhead.desk, pierhead.service
    path = desk.folder / "dialects" / "pierhead.yaml"
    path.write_text(path.read_text().replace("      entries: /bindings", "      late: 12s\n      entries: /bindings"))
    service.counts = False  # its revision is made of its content
    service.fates = ["", "late"]
    assert pierhead.enact().code == 0
    pierhead.charter = "\n".join(line for line in pierhead.charter.splitlines() if "role: looker" not in line)
    ran = pierhead.enact("--no-prove")
    assert (ran.code, "may bring it back until" in " ".join(ran.out.split()), service.count()[2]) == (7, True, []), (
        ran.out + ran.err
    )
    assert (service.deliver(), len(service.count()[2])) == ([200], 1)
    ran = pierhead.enact("--no-prove", "--wait", "30s")
    assert (ran.code, service.count()[2], service.deliver()) == (0, [], []), ran.out + ran.err


def test_what_a_stranger_made_is_left_alone(pierhead: House) -> None:
    pierhead.service.hands["7"] = {"number": 7, "login": "crane-7", "caption": "Theirs", "remark": "", "state": "enabled"}
    ran = pierhead.enact()
    assert (ran.code, len(pierhead.service.hands), pierhead.service.changes) == (6, 1, 0), ran.out + ran.err
    ran = pierhead.enact("--adopt")
    assert (ran.code, pierhead.service.hands["7"]["caption"], len(pierhead.service.hands)) == (0, "Crane seven", 1), (
        ran.out + ran.err
    )


@pytest.mark.parametrize("odd", ["h\u200b1", "h/1?#&%2e", "h\u00ad1\u202e", "x" * 700])
def test_an_id_is_bytes_and_what_is_shown_is_never_sent_back(pierhead: House, odd: str) -> None:
    service = pierhead.service
    strangers = ["h 1", "h1", "h 1 ", "x" * 500, "x" * 500 + " ..."]  # what the id looks like, or looked like when it was cut
    for name in strangers:
        service.hands[name] = {"number": name, "login": f"of-{name}", "caption": "", "remark": "", "state": "enabled"}
    service.numbers = iter([odd])
    ran = pierhead.enact()
    assert (ran.code, ran.out.count("holds "), "\u200b" in ran.out, "\u202e" in ran.out) == (0, 2, False, False), (
        ran.out + ran.err
    )
    assert pierhead.desk.run("suspend", "crane", "--because", "x", "--yes").code == 0
    assert [n for n, h in service.hands.items() if h["state"] != "enabled"] == [odd]
    assert pierhead.desk.run("retire", "crane", "--because", "over", "--yes").code == 0
    assert (list(service.hands), service.count()[2]) == (strangers, [])


def test_an_entry_that_does_not_say_where_it_holds_holds_nowhere_that_we_know(bare: Desk) -> None:
    """An account's own area is no statement about its rights."""
    house = House(bare, "berth")
    try:
        assert house.enact().code == 0
        path = bare.folder / "dialects" / "berth.yaml"
        text = path.read_text().replace("role: /role, place: /where,", "role: /role,")
        text = text.replace("shows: {name: /label,", "shows: {area: {is: north}, name: /label,")
        path.write_text(text.replace("says: {arrival", "says: {accounts_live_in: place, arrival"))
        bare.charter(house.charter.replace("display: Crane seven", "display: Crane seven, area: north"), "crane")
        ran = bare.run("rehearse", "crane")
        assert "does not say its place" in " ".join((ran.out + ran.err).split()), ran.out + ran.err
        assert bare.run("rehearse", "crane", "--strict").code != 0
        assert len(house.service.count()[2]) == 1
    finally:
        house.service.stop()


def test_an_end_is_written_down_when_it_was_read_back(pierhead: House, monkeypatch: pytest.MonkeyPatch) -> None:
    """A tenant that answers 204 and ends nothing; and an address at which nothing of ours ever was."""
    desk, service = pierhead.desk, pierhead.service
    assert pierhead.enact().code == 0
    ended = service.end_hand
    monkeypatch.setattr(
        type(service), "end_hand", route("DELETE", "/v1/hands/([^/]+)")(lambda self, asked, number: (204, {}, None))
    )
    ran = desk.run("retire", "crane", "--because", "over", "--yes")
    assert (ran.code, len(service.hands), "Nothing is left" in ran.out, "is retired" in ran.out) == (7, 1, False, False), (
        ran.out + ran.err
    )
    assert "ended the account" not in desk.run("ledger", "show").out
    monkeypatch.setattr(type(service), "end_hand", ended.__func__)
    ran = desk.run("retire", "crane", "--because", "over", "--yes")
    assert (ran.code, service.count()) == (0, ([], 0, [])), ran.out + ran.err


def test_what_was_never_shown_is_not_gone(pierhead: House) -> None:
    """The tenant shows new accounts later than its dialect says."""
    desk, service = pierhead.desk, pierhead.service
    late = service.late_hands = dict[str, Any]()
    assert pierhead.enact().code == 7
    assert len(late) == 1
    ran = desk.run("retire", "crane", "--because", "over", "--yes")
    assert (ran.code, "may still appear" in " ".join((ran.out + ran.err).split())) == (7, True), ran.out + ran.err
    service.late_hands = None
    service.hands |= late
    ran = desk.run("retire", "crane", "--because", "over", "--yes")
    assert (ran.code, service.count()) == (0, ([], 0, [])), ran.out + ran.err


def test_a_person_may_say_that_it_is_gone(pierhead: House) -> None:
    pierhead.service.late_hands = {}
    assert pierhead.enact().code == 7
    assert pierhead.desk.run("retire", "crane", "--because", "over", "--yes", "--gone").code == 0


def test_the_ids_of_the_ledger_are_ids_of_one_tenant(pierhead: House, bare: Desk) -> None:
    """Another address in sigillum.yaml: nothing is done there, whatever it would answer."""
    assert pierhead.enact().code == 0
    settings, other = bare.folder / "sigillum.yaml", Pierhead()
    settings.write_text(settings.read_text().replace(pierhead.service.address, other.address))
    for words in (
        ("enact", "crane", "--yes"),
        ("prove", "crane"),
        ("rehearse", "crane"),
        ("retire", "crane", "--because", "over", "--yes"),
        ("suspend", "crane", "--because", "x", "--yes"),
    ):
        ran = bare.run(*words)
        assert (ran.code, other.seen, "tenant moved pierhead" in ran.out + ran.err) == (6, [], True), ran.out + ran.err
    assert bare.run("tenant", "moved", "pierhead", "--because", " ").code == 2
    other.hands, other.tokens, other.policies = pierhead.service.hands, pierhead.service.tokens, pierhead.service.policies
    ran = bare.run("tenant", "moved", "pierhead", "--because", "its new name")
    assert (ran.code, bare.run("prove", "crane").code) == (0, 0), ran.out + ran.err
    assert "its new name" in " ".join(bare.run("ledger", "show").out.split())
    assert bare.run("ledger", "verify").code == 0
    other.stop()


def test_its_credential_is_rotated_suspended_and_retired(pierhead: House) -> None:
    desk, service = pierhead.desk, pierhead.service
    assert pierhead.enact().code == 0
    ran = desk.run("rotate", "crane")
    assert ("the new crane-pass where its consumers read it" in ran.out, len(service.tokens)) == (True, 2), ran.out + ran.err
    ran = desk.run("rotate", "crane", "--end-old", "--yes", "--format", "json")
    assert ([t["title"] for t in service.tokens.values()], ran.json["rotations"][0]["stage"]) == (["crane-pass-2"], "ended"), (
        ran.out + ran.err
    )
    ran = desk.run("suspend", "crane", "--because", "x", "--yes")
    assert (ran.code, [r["state"] for r in service.hands.values()], "refused" in ran.out) == (0, ["disabled"], True), (
        ran.out + ran.err
    )
    assert "shows no versions" in " ".join(ran.out.split())
    assert desk.run("reinstate", "crane", "--because", "x").code == 6  # so it cannot be known whether it is off for both
    assert desk.run("reinstate", "crane", "--because", "x", "--switch-on").code == 0
    assert [r["state"] for r in service.hands.values()] == ["enabled"]
    ran = desk.run("retire", "crane", "--because", "over", "--yes")
    assert (ran.code, service.count()) == (0, ([], 0, [])), ran.out + ran.err


def test_all_ends_at_a_retirement(house: House) -> None:
    assert house.enact().code == 0
    ran = house.desk.run("retire", "crane", "--because", "over", "--yes")
    assert (ran.code, house.service.count()) == (0, ([], 0, [])), ran.out + ran.err
    assert "does not hold" not in ran.out


def test_a_dialect_is_tried(house: House) -> None:
    house.service.fates = []
    assert "never tried" in house.desk.run("tenant", "inspect", house.name).out
    ran = house.desk.run("dialect", "try", house.name, "--at", house.words["trial"], "--yes", "--format", "json")
    told = {r["what"]: r["came"] for r in ran.json["rows"]}
    assert (ran.code, house.service.count(), ran.json["left"]) == (0, ([], 0, []), []), ran.json
    assert ran.json["safety"] == ("name only" if house.name == "lock" else "mark kept")
    assert (
        f"{ran.json['safety']}, as tried on" in house.desk.run("tenant", "inspect", house.name).out,
        "differs" in told.values(),
    ) == (True, False), told


@pytest.mark.parametrize("named", ["ferry"], indirect=True)
def test_a_team_of_its_own_is_joined_and_left(named: House, monkeypatch: pytest.MonkeyPatch) -> None:
    words = ("dialect", "try", "ferry", "--at", "trial", "--yes", "--format", "json")
    told = {r["what"]: r["came"] for r in named.desk.run(*words).json["rows"]}
    team = [w for w in told if "team" in w]
    assert (len(team), {told[w] for w in team}, named.service.squads) == (6, {"works"}, {}), told
    nothing = route("PUT", "/squads/([^/]+)/members/([^/]+)")(lambda *_: (204, {}, None))
    monkeypatch.setattr(type(named.service), "into", nothing)  # it says that it did
    ran = named.desk.run(*words)
    wrong = [(r["what"], r["why"]) for r in ran.json["rows"] if r["came"] == "differs"]
    assert (ran.code, wrong) == (1, [("join the team, and read it back", "its members are [] afterwards")])


def test_a_trial_agrees_with_what_the_roles_say_and_names_the_call_that_does_not(
    pierhead: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(pierhead.service, "may", lambda *_: False)
    words = ("dialect", "try", "pierhead", "--at", "pierhead/trial", "--yes")
    ran = pierhead.desk.run(*words, "--format", "json")
    [wrong] = [r for r in ran.json["rows"] if r["came"] == "differs"]
    assert (ran.code, "by its roles it is allowed (GET /v1/piers/" in wrong["why"]) == (1, True), wrong
    broken = route("GET", "/v1/piers")(lambda *_: (500, {}, {"error": "no berth"}))
    monkeypatch.setattr(type(pierhead.service), "piers_", broken)
    ran = pierhead.desk.run(*words)
    assert (ran.code in (4, 5), "where  pierhead, GET /v1/piers" in ran.out + ran.err) == (True, True), ran.out + ran.err


def test_where_nobody_answers_nothing_is_said_of_the_dialect(pierhead: House) -> None:
    desk, address = pierhead.desk, pierhead.service.address
    (desk.folder / "wrong").write_text("wrong")
    (desk.folder / "wrong").chmod(0o600)
    add = (
        "tenant",
        "add",
        "more",
        address,
        "--driver",
        "dialect",
        "--dialect",
        "dialects/pierhead.yaml",
        "--admin",
        "x",
        "--token",
    )
    assert (desk.run(*add, "file:wrong").code, desk.run(*add, "file:admin.secret").code) == (4, 0)
    pierhead.service.stop()
    ran = desk.run("dialect", "try", "pierhead", "--yes")
    assert (ran.code, "nothing answers" in ran.err) == (5, True), ran.out + ran.err
    assert (
        not list((desk.folder / ".sigillum" / "discovered").glob("dialect_pierhead.json"))
        or "safety" not in (desk.folder / ".sigillum" / "discovered" / "dialect_pierhead.json").read_text()
    )


def test_a_server_that_ignores_revisions_is_told(pierhead: House) -> None:
    pierhead.service.heeds_etag = False
    ran = pierhead.desk.run("dialect", "try", "pierhead", "--at", "pierhead/trial", "--yes", "--format", "json")
    wrong = [r for r in ran.json["rows"] if r["came"] == "differs"]
    assert (ran.code, [r["what"] for r in wrong], "may be overwritten" in wrong[0]["why"]) == (
        1,
        ["an old revision of its document is refused"],
        True,
    )


# what is written instead of what, and what is told
@pytest.mark.parametrize(
    ("name", "old", "new", "told"),
    [
        ("pierhead", "name: /login", "nmae: /login", "did you mean name?"),
        ("pierhead", "'{name}'", "'{nme}'", "did you mean"),
        ("pierhead", "as: epoch", "as: epock", "did you mean epoch?"),
        ("pierhead", "get: /v1/piers", "get: v1/piers", "no address of a call"),
        ("pierhead", "'/v1/hands/{id}'", "'/v1/hands/{+id}'", "no address"),
        ("pierhead", "id: /number", "id: number", "JSON Pointer"),
        ("pierhead", "class: looks", "class: look", "no class of permissions"),
        ("pierhead", "offset: start", "offset: start, token: /x, query: t", "just one way"),
        ("pierhead", "means: exists", "means: exits", "did you mean exists?"),
        ("pierhead", "delete: '/v1/tokens/{id}'", "delete: '/v1/tokens/{id}', get: /x", "just one method"),
        ("pierhead", "permissions: [cargo.read]", "permissions: [cargo.red]", "did you mean cargo.read?"),
        ("pierhead", "id: [place, role, principal]", "id: [place, rol, principal]", "is not shown"),
        ("pierhead", "arrival: at-once, ", "", "`arrival` is missing"),
        ("pierhead", "each: account", "eech: account", "did you mean `each`?"),
        ("pierhead", "header: X-Pierhead-Key", "basic: '{admin}', header: X", "just one way"),
        ("lock", "by: {set", "bye: {set", "did you mean `by`?"),
        ("skerry", "post: /login, body", "post: /login, query: {p: '{secret}'}, body", "would stand in an address"),
        ("skerry", "post: /login, body", "post: '/login/{secret}', body", "would stand in an address"),
        ("skerry", "post: /login, body", "post: /login, headers: {Host: h}, body", "by the HTTP library alone"),
        ("skerry", "post: /login, body", "post: /login, headers: {content-length: '0'}, body", "by the HTTP library alone"),
        ("skerry", "post: /login, body", "post: /login, headers: {'X é': h}, body", "is no name of a header"),
        ("skerry", "post: /login, body", "post: /login, headers: {'': h}, body", "is no name of a header"),
        ("skerry", "post: /login, body", "post: /login, headers: {X: 'hé {id}'}, body", "no header can hold"),
        ("wharf", "'{until|last_day}'", "'{until|lastday}'", "did you mean last_day?"),
        ("ferry", "{value|quoted}", "{value}", "would be read as part of a search"),
        ("ferry", "signs: {algorithm", "sings: {algorithm", "did you mean `signs`?"),
        ("ferry", "{carrier|which}", "{carrier|wich}", "did you mean which?"),
        ("cellar", "end_version:", "end_versions:", "did you mean `end_version`?"),
        ("berth", "shows: {id: /number, principal", "shows: {principal", "the id is made of id"),
        ("ferry", "kid: '{thumbprint}'", "kid: '{thumb}'", "nothing here is called"),
        ("pierhead", "id: /number", "id: 5", "must be a mapping or a list, and this is a number"),
        ("pierhead", "id: /number", "id: {att: /x}", "did you mean `at`?"),
        ("pierhead", "status: 422", "status: x", "must be a list or a whole number"),
        ("pierhead", "arrival: at-once", "arrival: soon", "write at-once, unknown"),
        ("pierhead", "who: {get: /v1/me,", "who: {get: '/v1/me/{token}',", "{token} would stand in an address"),
        ("skerry", "members: /lights}", "members_: /lights}", "members come in and go out, and are not shown"),
        ("ferry", "members: /members}", "display: /x}", "are not shown: whether one is in"),
        ("ferry", "    shows: {name: /title", "    omits: [mebmers]\n    shows: {name: /title", "did you mean members?"),
        ("pierhead", "arrival: at-once, ", "arrival: at-once, grants_reach: beneath, ", "here-and-below"),
        (
            "wharf",
            "end: {delete: '/docks/{place}/holders/{principal}/{role}'",
            "end: {delete: '/docks/{role_id}'",
            "called {role_id}",
        ),
        ("berth", "'/services/{principal}/secrets/{id}'", "'/services/{principal}/{thumbprint}'", "called {thumbprint}"),
        ("skerry", "", "", ""),
        ("skerry", "header: X-Light-Token}", "heder: X-Light-Token}", "did you mean `header`?"),
        ("skerry", "{account_id}", "{acount_id}", "did you mean account_id?"),
        ("skerry", "entries: /lights, entry", "add: {put: /x}, entries: /lights, entry", "how an entry comes in"),
        ("quay", "make: {post: '/yards", "make: {by: identity, post: '/yards", "an identity makes a credential itself"),
        ("quay", "make: {post: '/yards", "make: {limit: '{role_id}', post: '/yards", "nothing is limited to roles there"),
        ("quay", "make: {post: '/yards", "make: {when: {tipe: x}, post: '/yards", "nothing here is called {tipe}"),
        ("quay", "length: 12", "length: 4", "make it longer"),
        ("quay", "alphabet: abc", "alphabet: aabc", "each of its characters once"),
        ("quay", "", "", ""),
        ("ferry", "", "", ""),
        ("berth", "", "", ""),
        ("cellar", "", "", ""),
        ("wharf", "", "", ""),
        ("lock", "", "", ""),
        ("pierhead", "", "", ""),
    ],
)
def test_a_dialect_is_checked_like_a_charter(bare: Desk, name: str, old: str, new: str, told: str) -> None:
    (bare.folder / "dialects").mkdir()
    (bare.folder / "dialects" / "x.yaml").write_text(text_of(name).replace(old, new))
    ran = bare.run("dialect", "check")
    assert (ran.code, told in ran.out + ran.err) == (3 if told else 0, True), ran.out + ran.err
    if not told:
        assert ("no `change:` covers account: display" in ran.out) is (name == "wharf")
    if told:
        assert "dialects/x.yaml:" in ran.err
        assert bare.run("dialect", "check", "--format", "json").json["good"] is False


def test_one_is_begun_by_questions_and_never_guessed(bare: Desk) -> None:
    words = (
        "dialect",
        "draft",
        "pierhead",
        "--token-header",
        "X-Key",
        "--token-value",
        "{secret}",
        "--items",
        "",
        "--id",
        "/id",
        "--login",
        "/login",
        "--arrival",
        "30s",
    )
    assert bare.run(*words, "--accounts", "hands").code == 2
    assert bare.run(*words, "--accounts", "/hands").code == 0
    assert "# make:" in (bare.folder / "dialects" / "pierhead.yaml").read_text()
    assert (
        bare.run("dialect", "check", "dialects/pierhead.yaml").code,
        bare.run(*words, "--accounts", "/hands").code,
        bare.run("dialect", "draft", "x").code,
    ) == (0, 3, 2)
    judge = jsonschema.Draft202012Validator(bare.run("dialect", "schema").json)
    root = HERE.parents[2]
    for text in [
        *map(text_of, TASTES),
        *(
            p.read_text()
            for p in (
                *root.glob("src/sigillum/tenants/dialect/shipped/*.yaml"),
                *root.glob("src/sigillum/example/dialects/*.yaml"),
            )
        ),
    ]:
        assert [e.message for e in judge.iter_errors(parse(text, "x.yaml").data)] == []
        assert not judge.is_valid(
            parse(
                text.replace("means: exists", "means: exits")
                .replace("id: /", "id: ")
                .replace("arrival: at-once", "arrival: soon"),
                "x.yaml",
            ).data
        )
    assert bare.run("dialect", "try", "nowhere", "--yes").code == 3


def speaking(service: Service, name: str) -> DialectTenant:
    dialect = validate(DialectFile, parse(text_of(name), "x.yaml"))
    return DialectTenant(
        Address(name, service.address, admin=TASTES[name][1], driver="dialect"),
        Link(Secret(service.key), HERE),
        dialect,
        Http(origins=[service.address]),
    )


@pytest.fixture
def named(bare: Desk, request: pytest.FixtureRequest) -> Iterator[House]:
    made = House(bare, request.param)
    yield made
    made.service.stop()


@pytest.mark.parametrize("named", ["ferry"], indirect=True)
def test_a_loan_takes_the_place_of_a_level_and_gives_it_back(named: House) -> None:
    desk, service = named.desk, named.service
    assert named.enact().code == 0
    service.levels["north", "crew", "else"] = "steer"
    [who] = service.crew
    ran = desk.run("lend", "clerk", "--at", "north", "--to", "crane-7", "--for", "10m", "--because", "x", "--yes")
    assert (ran.code, "looker gave way to it" in ran.out, service.levels["north", "crew", who]) == (0, True, "steer"), (
        ran.out + ran.err
    )
    assert "comes back after it" in " ".join(desk.run("rehearse", "crane").out.split())
    assert "until it is swept" in desk.run("due", "--within", "30d").out
    assert desk.run("recall", "--to", "crane-7").code == 0
    assert service.levels == {("north", "crew", who): "watch", ("north", "crew", "else"): "steer"}
    service.levels["north", "crew", who] = "steer"  # a stranger's, and not ours to replace
    ran = desk.run("rehearse", "crane")
    assert (ran.code, "level-taken" in desk.run("rehearse", "crane", "--format", "json").out) == (3, True), ran.out + ran.err


def described(house: House, *changes: tuple[str, str]) -> None:
    """The same service, and a dialect that says less of it."""
    path = house.desk.folder / "dialects" / f"{house.name}.yaml"
    text = path.read_text()
    for old, new in changes:
        assert old in text, old
        text = text.replace(old, new)
    path.write_text(text)


@pytest.mark.parametrize("named", ["ferry"], indirect=True)
def test_a_level_that_somebody_raised_is_seen_where_the_id_has_no_level_in_it(named: House) -> None:
    described(named, ("id: [place, carrier, principal, role]", "id: [place, carrier, principal]"))
    desk, service = named.desk, named.service
    assert named.enact().code == 0
    named.is_whole()
    [key] = service.levels
    service.levels[key] = "steer"
    ran = desk.run("rehearse", "crane", "--format", "json", "--strict")
    assert (ran.code, [m["code"] for m in ran.json["charters"][0]["mistakes"]]) == (3, ["level-taken"]), ran.out + ran.err
    assert (named.enact().code, service.levels[key]) == (3, "steer")


@pytest.mark.parametrize("named", ["ferry"], indirect=True)
def test_a_key_whose_print_is_not_shown_is_neither_the_same_nor_another(named: House) -> None:
    described(named, ("public_key: {at: /jwk, as: jwk}, ", ""))
    assert named.enact().code == 0
    named.is_whole()
    [key] = named.service.keys
    for _ in range(2):
        assert (named.enact().code, list(named.service.keys)) == (0, [key])


@pytest.mark.parametrize("named", ["ferry"], indirect=True)
def test_what_is_never_shown_is_sent_when_the_wish_has_changed_and_only_then(named: House) -> None:
    described(named, ("display: /title, ", ""))
    desk, service = named.desk, named.service
    assert named.enact().code == 0
    named.is_whole()
    named.charter = named.charter.replace("Crane seven", "Crane number seven")
    desk.charter(named.charter, "crane")
    assert "display: sent, not read back" in " ".join(desk.run("rehearse", "crane").out.split())
    assert (named.enact().code, [c["title"] for c in service.crew.values()]) == (0, ["Crane number seven"])
    named.is_whole()
    told = " ".join(desk.run("tenant", "inspect", "ferry").out.split())
    assert "never shown account: display" in told, told


@pytest.mark.parametrize("named", ["ferry"], indirect=True)
def test_what_an_answer_leaves_out_is_not_known_and_changes_nothing(named: House) -> None:
    desk, service = named.desk, named.service
    assert named.enact().code == 0
    [who] = service.crew.values()
    title, changes = who.pop("title"), service.changes
    ran = desk.run("rehearse", "crane", "--strict")
    assert (ran.code, "display of the account crane-7 is not shown at ferry now" in " ".join(ran.out.split())) == (1, True)
    ran = named.enact("--no-prove")
    assert (ran.code, service.changes) == (6, changes), ran.out
    assert "Not known whether it is as the charter says: 1 field not shown now." in ran.out
    who["title"] = title
    named.is_whole()


@pytest.mark.parametrize("named", ["ferry"], indirect=True)
def test_of_an_id_that_an_account_and_a_team_have_nobody_can_say_whose_it_is(named: House) -> None:
    named.enact()
    [who] = named.service.count()[0]
    identity = next(record["uid"] for record in named.service.crew.values() if record["handle"] == who)
    named.service.squads[identity] = {"squad": identity, "title": "helm", "members": []}
    ran = named.desk.run("explain", who, "cargo.read", "north")
    assert "is the id of an account and of a team there" in " ".join(ran.out.split()), ran.out + ran.err


@pytest.mark.parametrize("named", ["ferry"], indirect=True)
def test_rights_through_squads_count_and_what_is_hidden_is_told_from_what_is_not_there(named: House) -> None:
    desk, service = named.desk, named.service
    service.squads["s1"] = {"squad": "s1", "title": "helm", "members": []}
    named.charter += "member_of: [helm]\n"
    assert named.enact().code == 0
    [who] = service.crew
    assert service.squads["s1"]["members"] == [who]
    service.levels["trial", "squads", "s1"] = "steer"
    ran = desk.run("explain", "crane-7", "cargo.load", "trial")
    assert "helm" in ran.out, ran.out + ran.err
    assert desk.run("prove", "crane").code == 1  # the squad lets it do what it cannot do
    assert service.squads["s1"]["members"] == [who]
    service.decks.append("dark")
    assert any(c.endswith("/oauth/scopes") for c in service.seen)


@pytest.mark.parametrize("named", ["ferry"], indirect=True)
def test_members_that_are_not_shown_are_not_none(named: House) -> None:
    desk, service = named.desk, named.service
    service.squads["s1"] = {"squad": "s1", "title": "helm", "members": []}
    assert named.enact().code == 0
    service.squads["s1"]["members"], service.levels["trial", "squads", "s1"] = list(service.crew), "steer"
    path = desk.folder / "dialects" / "ferry.yaml"
    shown = re.sub(r"    lists:\n      members:\n.*\n.*\n", "", path.read_text())
    path.write_text(re.sub(r"(cargo.load: \{class: changes-data).*", r"\1}", shown.replace(", members: /members}", "}")))
    ran = desk.run("explain", "crane-7", "cargo.load", "trial")
    assert ("in no team" in ran.out, "not shown" in ran.out, "not known" in ran.out) == (False, True, True), ran.out
    ran = desk.run("prove", "crane", "--format", "json")
    assert (ran.code, [p["held"] for p in ran.json["charters"][0]["proofs"]]) == (1, [True, None]), ran.out + ran.err
    path.write_text(
        shown.replace("shows: {name: /title, mark: /note, members: /members}", "shows: {name: /title, members: /crew}")
    )
    ran = desk.run("explain", "crane-7", "cargo.load", "trial")
    assert "its members was left out" in " ".join(ran.out.split()), ran.out
    path.write_text(
        shown.replace(
            "shows: {name: /title, mark: /note, members: /members}",
            "omits: [members]\n    shows: {name: /title, members: /crew}",
        )
    )
    assert "in no team" in desk.run("explain", "crane-7", "cargo.load", "trial").out


@pytest.mark.parametrize("reach", ["here", "below", "here-and-below"])
def test_how_far_a_grant_reaches_is_the_tenants_to_say(pierhead: House, reach: str) -> None:
    """What is foreseen is what the tenant does, at the grant's place and below it."""
    desk, path = pierhead.desk, pierhead.desk.folder / "dialects" / "pierhead.yaml"
    path.write_text(path.read_text().replace("says: {arrival", f"says: {{grants_reach: {reach}, arrival"))
    pierhead.service.reach = reach
    wanted = [("pierhead", reach != "below"), ("pierhead/north", reach != "here"), ("pierhead/trial", reach != "here")]
    pierhead.charter = (
        pierhead.charter.partition("proofs:")[0].replace("role: looker, at: pierhead/north", "role: looker, at: pierhead")
        + "proofs:\n"
        + "".join(f"  - {{{'can' if yes else 'cannot'}: cargo.read, at: {at}}}\n" for at, yes in wanted)
    )
    ran = pierhead.enact()
    assert (ran.code, ran.out.count("holds ")) == (0, 3), ran.out + ran.err
    for at, yes in wanted:
        ran = desk.run("explain", "crane-7", "cargo.read", at)
        assert (ran.code, "and not" in ran.out) == (0 if yes else 1, not yes), ran.out + ran.err
    desk.charter(pierhead.charter.replace("cannot:", "xx:").replace("can:", "cannot:").replace("xx:", "can:"), "crane")
    assert desk.run("rehearse", "crane").code == 3  # nothing of what is wanted now would hold


class Sessions(Pierhead):
    """A token is exchanged for a session at one pier, which is worth nothing at another."""

    def __init__(self) -> None:
        super().__init__()
        self.sessions = dict[str, tuple[Any, str]]()

    @route("POST", "/v1/sessions")
    def session(self, asked: Asked) -> Any:
        found = next((t for t in self.tokens.values() if t["secret"] == asked.body["token"]), None)
        pier = asked.body.get("pier", "")
        if found is None or not self.may(found["hand"], pier, ("looker", "clerk", "none")):
            raise Refuse(401, {"error": {"message": "no session"}})
        self.sessions[f"s{len(self.sessions)}"] = found["hand"], pier
        return 201, {}, {"session": f"s{len(self.sessions) - 1}"}

    def who(self, asked: Asked) -> Any:
        hand, pier = self.sessions.get((asked.headers.get("Authorization") or "").removeprefix("Session "), ("", ""))
        where = asked.path.split("/")[3] if asked.path.startswith("/v1/piers/") else pier
        if not hand or where != pier or self.hands[hand]["state"] != "enabled":
            raise Refuse(403, {"error": {"message": "not a session of this pier"}})
        return self.hands[hand]


def test_a_refusal_of_a_token_for_another_place_shows_nothing(bare: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(TASTES, "pierhead", (Sessions, *TASTES["pierhead"][1:]))
    house = House(bare, "pierhead")
    path = bare.folder / "dialects" / "pierhead.yaml"
    path.write_text(
        path.read_text().replace(
            "{header: Authorization, value: 'Token {secret}'}",
            "{header: Authorization, value: 'Session {token}', first: {post: /v1/sessions, "
            "body: {token: '{secret}', pier: '{place_id}'}, token: /session}}",
        )
    )
    house.charter = house.charter.replace(
        "because: it reads}", "because: it reads}, {role: looker, at: pierhead/trial, because: it reads}"
    ).replace("proofs:", "proofs:\n  - {can: cargo.read, at: pierhead/trial}")
    ran = house.enact()
    assert (ran.code, ran.out.count("holds ")) == (0, 3), ran.out + ran.err
    ran = bare.run("prove", "crane", "--format", "json")
    assert [p["said"].partition(" ")[0] for p in ran.json["charters"][0]["proofs"]] == ["done", "done", "refused"], ran.out
    charter = house.charter.replace(", {role: looker, at: pierhead/trial, because: it reads}", "")
    bare.charter(
        charter.replace("  - {can: cargo.read, at: pierhead/trial}\n", "  - {cannot: cargo.read, at: pierhead/trial}\n"),
        "crane",
    )
    ran = bare.run("enact", "crane", "--yes", "--end", "--format", "json")
    bare.run("prove", "crane")
    ran = bare.run("prove", "crane", "--format", "json")
    [told] = [p["said"] for p in ran.json["charters"][0]["proofs"] if p["expectation"] == "cannot cargo.read at pierhead/trial"]
    assert (ran.code, "tokens are for one place" in told) == (0, True), ran.out
    house.service.stop()


@pytest.mark.parametrize("named", ["cellar"], indirect=True)
def test_a_store_keeps_a_credential_of_another_tenant_and_no_old_version_of_it(named: House) -> None:
    desk, store, pierhead = named.desk, named.service, Pierhead()
    (desk.folder / "dialects" / "pierhead.yaml").write_text(text_of("pierhead").replace("tokens_live: 1h", "tokens_live: 1s"))
    assert (
        desk.run(
            "tenant",
            "add",
            "pierhead",
            pierhead.address,
            "--driver",
            "dialect",
            "--admin",
            "hugo.pell",
            "--token",
            "file:admin.secret",
        ).code
        == 0
    )
    kept = CHARTER.format(tenant="pierhead", area="", **TASTES["pierhead"][2]).replace(
        "lasts: 30d", "lasts: 30d, keep_in: 'store:cellar/north/crane'"
    )
    desk.charter(kept, "crane")
    ran = desk.run("enact", "crane", "--yes")
    assert (ran.code, sorted(store.bins["north"])) == (0, ["crane", "crane-g1"]), ran.out + ran.err
    [token] = pierhead.tokens.values()
    assert token["secret"] in store.bins["north"]["crane"][-1][1]
    for words in (("rotate", "crane"), ("rotate", "crane", "--end-old", "--yes"), ("rotate", "crane")):
        ran = desk.run(*words)
        time.sleep(2.1)  # as long as its tokens live
    [token] = pierhead.tokens.values()
    assert (sorted(store.bins["north"]), len(store.bins["north"]["crane"])) == (["crane", "crane-g2"], 1), ran.out + ran.err
    assert token["secret"] in store.bins["north"]["crane"][-1][1]
    assert not any(token["secret"].encode() in p.read_bytes() for p in desk.folder.rglob("*") if p.is_file())
    assert desk.run("retire", "crane", "--because", "over", "--yes").code == 0
    assert store.bins["north"] == {}
    pierhead.stop()


@pytest.mark.parametrize("named", ["berth"], indirect=True)
def test_use_is_seen_where_a_dialect_shows_it(named: House) -> None:
    desk, service = named.desk, named.service
    # its tokens live so long that no machine is slow enough for the old one to fall quiet while this looks
    (desk.folder / "dialects" / "berth.yaml").write_text(text_of("berth").replace("tokens_live: 1s", "tokens_live: 1h"))
    assert named.enact().code == 0
    ran = desk.run("rotate", "crane", "--format", "json")
    assert ran.json["rotations"][0]["stage"] == "given", ran.out
    for one in service.secrets.values():
        one["last_seen"] = (
            None if one["title"] == "crane-pass" else int(time.time()) + 90
        )  # somebody else, after our own sign-in
    ran = desk.run("rotate", "crane", "--format", "json")
    assert ran.json["rotations"][0]["stage"] == "taken", ran.out + ran.err


HOSTILE = [
    "",
    ".",
    "..",
    "/",
    "//",
    "../x",
    "a/b",
    "a/../b",
    "?",
    "a?b=c",
    "#",
    "a#b",
    "%2f",
    "%",
    "%00",
    "\x00",
    "a\nb",
    "a\r\nX-Y: z",
    "\t",
    " ",
    " a ",
    "a b",
    '"',
    '\\"',
    "'",
    "\\",
    "{",
    "}",
    "{id}",
    "{name}",
    "{secret}",
    "{{x}}",
    "$(id)",
    "`id`",
    ";",
    "&",
    "a&b=c",
    "=",
    "+",
    "*",
    "|",
    "<x>",
    "\u202e",
    "\u200b",
    "ä",
    "漢字",
    "🔑",
    "ﬀ",
    "İ",
    "null",
    "true",
    "0",
    "-1",
    "1e9",
    "[]",
    "{}",
    "[1]",
    '{"a":1}',
    "//evil.example/x",
    "http://evil.example/",
    "@evil.example",
    "a:b@c",
    "\\\\host\\x",
    "x" * 5000,
    "' or 1=1 --",
    "*)(uid=*",
]


def test_no_value_changes_the_shape_of_a_request(pierhead: House) -> None:
    service, tenant = pierhead.service, speaking(pierhead.service, "pierhead")
    assert len(HOSTILE) >= 60
    for value in HOSTILE:
        made = tenant.make(Make(ACCOUNT, {"name": value, "display": value, "active": True}), "m-1")
        assert made.result is Result.DONE, (value, made)
        hand = service.hands.pop(made.record.id)  # type: ignore[union-attr]
        assert (hand["login"], hand["caption"], hand["state"], len(hand)) == (value, value, "enabled", 5)
        before = len(service.seen)
        acts: list[Callable[[], Any]] = [
            partial(tenant.end, End(ACCOUNT, value)),
            partial(tenant.change, Change(ACCOUNT, value, {"active": False})),
            partial(tenant.fetch_secret, value),
            partial(tenant.facts, [Query(CREDENTIAL, "principal", value)]),
        ]
        for act in acts:
            try:
                act()
            except SigillumError:
                continue
        try:
            tenant.read(ACCOUNT, value)
        except SigillumError:
            assert value in ("", ".", "..")
        assert all(
            path.count("/") == 3 and path.startswith(("GET /v1/hands/", "DELETE /v1/hands/", "PUT /v1/hands/"))
            for path in service.seen[before:]
            if path != "GET /v1/hands"
        ), (value, service.seen[before:])
        if value in ("", ".", ".."):  # an empty path, or one of dots, would name the collection or what is above it
            assert set(service.seen[before:]) <= {"GET /v1/hands"}, (value, service.seen[before:])


def test_a_token_that_runs_as_somebody_else_proves_nothing(pierhead: House) -> None:
    service = pierhead.service
    assert pierhead.enact().code == 0
    answer = service.answer
    service.answer = lambda asked: (200, {}, {"hand": "boss"}) if asked.path == "/v1/me" else answer(asked)
    ran = pierhead.desk.run("prove", "crane")
    assert (ran.code, "it runs as boss, not as" in ran.err) == (4, True), ran.out + ran.err


@pytest.mark.parametrize("named", ["ferry"], indirect=True)
def test_nobodys_level_is_overwritten(named: House) -> None:
    """Not even where it came between looking and making: the driver looks once more."""
    service = named.service
    assert named.enact().code == 0
    tenant = speaking(service, "ferry")
    query = Query(KINDS["place"], "path", "north")
    [place] = tenant.facts([query])[query].records
    [who] = service.crew
    part = {"principal": who, "carrier": "account", "role": "clerk", "place": "north", "place_id": place.id, "role_id": ""}
    for over, result in (("", Result.REFUSED), ("clerk", Result.REFUSED), ("looker", Result.DONE)):
        reply = tenant.make(Make(KINDS["grant"], {**part, "over": over}), "m-1")
        assert (reply.result, service.levels["north", "crew", who]) == (
            result,
            "watch" if result is Result.REFUSED else "steer",
        )


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=8),
    lambda inner: (
        st.lists(inner, max_size=4)
        | st.dictionaries(
            st.sampled_from(
                [
                    "data",
                    "hands",
                    "number",
                    "login",
                    "state",
                    "remark",
                    "token_id",
                    "expires",
                    "bindings",
                    "members",
                    "role",
                    "id",
                    "above",
                    "name",
                    "error",
                    "code",
                ]
            ),
            inner,
            max_size=6,
        )
    ),
    max_leaves=20,
)


def test_whatever_an_answer_holds_nothing_breaks(pierhead: House) -> None:
    service, tenant = pierhead.service, speaking(pierhead.service, "pierhead")

    @settings(max_examples=examples(80), deadline=None)
    @given(JSON, st.sampled_from([200, 200, 200, 201, 204, 400, 403, 404, 409, 422, 429, 500]))
    def answered(body: Any, status: int) -> None:
        service.answer = lambda asked: (status, {}, body)
        for kind in ("account", "place", "credential", "grant", "role"):
            for query in (Query(KINDS[kind], "all"), Query(KINDS[kind], "id", "1"), Query(KINDS[kind], "mark", "m")):
                try:
                    fact = tenant.facts([query])[query]
                except SigillumError:
                    continue
                assert all(r.id and r.kind.name == kind for r in fact.records)
        for act in (
            lambda: tenant.make(Make(ACCOUNT, {"name": "x", "display": "x", "active": True}), "m"),
            lambda: tenant.end(End(ACCOUNT, "1")),
            lambda: tenant.sign_in(Proof("1", token=Secret("t"))),
        ):
            try:
                act()
            except SigillumError:
                continue

    answered()


@pytest.mark.soak
@pytest.mark.parametrize("fate", ["", "lost-after", "lost-before"])
def test_killed_at_every_boundary_one_more_run_holds(house: House, forked: Fork, fate: str) -> None:
    house.desk.charter(house.charter, "crane")
    names = boundaries(house.desk, forked, ["enact", "crane", "--yes"])
    assert len(names) >= 10
    for number, name in enumerate(names):
        assert house.desk.run("retire", f"crane-{number - 1}" if number else "crane", "--because", "again", "--yes").code == 0
        assert house.service.count() == ([], 0, [])
        mine = f"crane-{number}"
        house.desk.charter(
            house.charter.replace("charter: crane", f"charter: {mine}").replace("name: crane-7", f"name: hand-{number}"), mine
        )
        house.service.fates = ["", "", fate] if fate else []
        killed = forked(house.desk, ["enact", mine, "--yes"], kill_at(name))[1]
        assert killed == 9 or fate, name  # where a secret was lost with its answer, another generation is begun
        house.service.fates = []
        ran = house.desk.run("enact", mine, "--yes", "--end")
        assert ran.code == 0, f"{name}: {ran.out}{ran.err}"
        accounts, credentials, held = house.service.count()
        assert (accounts, credentials, len(held)) == ([f"hand-{number}"], 1, 1), name
        assert house.desk.run("rehearse", mine, "--format", "json").json["charters"][0]["steps"] == [], name


@pytest.mark.parametrize("rounds", [3, pytest.param(100, marks=pytest.mark.soak)])
def test_every_foreign_entry_of_a_document_survives_many_writers(pierhead: House, rounds: int) -> None:
    service, ours = (
        pierhead.service,
        {"crane": pierhead.desk, "winch": Desk(pierhead.desk.folder.parent / "other", pierhead.desk.capture)},
    )
    service.policies["2"] = (1, {"bindings": [{"role": f"role-{n}", "members": [f"person:{n}"]} for n in range(200)]})
    shutil.copytree(pierhead.desk.folder, ours["winch"].folder)
    foreign, stop = list[str](), threading.Event()

    def write() -> None:
        while not stop.wait(0.1):
            with service.lock:
                number, body = service.policies["2"]
                foreign.append(f"person:extra-{len(foreign)}")
                service.policies["2"] = (
                    number + 1,
                    {"bindings": [*body["bindings"], {"role": "guest", "members": [foreign[-1]]}]},
                )

    writer = threading.Thread(target=write)
    writer.start()
    try:
        for number in range(rounds):
            for name, desk in ours.items():
                role = ("looker", "clerk")[number % 2]
                desk.charter(
                    pierhead.charter.replace("charter: crane", f"charter: {name}")
                    .replace("crane-7", f"{name}-7")
                    .replace("looker", role),
                    name,
                )
            runs = [
                subprocess.Popen(
                    [sys.executable, "-m", "sigillum", "--workspace", str(desk.folder), "enact", name, "--yes"],
                    stdout=subprocess.PIPE,
                    stderr=subprocess.STDOUT,
                    text=True,
                )
                for name, desk in ours.items()
            ]
            told = [run.communicate()[0] for run in runs]
            assert [run.returncode for run in runs] == [0, 0], "\n".join(told)
    finally:
        stop.set()
        writer.join()
    stands = {m for b in service.policies["2"][1]["bindings"] for m in b["members"]}
    assert stands == {*foreign, *(f"person:{n}" for n in range(200)), *(f"hand:{n}" for n in service.hands)}
    assert (len(service.hands), len(foreign) > rounds) == (2, True)


def test_a_rotation_killed_at_every_boundary_goes_on(pierhead: House, forked: Fork) -> None:
    """Also after the tenant made a token and before its answer: nobody has that one, it ends, and another one follows."""
    desk, service = pierhead.desk, pierhead.service
    assert pierhead.enact().code == 0
    seen = desk.folder / "seen"

    def note(name: str) -> None:
        with seen.open("a") as file:
            file.write(name + "\n")

    forked(desk, ["rotate", "crane"], note)
    assert desk.run("rotate", "crane", "--end-old", "--yes").code in (0, 7)
    names = [re.sub(r"#\d+|-\d+\b", "", n) for n in dict.fromkeys(seen.read_text().splitlines())]
    assert len(names) >= 8
    for number, wanted in enumerate(names):
        assert desk.run("retire", f"crane-{number - 1}" if number else "crane", "--because", "again", "--yes").code in (0, 7)
        mine = f"crane-{number}"
        desk.charter(
            pierhead.charter.replace("charter: crane", f"charter: {mine}").replace("name: crane-7", f"name: h-{number}"), mine
        )
        assert desk.run("enact", mine, "--yes").code == 0
        own = {str(n) for n, h in service.hands.items() if h["login"] == f"h-{number}"}

        def die(name: str, wanted: str = wanted) -> None:
            if re.sub(r"#\d+|-\d+\b", "", name) == wanted:
                os.kill(os.getpid(), signal.SIGKILL)

        forked(desk, ["rotate", mine], die)
        ran = desk.run("rotate", mine)
        assert ran.code in (0, 6, 7), f"{wanted}: {ran.out}{ran.err}"
        ran = desk.run("rotate", mine, "--end-old", "--yes")
        assert ran.code in (0, 7), f"{wanted}: {ran.out}{ran.err}"
        left = [t["title"] for t in service.tokens.values() if t["hand"] in own]
        assert len(left) == 1, (wanted, left)


def test_names_are_taken_in_one_yard_alone_and_loans_end_on_whole_days(bare: Desk) -> None:
    """A stranger of that name in another yard is nobody's collision; a loan ends at the last whole day within it, as it was sent."""
    house = House(bare, "quay")
    try:
        other = {"number": 1, "yard": 8, "works": True, "login": "crane-7", "caption": "theirs", "note": "theirs"}
        house.service.dockers[1] = dict(other)
        assert house.enact().code == 0
        house.is_whole()
        [mine] = [d for d in house.service.dockers.values() if d["number"] != 1]
        lend = ("lend", "clerk", "--to", str(mine["number"]), "--because", "a push")
        ran = bare.run(*lend, "--at", "trial", "--for", "2h", "--yes")
        assert (ran.code, "would end" in ran.err) == (2, True), ran.out + ran.err
        bare.charter(house.charter.replace("because: it reads}", "because: it reads, for: 3d}"), "crane")
        ran = bare.run("enact", "crane", "--yes")
        assert ran.code == 0, ran.out + ran.err
        [held] = [c for c in house.service.crews.values() if c["docker"] == mine["number"]]
        ends = bare.run("rehearse", "crane", "--strict")
        assert (ends.code, held["last_day"] is not None, house.service.dockers[1]) == (0, True, other), ends.out
    finally:
        house.service.stop()


class Broker(Service):
    """As much of a message broker as its description looks at when it is added."""

    @route("GET", "/api/users")
    def users(self, asked: Asked) -> Any:
        return []


def test_one_that_comes_with_the_tool_is_used_by_name_and_a_change_of_it_is_shown_first(
    bare: Desk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    broker, upgraded = Broker(), tmp_path / "upgraded"
    (bare.folder / "key").write_text("a-key")
    (bare.folder / "key").chmod(0o600)
    try:
        ran = bare.run(
            "tenant", "add", "broker", broker.address, "--dialect", "rabbitmq", "--admin", "ada", "--token", "file:key"
        )
        assert ran.code == 0, ran.err
        [used] = [d for d in bare.run("dialect", "list", "--format", "json").json["dialects"] if d["tenants"]]
        assert (used["dialect"], used["tenants"], bool(used["proved"])) == ("rabbitmq", "broker", True)
        assert bare.run("dialect", "accept", "broker").code == 0
        shutil.copytree(shipped.HERE, upgraded)
        text = shipped.shipped("rabbitmq").text
        (upgraded / "rabbitmq.yaml").write_text(text.replace("arrival: at-once", "arrival: 30s"))
        monkeypatch.setattr(shipped, "HERE", upgraded)
        ran = bare.run("tenant", "inspect", "broker")
        assert (ran.code, "`sigillum dialect accept broker`" in ran.err) == (6, True), ran.err
        ran = bare.run("dialect", "accept", "broker", "--format", "json")
        told = {"where": "/says/arrival", "before": "at-once", "now": "30s"}
        assert (ran.code, ran.json["differences"]) == (1, [told]), ran.out
        assert bare.run("tenant", "inspect", "broker").code == 6
        assert (bare.run("dialect", "accept", "broker", "--yes").code, bare.run("tenant", "inspect", "broker").code) == (0, 0)
        (bare.folder / "dialects").mkdir()
        (bare.folder / "dialects" / "rabbitmq.yaml").write_text(bare.run("dialect", "show", "rabbitmq").out)
        assert "spoken to by dialects/rabbitmq.yaml" in bare.run("tenant", "inspect", "broker").err
        ran = bare.run("tenant", "add", "x", broker.address, "--dialect", "rabitmq", "--admin", "ada", "--token", "file:key")
        assert (ran.code, "did you mean rabbitmq?" in ran.err) == (2, True), ran.err
        for words, code in ((("accept", "broker"), 2), (("show", "rabitmq"), 2), (("accept", "nobody"), 3)):
            assert bare.run("dialect", *words).code == code, words
    finally:
        broker.stop()
