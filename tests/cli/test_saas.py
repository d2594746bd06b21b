"""SaaS accounts: drafts, areas, passwords, tokens that are narrower than their account, and a supplier's account."""

from __future__ import annotations

import json
import signal
from typing import Any

import pytest

from conftest import Away, Desk, Fork, Sandbox, boundaries, kill_at

FEED = """\
charter: pass-desk-feed
tenant: ticketry
owner: mara.teel@brindlemoor.example
purpose: Reads how many passes were sold
identity: {kind: service-account, display: Pass desk feed, web_only: true}
grants: [{role: feed-reader, at: ticketry/passes}, {role: feed-reader, at: ticketry/trial-desk}]
credentials: [{name: feed-password, kind: password, lasts: 180d}]
proofs:
  - {can: pass.read, at: ticketry/passes, count: 2}
  - {can: pass.read, at: ticketry/trial-desk}
  - {cannot: pass.sell, at: ticketry/trial-desk}
"""
TOKEN = """\
charter: timetable-token
tenant: winch
owner: mara.teel@brindlemoor.example
purpose: Publishes timetables from the pipeline
identity: {kind: service-account, area: winch/timetables}
member_of: [publishers]
credentials: [{name: pipeline-token, kind: api-token, lasts: 60d, limits: [timetable.publish]}]
proofs:
  - {can: timetable.publish, at: winch/timetables/test}
  - {cannot: timetable.read, at: winch/timetables/prod}
  - {cannot: timetable.publish, at: winch/pass-desk/prod}
"""


def house(desk: Desk, sandbox: Sandbox, tenant: str, admin: str, charter: str, **limits: float) -> Away:
    away = sandbox.tenant(tenant, **limits)
    desk.know(away, tenant, admin)
    desk.charter(charter, charter.split()[1])
    return away


def look(desk: Desk, name: str) -> Any:
    return desk.run("rehearse", name, "--format", "json").json["charters"][0]


def kept(desk: Desk) -> dict[str, Any]:
    (path,) = (desk.folder / ".sigillum" / "keys").glob("*/*.json")
    return dict(json.loads(path.read_text()))


def test_a_web_only_account_is_saved_before_it_takes_roles_and_signs_in_with_its_password(bare: Desk, sandbox: Sandbox) -> None:
    away = house(bare, sandbox, "ticketry", "vera.moss", FEED)
    ran = bare.program("enact", "pass-desk-feed", "--yes", "--verbose")
    assert ran.code == 0, ran.out + ran.err
    secret = kept(bare)["secret"]
    assert len(secret) == 27
    everything = (
        ran.out
        + ran.err
        + "".join(p.read_bytes().decode("latin-1") for p in bare.folder.rglob("*") if p.is_file() and "keys" not in p.parts)
        + json.dumps(away.state())
    )
    assert secret not in everything
    assert kept(bare)["credential"]["account"] == "pass-desk-feed"
    (credential,) = away.of("Credential", "pass-desk-feed")
    assert (credential["mustChange"], credential["mailed"], credential["active"]) == (False, False, True)
    seen = look(bare, "pass-desk-feed")
    assert (seen["steps"], [n["text"] for n in seen["notes"]]) == ([], ["does feed-password expire? yes"])
    assert bare.run("handover", "pass-desk-feed", "--format", "json").json["sheets"][0]["complete"] is True
    before = away.state()
    assert bare.run("enact", "pass-desk-feed", "--yes").code == 0
    assert away.state() == before
    away.scim(
        "PATCH",
        f"/Credentials/{credential['id']}",
        {
            "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
            "Operations": [{"op": "replace", "path": "mustChange", "value": True}],
        },
        admin="vera.moss",
    )
    assert "password-change" in [n["code"] for n in look(bare, "pass-desk-feed")["notes"]]
    failed = bare.run("prove", "pass-desk-feed")
    assert (failed.code, "does not hold" in failed.out) == (1, True)  # it strands the program, and that shows
    bare.charter(
        FEED.replace("lasts: 180d", "lasts: 180d, password_from: 'env:FEED_PASSWORD'").replace("feed-password", "chosen"),
        "pass-desk-feed",
    )
    for value, code in (("", 2), ("short", 4), ("chosen-by-somebody-9", 0)):
        ran = bare.program("enact", "pass-desk-feed", "--yes", "--end", **({"FEED_PASSWORD": value} if value else {}))
        assert ran.code == code, ran.out + ran.err
        assert len([c for c in away.of("Credential", "pass-desk-feed") if c["active"]]) == 1  # the old one ends after the new
    assert any(
        json.loads(p.read_text())["secret"] == value for p in (bare.folder / ".sigillum" / "keys").glob("*/chosen*.json")
    )


