"""Suspended, reinstated, swept: what we stopped comes back, and what others stopped stays stopped."""

from __future__ import annotations

import base64
import hashlib
import re
import shutil
import signal
from collections.abc import Callable
from typing import Any

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from cli.test_rotation import house
from conftest import CHARTER, Away, Desk, Fork, Json, Sandbox, kill_at

Tick = Callable[[int], None]
PATCH = "urn:ietf:params:scim:api:messages:2.0:PatchOp"


def switch(away: Away, kind: str, identity: str, on: bool) -> None:
    answer = away.scim(
        "PATCH", f"/{kind}/{identity}", {"schemas": [PATCH], "Operations": [{"op": "replace", "path": "active", "value": on}]}
    )
    assert answer.status in (200, 204), answer.data


def account(away: Away) -> Json:
    return away.of("User")[0]


def suspend(desk: Desk, *more: str) -> tuple[int, Json]:
    ran = desk.run("suspend", "wind-ingest", "--because", "a leak", "--yes", "--format", "json", *more)
    return ran.code, ran.json["suspended"][0]


def reinstate(desk: Desk) -> tuple[int, Json]:
    ran = desk.run("reinstate", "wind-ingest", "--because", "mended", "--format", "json")
    return ran.code, ran.json["reinstated"][0]


def test_off_is_shown_and_comes_back(bare: Desk, sandbox: Sandbox) -> None:
    desk, away, consumer = house(bare, sandbox)
    code, told = suspend(desk)
    assert (code, account(away)["active"], consumer.let_in()) == (0, False, False)
    assert [(w["way"], w["refused"]) for w in told["ways"]] == [
        ("sign-in with ingest-key", True),
        ("a token that ingest-key got before", True),
    ]
    assert suspend(desk)[0] == 0  # twice is once
    again = desk.run("enact", "wind-ingest", "--yes")
    assert (again.code, "Nothing to do: it is suspended." in again.out, account(away)["active"]) == (0, True, False)
    assert desk.run("rehearse", "wind-ingest", "--strict").code == 0
    why = desk.run("explain", "wind-ingest", "stream.append", "brindlemoor/sensing-prod", "--format", "json").json["questions"][
        0
    ]
    assert (why["cause"], why["mends"][0]["text"].partition(";")[0]) == ("suspended", "reinstate wind-ingest")
    code, told = reinstate(desk)
    assert (code, told["suspensions"][0]["closed"], consumer.let_in()) == (0, "on-again", True)
    assert reinstate(desk)[0] == 6  # nothing is suspended
    assert desk.run("enact", "wind-ingest", "--yes").code == 0


# lifecycles: state, what others did meanwhile, and what enact, reinstate and sweep make of it
@pytest.mark.parametrize(
    ("before", "meanwhile", "enact", "back", "active"),
    [
        ((), (), 0, (0, "on-again"), True),
        ((False,), (), 6, (6, "stays-off"), False),
        ((), (True, False), 6, (6, "stays-off"), False),
        ((), (True,), 6, (0, "switched-on-elsewhere"), True),
    ],
    ids=["ours", "off before", "both", "on by others"],
)
def test_whose_hand_it_was(
    bare: Desk,
    sandbox: Sandbox,
    ticking: Tick,
    before: tuple[bool, ...],
    meanwhile: tuple[bool, ...],
    enact: int,
    back: tuple[int, str],
    active: bool,
) -> None:
    desk, away, _ = house(bare, sandbox)
    for on in before:
        switch(away, "Users", account(away)["id"], on)
    assert suspend(desk)[0] == 0
    ticking(10)
    for on in meanwhile:
        switch(away, "Users", account(away)["id"], on)
        ticking(10)
    assert desk.run("enact", "wind-ingest", "--yes").code == enact
    code, told = reinstate(desk)
    assert (code, told["suspensions"][0]["closed"], account(away)["active"]) == (*back, active)
    assert desk.run("sweep", "--yes").out.startswith("Nothing to clear")
    assert desk.run("enact", "wind-ingest", "--yes").code == (0 if active else 6)  # and stays stopped


def test_it_comes_back_by_itself_at_its_time(bare: Desk, sandbox: Sandbox, ticking: Tick) -> None:
    desk, away, consumer = house(bare, sandbox)
    assert suspend(desk, "--for", "2h")[0] == 0
    ticking(7100)
    assert desk.run("sweep", "--yes").out.startswith("Nothing")
    assert not consumer.let_in()
    ticking(200)
    assert "Reinstated: 1 suspension." in desk.run("sweep", "--yes").out
    assert (consumer.let_in(), account(away)["active"]) == (True, True)
    for words, code in ((("--because", " "), 2), (("--because", "x", "--until", "2020-01-01T00:00:00Z"), 2)):
        assert desk.run("suspend", "wind-ingest", *words).code == code


def test_a_client_is_off_as_its_principal(bare: Desk, sandbox: Sandbox) -> None:
    desk, _, consumer = house(bare, sandbox, "shared-secret")
    code, told = suspend(desk)
    assert (code, told["suspensions"][0]["thing"], [w["refused"] for w in told["ways"]]) == (0, "principal", [True, True])
    assert "runs as nobody" in told["ways"][0]["said"]  # a token is given, and opens nothing
    assert reinstate(desk)[0] == 0
    assert consumer.let_in()


