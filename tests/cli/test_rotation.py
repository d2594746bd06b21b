"""Rotations: no consumer is ever refused, whatever is interrupted; the old one ends when it is out of use, and is proved dead."""

from __future__ import annotations

import base64
import json
import shutil
import signal
import subprocess
import sys
import uuid
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import timedelta
from email.utils import parsedate_to_datetime
from pathlib import Path
from typing import Any

import keyring
import pytest
import urllib3
from joserfc import jwt
from joserfc.jwk import JWKRegistry

from conftest import CHARTER, Away, Desk, FileKeyring, Fork, Sandbox, kill_at
from sigillum.core.values.times import parse_instant

Tick = Callable[[int], None]
DAY = 86_400
PASSWORD = """\
charter: wind-ingest
tenant: summit
purpose: Reads how many passes were sold
owner: mara.teel@brindlemoor.example
identity: {kind: service-account, name: wind-ingest, display: Pass desk feed, web_only: true}
grants: [{role: feed-reader, at: ticketry/passes}]
credentials: [{name: ingest-key, kind: password, lasts: 90d}]
proofs: [{can: pass.read, at: ticketry/passes}]
"""
CLIENT = """\
charter: wind-ingest
tenant: summit
purpose: Sends warnings
owner: mara.teel@brindlemoor.example
identity: {kind: client, name: wind-ingest, display: Avalanche mailer}
credentials: [{name: ingest-key, kind: shared-secret, lasts: 90d}]
"""
HELD = CHARTER.replace("lasts: 90d", "lasts: 90d, keep_in: keyring")
KINDS = {
    "key-pair": ("summit", "ada.rusk", CHARTER),
    "key-pair in a keyring": ("summit", "ada.rusk", HELD),
    "key-pair in a store": (
        "summit",
        "ada.rusk",
        HELD.replace("keep_in: keyring", "keep_in: 'store:cairn/brindlemoor/sensing/ingest-key'"),
    ),
    "api-token in a keyring": ("summit", "ada.rusk", HELD.replace("kind: key-pair", "kind: api-token")),
    "api-token": ("summit", "ada.rusk", CHARTER.replace("kind: key-pair", "kind: api-token")),
    "password": ("ticketry", "vera.moss", PASSWORD),
    "shared-secret": ("roster", "lena.frost", CLIENT),
}


@dataclass
class Consumer:
    """A program that knows nothing of Sigillum: it reads one file, and signs in. `fetches`: it reads that file anew each time."""

    folder: Path
    address: str
    kind: str = "key-pair"
    fetches: bool = True
    pool: urllib3.PoolManager = field(default_factory=urllib3.PoolManager)
    known: dict[str, Any] = field(default_factory=dict)
    reads: Callable[[str], str] = lambda name: keyring.get_password("sigillum", name) or ""

    def file(self) -> Path:
        return next((self.folder / ".sigillum" / "keys").glob("*/current/ingest-key.json"))

    def let_in(self) -> bool:
        if self.fetches or not self.known:
            self.known = json.loads(self.file().read_text())
            if "kept_at" in self.known:
                self.known = json.loads(self.reads(self.known["kept_at"]))
        about, base = self.known["credential"], self.address.removesuffix("/scim/v2")
        if "key" in self.known:
            now = int(parsedate_to_datetime(self.pool.request("GET", f"{base}/oauth/keys").headers["Date"]).timestamp())
            claims = {
                "iss": about["principal_id"],
                "sub": about["principal_id"],
                "aud": base,
                "iat": now,
                "exp": now + 60,
                "jti": uuid.uuid4().hex,
            }
            signed = jwt.encode({"alg": "Ed25519"}, claims, JWKRegistry.import_key(self.known["key"]), algorithms=["Ed25519"])
            return self._token({"grant_type": "urn:ietf:params:oauth:grant-type:jwt-bearer", "assertion": signed}, {})
        if about.get("client_id"):
            return self._token({"grant_type": "client_credentials"}, self._basic(about["client_id"]))
        header = (
            self._basic(about["account"]) if self.kind == "password" else {"Authorization": f"Bearer {self.known['secret']}"}
        )
        question = {
            "subject": {"type": "x", "id": about["principal_id"]},
            "action": {"name": "x"},
            "resource": {"type": "place", "id": "x"},
        }
        return self.pool.request("POST", f"{base}/access/v1/evaluation", json=question, headers=header).status != 401

    def _basic(self, name: str) -> dict[str, str]:
        return {"Authorization": "Basic " + base64.b64encode(f"{name}:{self.known['secret']}".encode()).decode()}

    def _token(self, fields: dict[str, str], headers: dict[str, str]) -> bool:
        answer = self.pool.request_encode_body(
            "POST",
            f"{self.address.removesuffix('/scim/v2')}/oauth/token",
            fields=fields,
            headers=headers,
            encode_multipart=False,
        )
        assert answer.status in (200, 400, 401), answer.data
        return answer.status == 200