def test_one_without_an_end_is_accepted_by_somebody(bare: Desk, sandbox: Sandbox) -> None:
    away = house(bare, sandbox, "ticketry", "vera.moss", FEED)
    away.limits(credential_seconds=0)
    sandbox.control("tenants", {"describe": {away.name: {"passwords_last_days": 30}}})
    never = FEED.replace(
        "lasts: 180d", "lasts: never, accepted_by: mara.teel@brindlemoor.example, why: nobody can reach it, review: 2027-06-01"
    )
    bare.charter(never, "pass-desk-feed")
    assert "which has no end, is to be looked at again" in " ".join(bare.run("due", "--within", "900d").out.split())
    assert bare.run("enact", "pass-desk-feed", "--yes").code == 0
    (credential,) = away.of("Credential", "pass-desk-feed")
    assert credential["validUntil"].startswith("9999")
    bare.charter(FEED.replace("180d", "20d"), "pass-desk-feed")
    assert bare.run("enact", "pass-desk-feed", "--yes", "--end").code == 0  # one with an end takes its place
    (credential,) = away.of("Credential", "pass-desk-feed")
    assert not credential["validUntil"].startswith("9999")
    assert bare.run("enact", "pass-desk-feed", "--yes").out.count("Nothing to do") == 1
    bare.charter(never, "pass-desk-feed")
    told = bare.run("enact", "pass-desk-feed", "--yes", "--end")
    assert told.code == 0, told.out
    assert away.of("Credential", "pass-desk-feed")[0]["validUntil"].startswith("9999")
    away.scim(
        "PATCH",
        f"/Credentials/{away.of('Credential', 'pass-desk-feed')[0]['id']}",
        {
            "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
            "Operations": [{"op": "replace", "path": "expires", "value": False}],
        },
        admin="vera.moss",
    )
    assert look(bare, "pass-desk-feed")["steps"] == []
    away.limits(credential_seconds=86_400)
    assert "has no end, ticketry allows 1d" in " ".join(bare.run("rehearse", "pass-desk-feed").out.split())


@pytest.mark.parametrize("fate", ["arrives", "lost-after"])
def test_killed_while_a_password_is_set(bare: Desk, sandbox: Sandbox, forked: Fork, fate: str) -> None:
    enact = ["enact", "pass-desk-feed", "--yes"]

    def fresh(number: int | str) -> tuple[Desk, Away]:
        made = Desk(bare.folder.parent / f"house-{number}", bare.capture)
        assert made.run("init", str(made.folder)).code == 0
        return made, house(made, sandbox, "ticketry", "vera.moss", FEED)

    first, _ = fresh("first")
    seen = boundaries(first, forked, enact)
    names = [n for n in seen if "feed-password" in n or "account" in n]
    assert len(names) >= 14
    for number, name in enumerate(names if fate == "arrives" else [n for n in names if "answered" in n]):
        desk, away = fresh(number)
        if fate != "arrives":
            method, part = (
                ("PATCH", "")
                if name.startswith(("save", "activate"))
                else ("POST", "Users" if "account" in name else "Credentials")
            )
            sandbox.faults({"kind": fate, "method": method, "path": f"{away.name}/scim/v2/{part}"})
        assert forked(desk, enact, kill_at(name)) == (0, signal.SIGKILL), name
        sandbox.faults()
        again = desk.run(*enact)
        assert again.code == 0, f"{name}: {again.out}{again.err}"
        assert (len(away.of("Credential", "pass-desk-feed")), len(away.of("Grant", "pass-desk-feed"))) == (1, 2)
        assert look(desk, "pass-desk-feed")["steps"] == []


def test_a_tokens_right_is_its_accounts_and_its_scopes(bare: Desk, sandbox: Sandbox) -> None:
    away = house(bare, sandbox, "winch", "otto.reyl", TOKEN)
    ran = bare.run("enact", "timetable-token", "--yes")
    assert ran.code == 0, ran.out + ran.err
    assert bare.run("handover", "timetable-token", "--format", "json").json["sheets"][0]["complete"] is True
    about = kept(bare)["credential"]
    assert about["principal_id"] == away.of("User", "timetable-token")[0]["id"]
    assert about["ends"]
    told = bare.run(
        "explain", "timetable-token", "timetable.read", "winch/timetables/prod", "--with", "pipeline-token", "--format", "json"
    )
    assert told.json["questions"][0]["cause"] == "limits-narrower"
    bare.charter(TOKEN.replace("member_of: [publishers]\n", ""), "timetable-token")
    notes = look(bare, "timetable-token")["notes"]
    assert [
        "pipeline-token would be powerless" in n["text"] for n in notes if n["code"] == "can-nothing"
    ] == []  # it is a member still
    assert bare.run("enact", "timetable-token", "--yes", "--end", "--no-prove").code == 0
    notes = look(bare, "timetable-token")["notes"]
    assert ["pipeline-token would be powerless" in n["text"] for n in notes if n["code"] == "can-nothing"] == [True]


