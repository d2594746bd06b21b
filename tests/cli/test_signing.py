"""No key at all: the tenant signs an assertion for an identity that is attached to a machine."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Away, Desk, Sandbox

TOWER = """\
charter: tower
tenant: summit
owner: mara.teel@brindlemoor.example
purpose: Reports what the tower measures
identity: {kind: service-account, name: tower, display: Tower}
grants: [{role: stream-reader, at: brindlemoor/sensing-prod, because: it reports it}]
signing: {machine: tower-1}
proofs: [{can: stream.read, at: brindlemoor/sensing-prod/streams/mast-4}]
"""


@pytest.fixture
def house(bare: Desk, sandbox: Sandbox) -> tuple[Desk, Away]:
    away = sandbox.tenant("summit")
    bare.know(away)
    bare.charter(TOWER, "tower")
    return bare, away


def machine(away: Away, desk: Desk, name: str = "tower-1") -> Path:
    """What a program gets on it."""
    path = desk.folder / f"{name}.token"
    answer = away.sandbox.pool.request("GET", f"{away.address.removesuffix('/scim/v2')}/machines/{name}/token?audience=x")
    path.write_text(answer.json().get("token", ""))
    path.chmod(0o600)
    return path


def test_what_it_signs_is_what_was_shown_and_gets_a_token(house: tuple[Desk, Away]) -> None:
    desk, away = house
    ran = desk.run("enact", "tower", "--yes")
    assert (ran.code, "grant of signing-keeper at itself" in ran.out, "identity-viewer" in ran.out) == (0, True, False), (
        ran.out + ran.err
    )
    token, out = machine(away, desk), desk.folder / "a.jwt"
    ran = desk.run(
        "token", "mint", "tower", "--with-token", str(token), "--lives", "60s", "--out", str(out), "--format", "json"
    )
    assert ran.code == 0, ran.err
    read = desk.run("token", "read", str(out), "--tenant", "summit", "--format", "json").json
    assert (read["claims"], read["good"]) == (ran.json["claims"], True)
    assert (
        desk.run(
            "token", "mint", "tower", "--with-token", str(token), "--lives", "9h", "--out", str(desk.folder / "b.jwt")
        ).code
        == 2
    )
    got = desk.folder / "access.token"
    ran = desk.run("token", "fetch", "tower", "--with-token", str(token), "--out", str(got))
    assert (ran.code, "the signing service of summit, asked by tower" in ran.out) == (0, True), ran.err
    work = away.sandbox.pool.request(
        "GET",
        f"{away.address.removesuffix('/scim/v2')}/work/streams/brindlemoor/sensing-prod/streams/mast-4",
        headers={"Authorization": f"Bearer {got.read_text().strip()}"},
    )
    assert work.status == 200
    attested = desk.run("key", "attest", "tower")
    told = " ".join(attested.out.split())
    assert (
        attested.code,
        "the signing service of summit" in told,
        "what runs on tower-1" in told,
        "may act as it" in told,
    ) == (0, True, True, False), attested.out
    assert away.state()["resources"]["Credential"] == [] or all(
        c["principal"].get("display") != "tower" for c in away.state()["resources"]["Credential"]
    )
    assert "what runs on tower-1" in " ".join(desk.run("suspend", "tower", "--because", "x", "--yes").out.split())
    assert (
        desk.run("token", "fetch", "tower", "--with-token", str(token), "--out", str(desk.folder / "c.token")).code == 4
    )  # an account that is off
    desk.run("reinstate", "tower", "--because", "y", "--yes")
    assert desk.run("retire", "tower", "--because", "over", "--yes").code == 0
    assert [m.get("principal") for m in away.state()["resources"]["Machine"] if m["name"] == "tower-1"] == [None]


def test_each_right_is_needed_and_nobody_signs_while_acting(house: tuple[Desk, Away], ticking: Callable[[int], None]) -> None:
    desk, away = house
    assert desk.run("token", "fetch", "tower", "--out", str(desk.folder / "x.token")).code == 6  # nothing is there yet
    assert desk.run("enact", "tower", "--yes", "--no-prove").code == 0
    ran = desk.run("token", "fetch", "tower", "--out", str(desk.folder / "x.token"))
    assert (
        ran.code,
        "ada.rusk needs assertion.sign, identity.view, identity.keys over tower" in ran.err,
        (desk.folder / "x.token").exists(),
    ) == (4, True, False), ran.err
    for role in ("assertion-signer", "signing-keeper"):
        token = machine(away, desk)
        assert (
            desk.run("token", "fetch", "tower", "--with-token", str(token), "--out", str(desk.folder / f"{role}.token")).code
            == 0
        )
        [grant] = [
            g
            for g in away.state()["resources"]["Grant"]
            if g["principal"]["value"] == g["place"]["value"]
            and g["role"]["value"] == next(r["id"] for r in away.state()["resources"]["Role"] if r["name"] == role)
        ]
        assert away.scim("DELETE", f"/Grants/{grant['id']}").status == 204
        assert (
            desk.run("token", "fetch", "tower", "--with-token", str(token), "--out", str(desk.folder / f"{role}2.token")).code
            == 4
        )
        ticking(10)  # what was made a moment ago might still be on its way
        assert role in desk.run("rehearse", "tower").out  # the missing one is named, and mended
        assert desk.run("enact", "tower", "--yes", "--no-prove").code == 0
    acting = desk.folder / "acting.token"
    assert (
        desk.run(
            "lend",
            "identity-user",
            "--at",
            "@tower",
            "--to",
            "ada.rusk",
            "--for",
            "10m",
            "--because",
            "x",
            "--tenant",
            "summit",
            "--yes",
        ).code
        == 0
    )
    assert desk.run("token", "fetch", "--as", "tower", "--out", str(acting)).code == 0
    assert desk.run("token", "mint", "tower", "--with-token", str(acting), "--out", str(desk.folder / "y.jwt")).code == 4


def test_the_wrong_identity_on_a_machine_is_seen(house: tuple[Desk, Away]) -> None:
    desk, _ = house
    desk.charter(TOWER.replace("tower-1", "tower-2"), "tower")
    ran = desk.run("rehearse", "tower", "--format", "json")
    notes = {n["code"]: n["text"] for n in ran.json["charters"][0]["notes"]}
    assert "tower-2 has the identity of camera-archive" in notes["wrong-identity"], json.dumps(notes)
    assert desk.run("enact", "tower", "--yes", "--no-prove").code == 6


def test_what_it_can_counts_for_nothing_where_nobody_comes_in_as_it(
    house: tuple[Desk, Away], ticking: Callable[[int], None]
) -> None:
    desk, away = house
    assert desk.run("enact", "tower", "--yes").code == 0

    def said() -> tuple[object, str]:
        [one] = desk.run("prove", "tower", "--format", "json").json["charters"][0]["proofs"]
        return one["held"], one["said"]

    assert said()[0] is True
    ran = desk.run("prove", "tower", "--with-token", str(machine(away, desk)), "--format", "json")
    [one] = ran.json["charters"][0]["proofs"]
    assert (ran.code, one["held"], one["how"]) == (0, True, "tried"), ran.out + ran.err
    own = next(g for g in away.of("Grant", "tower") if "signs for it" in json.dumps(g))
    assert away.scim("DELETE", f"/Grants/{own['id']}").status == 204
    held, why = said()
    assert (held, "does not sign for it" in why) == (None, True), why
    ticking(10)
    assert desk.run("enact", "tower", "--yes").code == 0
    [tower] = [m for m in away.state()["resources"]["Machine"] if m["name"] == "tower-1"]
    other = next(m["principal"] for m in away.state()["resources"]["Machine"] if m["name"] == "tower-2")
    patch = {
        "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
        "Operations": [{"op": "replace", "path": "principal", "value": {"value": other["value"]}}],
    }
    assert away.scim("PATCH", f"/Machines/{tower['id']}", patch).status == 200
    held, why = said()
    assert (held, "tower-1 has the identity" in why) == (None, True), why