def house(
    desk: Desk, sandbox: Sandbox, kind: str = "key-pair", number: int | str = "", *, enacted: bool = True, **limits: float
) -> tuple[Desk, Away, Consumer]:
    """A workspace whose tenant takes this kind, enacted, and a consumer of its credential."""
    like, admin, charter = KINDS[kind]
    away = sandbox.tenant(like, **limits)
    made = Desk(desk.folder.parent / f"house-{kind}-{number}", desk.capture)
    assert made.run("init", str(made.folder)).code == 0
    made.know(away, "summit", admin, "    clock: tenant\n")
    made.charter(charter)
    consumer = Consumer(made.folder, away.address, kind)
    if "store" in kind:
        cairn = sandbox.tenant("cairn")
        made.know(cairn, "cairn", "hale.brook", "    clock: tenant\n")
        consumer.reads = lambda name: secret_of(cairn)
    if enacted:
        ran = made.run("enact", "wind-ingest", "--yes")
        assert ran.code == 0, ran.out + ran.err
    return made, away, consumer


def secret_of(cairn: Away, name: str = "ingest-key") -> str:
    """What a store holds, as whoever reads it there sees it; nothing where there is no such secret."""
    answer = cairn.sandbox.pool.request(
        "GET",
        f"{cairn.address.removesuffix('/scim/v2')}/work/secrets/brindlemoor/sensing/{name}",
        headers={"Authorization": f"Bearer {cairn.tokens['hale.brook']}"},
    )
    return str(answer.json()["value"]) if answer.status == 200 else ""


def rotate(desk: Desk, *more: str) -> tuple[int, dict[str, Any]]:
    ran = desk.run("rotate", "wind-ingest", "--yes", "--format", "json", *more)
    assert "Traceback" not in ran.err, ran.err
    return ran.code, ran.json.get("rotations", [ran.json])[0] if ran.out else {"err": ran.err}


def live(away: Away) -> list[str]:
    return sorted(c["name"] for c in away.state()["resources"]["Credential"] if c["name"].startswith("ingest-key"))


@pytest.mark.parametrize("kind", KINDS)
def test_a_rotation_without_an_outage_of_each_kind(
    bare: Desk, sandbox: Sandbox, ticking: Tick, vault: FileKeyring, kind: str
) -> None:
    desk, away, consumer = house(bare, sandbox, kind)
    old = replace(consumer, fetches=False, known={})
    assert (consumer.let_in(), old.let_in()) == (True, True)
    code, one = rotate(desk)
    assert (code, one["stage"], live(away)) == (7, "given", ["ingest-key", "ingest-key-2"]), one
    ticking(60)  # a use within the second of our own is taken for ours
    assert (consumer.let_in(), old.let_in()) == (True, True)  # both are taken
    assert rotate(desk)[1]["stage"] == "taken"  # seen in use by somebody else
    told = desk.run("rotate", "wind-ingest", "--status").out
    assert ("the new one is used" in told, "has to be unused until" in " ".join(told.split())) == (True, True)
    ticking(700)
    code, one = rotate(desk)
    assert (code, one["closed"], live(away)) == (0, "done", ["ingest-key-2"]), one
    assert (consumer.let_in(), old.let_in()) == (True, False)
    assert [p.name for p in sorted(consumer.file().parent.parent.glob("*.*"))] == ["ingest-key-2.json"]
    assert sorted(n.rpartition("/")[2] for n in vault.kept) == (["ingest-key", "ingest-key.2"] if "keyring" in kind else [])
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    assert desk.run("rehearse", "wind-ingest", "--format", "json").json["charters"][0]["steps"] == []
    assert desk.run("ledger", "verify").code == 0