@pytest.mark.parametrize(
    ("old", "new", "code", "told"),
    [
        (", area: winch/timetables", "", "area-missing", "installation_wide"),
        ("area: winch/timetables", "area: winch/timetables/prod", "area", "area"),
        ("area: winch/timetables", "area: winch/nowhere", "area", "area"),
        (", limits: [timetable.publish]", "", "limits-missing", "limits:"),
        ("kind: api-token", "kind: key-pair", "credential-kind", "api-token"),
        ("lasts: 60d", "lasts: 100d", "life-tenant", "90d"),
    ],
)
def test_what_the_tenant_would_refuse_is_told_before(
    bare: Desk, sandbox: Sandbox, old: str, new: str, code: str, told: str
) -> None:
    assert old in TOKEN
    house(bare, sandbox, "winch", "otto.reyl", TOKEN.replace(old, new))
    (mistake,) = (m for m in look(bare, "timetable-token")["mistakes"] if m["code"] != "breaks-cannot")
    assert (mistake["code"], told in mistake["do"]) == (code, True)
    assert mistake["where"].startswith("charters/timetable-token.yaml:")


@pytest.mark.parametrize(
    ("text", "told"),
    [
        (TOKEN.replace("area: winch", "installation_wide: for all, area: winch"), "keep one of them"),
        (TOKEN.replace("kind: service-account", "kind: foreign, organisation: x.example"), "leave `credentials` out"),
        (TOKEN.replace("kind: service-account", "kind: foreign"), "organisation"),
        (TOKEN.replace("kind: service-account, area", "kind: client, area"), "for accounts"),
        (TOKEN.replace("area: winch/timetables", "area: winch/timetables, web_only: true"), "kind: password"),
        (TOKEN.replace("kind: api-token", "kind: api-token, password_from: 'env:X'"), "kind: password"),
        (FEED.replace("kind: password", "kind: password, password_from: hunter2"), "replace the secret"),
    ],
)
def test_contradictions_are_told_without_a_tenant(bare: Desk, text: str, told: str) -> None:
    path = bare.folder / "sigillum.yaml"
    path.write_text(
        path.read_text().replace(
            "tenants: {}",
            "tenants: {winch: &t {address: 'http://127.0.0.1:9', admin: {name: a, token: 'env:X'}}, ticketry: *t}",
        )
    )
    bare.charter(text, text.split()[1])
    ran = bare.run("charter", "check", "--all")
    assert (ran.code, told in ran.err) == (3, True), ran.err
    assert "hunter2" not in ran.out + ran.err


def test_a_suppliers_account_is_member_and_grantee_and_names_follow_our_pattern(bare: Desk, sandbox: Sandbox) -> None:
    away = sandbox.tenant("winch")
    bare.know(away, "winch", "otto.reyl")
    path = bare.folder / "sigillum.yaml"
    path.write_text(path.read_text().replace("defaults:", "defaults:\n  account_name: 'svc-{stage}-{charter}'"))
    bare.charter(
        """\
charter: rail-partner
tenant: winch
purpose: Timetables of the valley railway
identity: {kind: foreign, name: rail-partner, organisation: railway.example}
member_of: [publishers]
grants: [{role: reader, at: winch/pass-desk}]
""",
        "rail-partner",
    )
    seen = look(bare, "rail-partner")
    assert seen["taken"][0]["matches"] is False  # it stands there, and is somebody else's: only its owner is not said there
    assert bare.run("enact", "rail-partner", "--yes", "--adopt").code == 0
    assert [g.get("reason", "") for g in away.of("Grant", "rail-partner")] == [""]
    team = next(t for t in away.state()["resources"]["Group"] if t["displayName"] == "publishers")
    assert away.of("User", "rail-partner")[0]["id"] in [m["value"] for m in team["members"]]
    bare.charter(
        "charter: night\ntenant: winch\npurpose: Runs at night\nidentity: {kind: service-account, installation_wide: cleans every area}\n",
        "night",
    )
    seen = look(bare, "night")
    assert ([s["about"] for s in seen["steps"]], [n["code"] for n in seen["notes"]]) == (
        ["account svc-prod-night"],
        ["account-wide", "can-nothing"],
    )