def test_any_key_wherever_it_is_known(bare: Desk, sandbox: Sandbox) -> None:
    desk, away, consumer = house(bare, sandbox)
    other = sandbox.tenant()
    desk.know(other, "second", extra="    clock: tenant\n")
    found = desk.folder / "found.json"
    shutil.copy(consumer.file(), found)
    ran = desk.run("suspend", "--key", str(found), "--because", "it lay in a ticket", "--yes")
    assert (ran.code, "made by the charter wind-ingest" in ran.err, consumer.let_in()) == (0, True, False), ran.err
    assert "credential ingest-key is suspended" in desk.run("rehearse", "wind-ingest").out.replace("\n      ", " ")
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    assert not consumer.let_in()
    assert desk.run("reinstate", "--key", str(found), "--because", "it was ours").code == 0
    assert consumer.let_in()
    copy = next(c for c in away.state()["resources"]["Credential"] if c["name"] == "ingest-key")
    person = next(u for u in other.state()["resources"]["User"] if u["userName"] == "ferry-desk")
    other.make(
        "/Credentials",
        {
            "schemas": ["urn:sigillum:scim:1.0:Credential"],
            "principal": {"$ref": f"../Users/{person['id']}"},
            "name": "theirs",
            "kind": "key-pair",
            "publicKey": copy["publicKey"],
            "active": True,
        },
    )
    asked = desk.answered("no\n", "suspend", "--key", copy["thumbprint"], "--because", "x")
    assert (asked.code, "it is a stranger's" in asked.err) == (1, True), asked.err
    assert desk.run("suspend", "--key", copy["thumbprint"], "--because", "x", "--yes").code == 0
    assert [
        c["active"]
        for t in (away, other)
        for c in t.state()["resources"]["Credential"]
        if c.get("thumbprint") == copy["thumbprint"]
    ] == [False, False]
    der = Ed25519PublicKey.from_public_bytes(base64.urlsafe_b64decode(copy["publicKey"]["x"] + "=")).public_bytes(
        Encoding.DER, PublicFormat.SubjectPublicKeyInfo
    )
    spki = hashlib.sha256(der)
    assert (
        spki.hexdigest()
        == base64.urlsafe_b64decode(
            desk.run("key", "read", str(found), "--format", "json").json["found"][0]["spki"] + "="
        ).hex()
    )
    for typed in (spki.hexdigest().upper(), base64.b64encode(spki.digest()).decode()):
        assert desk.run("reinstate", "--key", typed, "--because", "x").code == 0, typed
        assert desk.run("suspend", "--key", ":".join(re.findall("..", spki.hexdigest())), "--because", "x", "--yes").code == 0
    assert desk.run("reinstate", "--key", copy["thumbprint"], "--because", "x").code == 0
    assert desk.run("suspend", "--key", "nowhere", "--because", "x").code == 2
    assert desk.run("suspend", "wind-ingest", "--key", "x", "--because", "x").code == 2
    assert desk.run("reinstate", "--key", copy["thumbprint"], "--because", "x").code == 6  # not suspended any more


@pytest.mark.parametrize("fate", ["arrives", "lost-before", "lost-after"])
def test_killed_at_every_boundary(bare: Desk, sandbox: Sandbox, forked: Fork, ticking: Tick, fate: str) -> None:
    words = ["suspend", "wind-ingest", "--because", "a leak", "--yes"]
    for name in (
        "suspension written",
        *(f"suspend-account in summit {at}" for at in ("intended", "answered", "settled", "read-back")),
    ):
        desk, away, consumer = house(bare, sandbox, number=name.replace(" ", "-"))
        order: Any = {"kind": fate, "method": "PATCH", "path": f"{away.name}/scim/v2/Users"}
        sandbox.faults(*([order] if fate != "arrives" else []))
        assert forked(desk, words, kill_at(name))[1] == signal.SIGKILL, name
        sandbox.faults()
        ran = desk.run(*words)
        assert (ran.code, consumer.let_in()) == (0, False), f"{name}: {ran.out}{ran.err}"
        sandbox.faults(*([order] if fate != "arrives" else []))
        back = ["reinstate", "wind-ingest", "--because", "mended"]
        if fate != "lost-before" and name.endswith(("answered", *(["settled"] if fate == "lost-after" else []))):
            # it may have been somebody else's hand
            told = desk.run(*back)
            assert (told.code, "whether it was us is not known" in " ".join(told.out.split())) == (6, True), told.out
            assert desk.run("enact", "wind-ingest", "--yes").code == 6
            words_ = ("--switch-on",) if fate == "lost-after" else ("--ours", "mara.teel")
            assert desk.run("enact", "wind-ingest", *words_, "--yes").code == 0
            assert consumer.let_in()
            assert desk.run("enact", "wind-ingest", "--ours", "mara.teel", "--yes").code == 2  # nothing is in doubt
            continue
        killed = forked(desk, back, kill_at(name.replace("suspend-", "reinstate-").replace("suspension", "reinstatement")))
        assert killed[1] == signal.SIGKILL, name
        sandbox.faults()
        ticking(10)
        desk.run("sweep", "--yes")
        assert consumer.let_in(), name
        assert desk.run("sweep", "--yes").out.startswith("Nothing")
        assert desk.run("rehearse", "wind-ingest", "--strict").code == 0


def test_a_team_and_one_never_enacted_have_no_switch(desk: Desk) -> None:
    assert desk.run("suspend", "wind-ingest", "--because", "x", "--yes").code == 6
    desk.charter(
        CHARTER.partition("identity")[0].replace("wind-ingest", "crew")
        + "identity: {kind: team, name: crew, reach: [brindlemoor/sensing-prod]}\n",
        "crew",
    )
    assert desk.run("enact", "crew", "--yes").code == 0
    told = desk.run("suspend", "crew", "--because", "x", "--yes")
    assert (told.code, "a team has no switch" in told.out) == (6, True), told.out