def test_who_never_fetches_the_new_one_keeps_working_and_is_named(bare: Desk, sandbox: Sandbox, ticking: Tick) -> None:
    desk, away, consumer = house(bare, sandbox)
    stays = Consumer(desk.folder, away.address, fetches=False)
    assert stays.let_in()
    ticking(80 * DAY)
    due = [s["about"] for s in desk.run("rehearse", "wind-ingest", "--format", "json").json["charters"][0]["steps"]]
    assert "credential ingest-key: rotate it" in due  # within renew_before it says so, and does it
    ran = desk.run("enact", "wind-ingest", "--yes")
    assert (ran.code, "consumers can read the new one" in ran.out) == (0, True), ran.out
    ticking(60)
    assert consumer.let_in()
    assert rotate(desk)[1]["stage"] == "taken"
    ticking(7 * DAY)  # the deadline lies a quarter of renew_before before the end
    assert stays.let_in()
    code, one = rotate(desk)
    said = one["waits"]["what"]
    assert (code, one["stage"], live(away)) == (6, "taken", ["ingest-key", "ingest-key-2"]), one
    for words in ("is not ended", "used last at", "from 127.0.0.1", "refuses it from"):
        assert words in said, said
    assert desk.run("rotate", "--all", "--status").code == 6
    assert desk.run("sweep", "--yes").code == 6
    assert stays.let_in()
    code, one = rotate(desk, "--end-old")
    assert (code, live(away), stays.let_in(), consumer.let_in()) == (7, ["ingest-key-2"], False, True), one
    ticking(700)
    assert rotate(desk)[1]["closed"] == "done"


def test_one_that_is_used_again_is_not_ended(bare: Desk, sandbox: Sandbox, ticking: Tick) -> None:
    desk, away, consumer = house(bare, sandbox)
    stays = Consumer(desk.folder, away.address, fetches=False)
    assert stays.let_in()
    rotate(desk)
    ticking(60)
    assert (consumer.let_in(), rotate(desk)[1]["stage"]) == (True, "taken")
    ticking(300)
    assert stays.let_in()
    ticking(400)
    code, one = rotate(desk)
    assert (code, one["stage"], "was used last at" in one["waits"]["what"]) == (7, "taken", True), one  # 400 s ago
    ticking(300)
    assert rotate(desk)[1]["closed"] == "done"


@pytest.mark.parametrize("tells", ["day", "none"])
def test_where_a_tenant_hardly_tells_a_word_is_asked_for(bare: Desk, sandbox: Sandbox, ticking: Tick, tells: str) -> None:
    desk, away, consumer = house(bare, sandbox)
    sandbox.control("tenants", {"describe": {away.name: {"last_used": tells}}})
    code, one = rotate(desk)
    assert consumer.let_in()
    assert (code, rotate(desk)[1]["stage"]) == (7, "given"), one
    assert rotate(desk, "--taken", "mira.sol")[1]["stage"] == "taken"
    ticking(700)
    code, one = rotate(desk)
    assert (code, one["stage"]) == ((0, "cleared") if tells == "none" else (7, "taken")), one
    if tells == "day":
        ticking(3 * DAY)
        assert rotate(desk)[1]["closed"] == "done"


def test_a_person_says_on_which_day_the_old_one_was_used_last(bare: Desk, sandbox: Sandbox, ticking: Tick) -> None:
    desk, away, _ = house(bare, sandbox)
    sandbox.control("tenants", {"describe": {away.name: {"last_used": "none"}}})
    rotate(desk)

    def said(days: int) -> tuple[int, dict[str, Any]]:
        return rotate(
            desk,
            "--taken",
            "mira.sol",
            "--last-used",
            (parse_instant(sandbox.clock()) + timedelta(days=days)).date().isoformat(),
        )

    for words in (
        ("--last-used", "2026-01-01"),
        ("--taken", "x", "--last-used", "soon"),
        ("--taken", "x", "--last-used", "2999-01-01"),
    ):
        assert desk.run("rotate", "wind-ingest", *words).code == 2, words
    assert (said(0)[1]["stage"], live(away)) == ("taken", ["ingest-key", "ingest-key-2"])
    ticking(3 * DAY)
    code, one = rotate(desk)  # quiet for long enough, but nobody has looked since
    assert (code, "nobody has looked since" in one["waits"]["what"]) == (7, True), one
    assert said(0)[0] == 7  # used today
    assert said(-2)[1]["stage"] in ("dead", "cleared", "ended")
    assert "was used last (" in " ".join(desk.run("ledger", "show", "wind-ingest").out.split())


def test_off_for_a_while_to_see_who_misses_it(bare: Desk, sandbox: Sandbox, ticking: Tick) -> None:
    desk, away, consumer = house(bare, sandbox)
    stays = Consumer(desk.folder, away.address, fetches=False)
    assert (stays.let_in(), rotate(desk, "--back")[0], desk.run("rotate", "wind-ingest", "--back", "--pause").code) == (
        True,
        6,
        2,
    )
    ticking(80 * DAY)
    rotate(desk)
    ticking(60)
    assert (consumer.let_in(), rotate(desk, "--pause")[1]["stage"], rotate(desk, "--bridge", "7d")[0]) == (True, "taken", 2)
    ticking(700)  # out of use, as it seems
    code, one = rotate(desk)
    assert (code, one["stage"], stays.let_in(), consumer.let_in()) == (7, "paused", False, True), one
    assert "to see who misses it" in " ".join(desk.run("rotate", "--status").out.split())
    assert [s["step"] for s in desk.run("rehearse", "wind-ingest", "--format", "json").json["charters"][0]["steps"]] == [
        "prove"
    ]
    code, one = rotate(desk, "--back")
    assert (code, one["stage"], stays.let_in()) == (6, "taken", True), one
    code, one = rotate(desk, "--bridge", "7d", "--accepted-by", "mira.sol")
    assert (code, live(away)) == (6, ["ingest-key", "ingest-key-2", "ingest-key-bridge"]), one
    told = desk.run("rotate", "--status").out
    assert (
        "accepted by mira.sol" in told,
        one["bridges"][0]["live"],
        "ingest-key-bridge" in desk.run("due", "--within", "200d").out,
    ) == (True, True, True)
    ticking(11 * DAY)
    assert stays.let_in()  # the old registration has ended by itself
    assert rotate(desk, "--bridge", "400d", "--accepted-by", "x")[0] == 6
    code, one = rotate(desk, "--end-old")
    assert (code, live(away), stays.let_in(), consumer.let_in()) == (7, ["ingest-key-2"], False, True), one
    ticking(700)
    code, one = rotate(desk)
    assert (code, one["closed"]) == (0, "done"), one
    assert desk.run("ledger", "verify").code == 0
    told = " ".join(desk.run("ledger", "show", "wind-ingest").out.split())
    for words in (
        "switch the old ingest-key off for a while",
        "the old ingest-key is missed",
        "register the key of the old ingest-key again",
    ):
        assert words in told, words


def test_an_exposed_one_ends_first(bare: Desk, sandbox: Sandbox) -> None:
    desk, away, consumer = house(bare, sandbox)
    thief = Consumer(desk.folder, away.address, fetches=False)
    assert thief.let_in()
    hidden = {"schemas": ["urn:sigillum:scim:1.0:Credential"], "name": "back-door", "kind": "api-token"}
    away.make("/Credentials", {**hidden, "principal": {"$ref": f"../Users/{away.of('User')[0]['id']}"}})
    code, one = rotate(desk, "--exposed")
    told = one["exposure"]
    assert ([s["what"] for s in told["suspicions"]], told["used_from"]) == (
        ["the credential back-door, which nobody here made"],
        "127.0.0.1",
    )
    assert [p.rpartition("/")[2] for p in told["places"]] == ["ingest-key-1.json", "ingest-key.json"]
    assert (thief.let_in(), consumer.let_in(), live(away)) == (False, True, ["ingest-key-2"])
    assert (code, one["stage"]) == (7, "ended"), one
    assert "may live until" in one["waits"]["what"]  # until when stolen tokens live
    assert one["steps"][0]["about"] == "the exposed ingest-key: switch it off"


def test_one_at_a_time_leaves_a_gap_that_is_agreed_first(bare: Desk, sandbox: Sandbox) -> None:
    desk, away, _ = house(bare, sandbox, keys_per_principal=1)
    code, one = rotate(desk)
    assert (code, "takes one credential at a time" in one["waits"]["what"], live(away)) == (6, True, ["ingest-key"])
    asked = desk.answered("no\n", "rotate", "wind-ingest", "--gap")
    assert (asked.code, "cannot sign in" in asked.err) == (1, True)
    code, one = rotate(desk, "--gap")
    assert (code, live(away)) == (7, ["ingest-key-2"]), one


def test_two_keys_at_most_and_a_stranger_beside(bare: Desk, sandbox: Sandbox) -> None:
    desk, away, _ = house(bare, sandbox, keys_per_principal=2)
    account = away.of("User")[0]["id"]
    away.make(
        "/Credentials",
        {
            "schemas": ["urn:sigillum:scim:1.0:Credential"],
            "principal": {"$ref": f"../Users/{account}"},
            "name": "theirs",
            "kind": "api-token",
        },
    )
    code, one = rotate(desk)
    assert (code, "theirs stands beside" in one["waits"]["what"]) == (6, True), one


@pytest.mark.parametrize("whose", ["ours", "a stranger's"])
def test_where_ended_ones_count_ours_are_cleared_and_no_strangers(
    bare: Desk, sandbox: Sandbox, ticking: Tick, whose: str
) -> None:
    desk, away, _ = house(bare, sandbox, keys_per_principal=2)
    sandbox.control("tenants", {"describe": {away.name: {"ended_count": True}}})
    if whose == "ours":
        desk.charter(CHARTER.replace("credentials:", "credentials:\n  - {name: early, kind: api-token, lasts: 1d}"))
        assert desk.run("enact", "wind-ingest", "--yes").code == 0
    else:
        soon = (parse_instant(sandbox.clock()) + timedelta(hours=1)).strftime("%Y-%m-%dT%H:%M:%SZ")
        away.make(
            "/Credentials",
            {
                "schemas": ["urn:sigillum:scim:1.0:Credential"],
                "principal": {"$ref": f"../Users/{away.of('User')[0]['id']}"},
                "name": "early",
                "kind": "api-token",
                "validUntil": soon,
            },
        )
    ticking(2 * DAY)
    code, one = rotate(desk, "--credential", "ingest-key")
    names = [c["name"] for c in away.state()["resources"]["Credential"]]
    if whose == "ours":
        assert ("early" in names, live(away)) == (False, ["ingest-key", "ingest-key-2"]), names
    else:
        assert (code, "early stands" in one["waits"]["what"], "early" in names) == (6, True, True), one


def test_a_key_that_is_taken_late_is_given_late(bare: Desk, sandbox: Sandbox, ticking: Tick) -> None:
    desk, away, consumer = house(bare, sandbox)
    ticking(61)
    away.limits(accepted_late_seconds=60)
    code, one = rotate(desk)
    assert (code, one["stage"]) == (7, "made"), one
    assert consumer.let_in()  # it reads the old one
    ticking(61)
    assert rotate(desk)[1]["stage"] == "given"
    assert consumer.let_in()


def test_a_copy_made_before_a_rotation_ends_and_makes_nothing(bare: Desk, sandbox: Sandbox, ticking: Tick) -> None:
    desk, away, consumer = house(bare, sandbox)
    copy = Desk(desk.folder.parent / "copy", desk.capture)
    shutil.copytree(desk.folder, copy.folder)
    rotate(desk)
    assert consumer.let_in()
    before = live(away)
    for words in (("rotate", "wind-ingest"), ("enact", "wind-ingest", "--yes")):
        ran = copy.run(*words)
        assert (ran.code, "newer generation" in " ".join((ran.out + ran.err).split())) == (6, True), ran.out + ran.err
    assert live(away) == before


STAGES = (0, 700)  # the same command, and again after that time


@pytest.mark.parametrize(
    "kind",
    [
        "key-pair",
        *(
            pytest.param(k, marks=pytest.mark.soak)
            for k in ("api-token", "key-pair in a keyring", "key-pair in a store", "api-token in a keyring")
        ),
    ],
)
@pytest.mark.parametrize("fate", [*(pytest.param(f, marks=pytest.mark.soak) for f in ("arrives", "lost-before")), "lost-after"])
def test_killed_at_every_boundary_it_goes_on_and_nobody_is_refused(
    bare: Desk, sandbox: Sandbox, forked: Fork, ticking: Tick, vault: FileKeyring, kind: str, fate: str
) -> None:
    first, _, user = house(bare, sandbox, kind, "first")
    names = list[tuple[int, str]]()
    for part, wait in enumerate(STAGES):
        ticking(wait)
        path = first.folder / "seen"
        path.unlink(missing_ok=True)

        def note(name: str, path: Path = path) -> None:
            with path.open("a") as file:
                file.write(name + "\n")

        assert forked(first, ["rotate", "wind-ingest"], note)[1] == 0
        names += [(part, n) for n in dict.fromkeys(path.read_text().splitlines())]
        ticking(5)
        assert user.let_in()
        first.run("rotate", "wind-ingest")
    assert len(names) >= 20, names
    assert {"rotation of ingest-key begun", "rotation of ingest-key given", "rotation of ingest-key dead"} <= {
        n for _, n in names
    }
    for number, (part, name) in enumerate(names):
        desk, away, consumer = house(bare, sandbox, kind, number)
        for _ in range(part):
            desk.run("rotate", "wind-ingest")
            ticking(5)
            assert consumer.let_in()
            desk.run("rotate", "wind-ingest")
            ticking(700)
        if fate != "arrives":
            if not any(w in name for w in ("intended", "answered", "settled", "read-back")):
                continue
            method = "PATCH" if "activate" in name else "DELETE" if name.startswith("end-") else "POST"
            sandbox.faults({"kind": fate, "method": method, "path": f"{away.name}/scim/v2/Credentials"})
        refused = list[str]()
        assert forked(desk, ["rotate", "wind-ingest"], kill_at(name))[1] == signal.SIGKILL, name
        sandbox.faults()
        refused += [] if consumer.let_in() else [name]
        for command in ("sweep", "rotate", "enact", "sweep"):
            desk.run(command, "--yes", *(["wind-ingest"] if command != "sweep" else []))
            ticking(5)
            refused += [] if consumer.let_in() else [f"{name}, then {command}"]
            ticking(700 if command == "enact" else 0)
        assert refused == []
        last = desk.run("enact", "wind-ingest", "--yes")
        assert last.code == 0, f"{name}: {last.out}{last.err}"
        strict = desk.run("rehearse", "wind-ingest", "--strict")
        assert strict.code == 0, f"{name}: {strict.out}"
        all_is_held(desk, away, consumer, vault, kind, name)


def all_is_held(desk: Desk, away: Away, consumer: Consumer, vault: FileKeyring, kind: str, after: str) -> None:
    """The one live credential is held, and nothing is left that no generation names."""
    [stands] = live(away)
    number = stands.removeprefix("ingest-key").strip("-") or "1"
    files = sorted(p.name for p in consumer.file().parent.parent.glob("*.*"))
    assert files == [f"ingest-key-{number}.json"], after
    kept = sorted(n.rpartition("/")[2] for n in vault.kept if consumer.file().parent.parent.name in n)
    assert kept == (["ingest-key", f"ingest-key.{number}"] if "keyring" in kind else []), after
    assert desk.run("ledger", "verify").code == 0


@pytest.mark.parametrize(
    "kind", [k for k in KINDS if k not in ("key-pair", "api-token")]
)  # those two are in test_kill, with every fate
@pytest.mark.parametrize("fate", [pytest.param("arrives", marks=pytest.mark.soak), "lost-after"])
def test_killed_while_it_is_issued_each_live_one_is_held(
    bare: Desk, sandbox: Sandbox, forked: Fork, vault: FileKeyring, kind: str, fate: str
) -> None:
    first, _, _ = house(bare, sandbox, kind, "first", enacted=False)
    enact = ["enact", "wind-ingest", "--yes", "--end"]

    def note(name: str) -> None:
        with (first.folder / "seen").open("a") as file:
            file.write(name + "\n")

    assert forked(first, enact, note)[1] == 0
    names = [n for n in dict.fromkeys((first.folder / "seen").read_text().splitlines()) if "ingest-key" in n]
    assert len(names) >= 3, names
    for number, name in enumerate(names):
        desk, away, consumer = house(bare, sandbox, kind, number, enacted=False)
        if fate == "lost-after":
            sandbox.faults({"kind": fate, "method": "POST", "path": f"{away.name}/scim/v2/Credentials"})
        assert forked(desk, enact, kill_at(name))[1] == signal.SIGKILL, name
        sandbox.faults()
        ran = desk.run(*enact)
        assert ran.code == 0, f"{name}: {ran.out}{ran.err}"
        assert desk.run("rehearse", "wind-ingest", "--format", "json").json["charters"][0]["steps"] == [], name
        assert consumer.let_in(), name
        all_is_held(desk, away, consumer, vault, kind, name)


@pytest.mark.parametrize("times", [3, pytest.param(10, marks=pytest.mark.soak)])
def test_two_sweeps_at_once_do_everything_once(bare: Desk, sandbox: Sandbox, ticking: Tick, times: int) -> None:
    desk, away, consumer = house(bare, sandbox)
    ticking(80 * DAY)
    for _ in range(times):
        lent = desk.run(
            "lend",
            "stream-reader",
            "--at",
            "brindlemoor/cameras",
            "--to",
            "wind-ingest",
            "--for",
            "10m",
            "--because",
            "x",
            "--yes",
        )
        assert lent.code == 0, lent.out + lent.err
        ticking(700)
        sweeps = [
            subprocess.Popen(
                [sys.executable, "-m", "sigillum", "sweep", "--yes"],
                cwd=desk.folder,
                stdout=subprocess.PIPE,
                stderr=subprocess.STDOUT,
                text=True,
            )
            for _ in range(2)
        ]
        told = [p.communicate()[0] for p in sweeps]
        assert [p.returncode for p in sweeps] == [0, 0], told
        assert consumer.let_in()
    assert live(away) == ["ingest-key-2"]
    entries = desk.run("ledger", "show", "--entries", "--format", "json").json["entries"]
    ended = [e for e in entries if e["kind"] == "intent" and e["body"]["verb"] == "end" and e["charter"].startswith("loan-")]
    assert (len([e for e in entries if e["kind"] == "rotating"]), len(ended), len({e["charter"] for e in ended})) == (
        1,
        times,
        times,
    )


def test_what_cannot_be_rotated_is_said(bare: Desk, sandbox: Sandbox) -> None:
    desk, _, _ = house(bare, sandbox)
    assert desk.run("rotate", "wind-ingest", "--end-old", "--yes").code == 6  # nothing is under way
    assert desk.run("rotate", "wind-ingest", "--credential", "ingest-kay").code == 2
    assert "did you mean" in desk.run("rotate", "wind-ingest", "--credential", "ingest-kay").err
    assert desk.run("rotate", "wind-ingest", "--taken", " ").code == 2
    assert desk.run("rotate").code == 2
    desk.charter(CHARTER.replace("wind-ingest", "fresh"), "fresh")
    assert desk.run("rotate", "fresh").code == 6  # it was never enacted
    assert "No rotation is under way." in desk.run("rotate", "--all", "--status").out


def test_a_copy_without_the_keys_ends_renews_and_proves_nothing(desk: Desk, away: Away) -> None:
    """The ledger was copied, the keys were not: what is not kept here is not kept nowhere."""
    desk.charter(CHARTER)
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    other = Desk(desk.folder.parent / "copy", desk.capture)

    def copied() -> None:
        shutil.rmtree(other.folder, ignore_errors=True)
        shutil.copytree(desk.folder, other.folder, ignore=shutil.ignore_patterns("keys"))

    def refused(*words: str) -> None:
        ran, before = other.run(*words), live(away)
        told = " ".join((ran.out + ran.err).split())
        assert (ran.code, f"the copy {name} of this workspace" in told, live(away)) == (6, True, before), told

    copied()
    name = (desk.folder / ".sigillum" / "copy").read_text().partition(" in ")[0]
    refused("enact", "wind-ingest", "--yes", "--end")
    refused("rotate", "wind-ingest", "--yes")
    for _ in range(2):
        assert desk.run("rotate", "wind-ingest", "--yes").code == 7
        copied()
        for more in ((), ("--end-old",), ("--taken", "jon"), ("--exposed",)):
            refused("rotate", "wind-ingest", "--yes", *more)
            copied()
    ran = other.run("prove", "wind-ingest")
    assert "sign in with" not in ran.out
    moved = Desk(desk.folder.parent / "moved", desk.capture)
    desk.folder.rename(moved.folder)  # another name is no other copy
    assert moved.run("rotate", "wind-ingest", "--yes", "--end-old").code in (0, 7)
    assert live(away) == ["ingest-key-2"]


@pytest.mark.parametrize(
    "words",
    [
        ("rotate", "wind-ingest", "--ours", ""),
        ("rotate", "wind-ingest", "--taken", ""),
        ("rotate", "wind-ingest", "--bridge", "7d", "--accepted-by", " "),
        ("enact", "wind-ingest", "--yes", "--ours", ""),
        ("reinstate", "wind-ingest", "--because", "x", "--ours", " "),
    ],
)
def test_a_word_of_nobody_is_refused(desk: Desk, words: tuple[str, ...]) -> None:
    ran = desk.run(*words)
    assert (ran.code, "the person is not specified" in ran.err) == (2, True), ran.err
