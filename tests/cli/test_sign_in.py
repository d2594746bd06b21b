"""Sign-in rules, exemptions, licences and mailboxes: with the real program, and our answer held against the tenant's."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import Away, Desk, Fork, Sandbox, boundaries, kill_at
from sigillum.core.deciding.sign_in import Attempt, account_of, as_context, decide, rule_of, teams_of
from sigillum.tenants.scim.codecs import CODECS

ROBOT = """\
charter: night-robot
tenant: roster
owner: mara.teel@brindlemoor.example
purpose: Sends the list of closed lifts at night
identity: {kind: service-account, display: Night robot, mailbox: true}
licence: mail-seat
grants: [{role: mailbox-user, at: brindlemoor/mailboxes/trial, because: sends the list}]
credentials: [{name: robot-password, kind: password, lasts: 180d}]
proofs: [{can: mail.read, at: brindlemoor/mailboxes/trial}]
"""
EXEMPT = """\
sign_in:
  networks: [127.0.0.0/8]
  exempt: {rule: house-default, accepted_by: mara.teel@brindlemoor.example, why: nobody sits there at night, review: 2099-06-01}
"""
PATCH = "urn:ietf:params:scim:api:messages:2.0:PatchOp"


@pytest.fixture
def night(bare: Desk, sandbox: Sandbox) -> tuple[Desk, Away]:
    return bare, known(bare, sandbox.tenant("roster"))


def known(desk: Desk, away: Away) -> Away:
    token = desk.folder / ".sigillum" / "nils.token"
    token.write_text(away.tokens["nils.brack"])
    token.chmod(0o600)
    desk.know(away, "roster", "lena.frost", extra="    admins: [{name: nils.brack, token: 'file:.sigillum/nils.token'}]\n")
    desk.charter(ROBOT, "night-robot")
    return away


def look(desk: Desk) -> Any:
    return desk.run("rehearse", "night-robot", "--format", "json").json["charters"][0]


def patch(away: Away, kind: str, name: str, *operations: dict[str, Any]) -> None:
    found = next(r for r in away.state()["resources"][kind] if name in (r.get("name"), r.get("userName")))
    answer = away.scim(
        "PATCH",
        f"/{kind}s/{found['id']}",
        {"schemas": [PATCH], "Operations": list(operations)},
        admin="nils.brack" if kind == "SignInRule" else "lena.frost",
    )
    assert answer.status == 200, answer.data


def test_a_robot_that_the_tenant_wide_rule_stops_is_narrowed_and_exempt(night: tuple[Desk, Away]) -> None:
    desk, away = night
    assert [n["code"] for n in look(desk)["notes"]] == ["sign-in-stopped"]
    stopped = desk.run("enact", "night-robot", "--yes")
    assert (stopped.code, "house-default demands second-factor" in " ".join(stopped.out.split())) == (1, True), stopped.out
    told = desk.run("explain", "night-robot", "--sign-in", "--ask-tenant", "--format", "json")
    assert (told.code, told.json["rule"], told.json["asked"]["differs"]) == (1, "house-default", False)
    desk.charter(ROBOT + EXEMPT, "night-robot")
    assert [(s["step"], s["about"].split(":")[0]) for s in look(desk)["steps"][:2]] == [
        ("make", "sign-in rule night-robot-networks"),
        ("make", "exemption of night-robot from the sign-in rule house-default"),
    ]
    ran = desk.run("enact", "night-robot", "--yes")
    assert ran.code == 0, ran.out + ran.err
    rule = next(r for r in away.state()["resources"]["SignInRule"] if r["name"] == "house-default")
    assert [(e["acceptedBy"], e["why"], e["review"]) for e in rule["exempt"]] == [
        ("mara.teel@brindlemoor.example", "nobody sits there at night", "2099-06-01")
    ]
    assert look(desk)["steps"] == []
    desk.charter(ROBOT + EXEMPT + "  interactive: false\n", "night-robot")  # a demand, which a rule of its own reaches
    assert desk.run("enact", "night-robot", "--yes").code == 0
    assert look(desk)["steps"] == []
    ran = desk.run(
        "explain", "night-robot", "--sign-in", "--interactive", "--second-factor", "--ip", "127.0.0.9", "--ask-tenant"
    )
    assert (ran.code, "DIFFERS" in ran.out, "night-robot-unattended" in ran.out) == (1, False, True), ran.out
    desk.charter(ROBOT + EXEMPT, "night-robot")
    assert desk.run("enact", "night-robot", "--yes", "--end").code == 0
    assert desk.run("handover", "night-robot", "--format", "json").json["sheets"][0]["complete"] is True
    for address, code in (("127.0.0.9", 0), ("203.0.113.9", 1)):
        ran = desk.run("explain", "night-robot", "--sign-in", "--ip", address, "--ask-tenant")
        assert (ran.code, "DIFFERS" in ran.out) == (code, False), ran.out
    desk.charter(
        ROBOT.replace("licence: mail-seat\n", "").replace(", mailbox: true", "")
        + EXEMPT.replace("networks: [127.0.0.0/8]", "networks: [10.0.0.0/8]"),
        "night-robot",
    )
    ran = desk.run("enact", "night-robot", "--yes", "--end")
    assert (ran.code, "from its networks only" in " ".join(ran.out.split())) == (1, True), ran.out
    desk.charter(ROBOT.replace("proofs", "x-proofs").split("x-proofs")[0], "night-robot")
    ends = [(s["step"], s["about"].split(":")[0]) for s in look(desk)["steps"]]
    assert ends[-2:] == [("end", "sign-in rule night-robot-networks"), ("end", "exemption of night-robot from house-default")]
    assert desk.run("enact", "night-robot", "--yes", "--end").code == 0
    rule = next(r for r in away.state()["resources"]["SignInRule"] if r["name"] == "house-default")
    assert "exempt" not in rule


@pytest.mark.parametrize("fate", ["arrives", "lost-after"])
def test_killed_while_a_licence_is_taken_and_an_exemption_is_made(
    bare: Desk, sandbox: Sandbox, forked: Fork, fate: str
) -> None:
    import signal

    enact = ["enact", "night-robot", "--yes"]

    def house(number: int | str) -> tuple[Desk, Away]:
        made = Desk(bare.folder.parent / f"house-{number}", bare.capture)
        assert made.run("init", str(made.folder)).code == 0
        away = known(made, sandbox.tenant("roster"))
        made.charter(ROBOT + EXEMPT, "night-robot")
        return made, away

    first, _ = house("first")
    seen = boundaries(first, forked, enact)
    names = [
        n for n in seen if n.startswith(("take-licence", "make-licence mailbox", "make-sign-in networks", "exempt-sign-in"))
    ]
    assert len(names) >= 14
    for number, name in enumerate(names if fate == "arrives" else [n for n in names if "answered" in n]):
        desk, away = house(number)
        if fate != "arrives":
            part = {"ta": ("PATCH", "Licences"), "ex": ("PATCH", "SignInRules")}.get(
                name[:2], ("PATCH", "Users") if "mailbox" in name else ("POST", "SignInRules")
            )
            sandbox.faults({"kind": fate, "method": part[0], "path": f"{away.name}/scim/v2/{part[1]}"})
        assert forked(desk, enact, kill_at(name)) == (0, signal.SIGKILL), name
        sandbox.faults()
        again = desk.run(*enact)
        assert again.code == 0, f"{name}: {again.out}{again.err}"
        found = away.state()["resources"]
        assert len([r for r in found["SignInRule"] if r["name"] == "night-robot-networks"]) == 1
        assert [len(r.get("exempt", [])) for r in found["SignInRule"] if r["name"] == "house-default"] == [1]
        assert [len(r["holders"]) for r in found["Licence"] if r["name"] == "mail-seat"] == [2]
        assert look(desk)["steps"] == []


def test_a_mailbox_needs_a_licence_and_a_licence_has_to_be_free(night: tuple[Desk, Away]) -> None:
    desk, away = night
    first = [s["about"] for s in look(desk)["steps"]]
    assert first[1:3] == ["licence mail-seat for night-robot", "mailbox of night-robot"]
    assert desk.run("enact", "night-robot", "--yes", "--no-prove").code == 0
    seat = next(r for r in away.state()["resources"]["Licence"] if r["name"] == "mail-seat")
    robot = away.of("User", "night-robot")[0]
    assert robot["id"] in [h["value"] for h in seat["holders"]]
    assert robot["urn:sigillum:scim:1.0:ServiceAccount"]["mailbox"] is True
    second = Desk(desk.folder, desk.capture)
    second.charter(ROBOT.replace("night-robot", "day-robot"), "day-robot")
    for text, code in (
        (ROBOT, "licence-none-free"),
        (ROBOT.replace("mail-seat", "mial-seat"), "licence-unknown"),
        (ROBOT.replace("mail-seat", "archive-space"), "licence-mailbox"),
    ):
        second.charter(text.replace("night-robot", "day-robot"), "day-robot")
        mistakes = second.run("rehearse", "day-robot", "--format", "json").json["charters"][0]["mistakes"]
        assert [m["code"] for m in mistakes] == [code]
    second.charter(
        ROBOT.replace("night-robot", "day-robot").replace("mail-seat", "archive-space").replace(", mailbox: true", ""),
        "day-robot",
    )
    assert "licence-capacity" in [
        n["code"] for n in second.run("rehearse", "day-robot", "--format", "json").json["charters"][0]["notes"]
    ]
    desk.charter(ROBOT.replace("licence: mail-seat\n", "").replace(", mailbox: true", ""), "night-robot")
    assert desk.run("enact", "night-robot", "--yes", "--end", "--no-prove").code == 0
    seat = next(r for r in away.state()["resources"]["Licence"] if r["name"] == "mail-seat")
    assert robot["id"] not in [h["value"] for h in seat["holders"]]


def test_registered_methods_of_an_existing_account_go(night: tuple[Desk, Away]) -> None:
    desk, away = night
    desk.charter(
        """\
charter: old-robot
tenant: roster
owner: ines.vole@brindlemoor.example
purpose: Sends mail at night
identity: {kind: service-account, name: old-robot, display: Robot of the old mailer}
sign_in: {networks: [198.51.100.0/24]}
""",
        "old-robot",
    )
    ran = desk.run("enact", "old-robot", "--yes", "--adopt")
    assert ran.code == 0, ran.out + ran.err
    assert "methods" not in away.of("User", "old-robot")[0]["urn:sigillum:scim:1.0:ServiceAccount"]
    notes = [n["code"] for n in desk.run("rehearse", "old-robot", "--format", "json").json["charters"][0]["notes"]]
    assert ("switch-misleads" in notes, "sign-in-stopped" in notes) == (True, True)


RELAX = """\
sign_in:
  networks: [127.0.0.0/8]
  relax: {rule: house-default, replaced_by: people-second-factor, accepted_by: mara.teel@brindlemoor.example, why: it is on or off, review: 2099-01-01}
"""


def test_a_tenant_wide_rule_is_relaxed_only_where_nobody_loses_protection_and_the_undo_is_recorded(
    bare: Desk, sandbox: Sandbox
) -> None:
    from ruamel.yaml import YAML

    from sigillum.cli.sandboxes import usual_world

    described = YAML(typ="safe", pure=True).load(usual_world())["tenants"]["roster"]
    described["sign_in_rules"][0]["narrowable"] = False
    name = sandbox.tenant("roster").name + "-on-off"
    made = sandbox.control("tenants", {"open": {name: described}})
    away = known(bare, Away(name, made["tenants"][name], made["tokens"][name], sandbox))
    bare.charter(ROBOT + EXEMPT, "night-robot")
    assert [m["code"] for m in look(bare)["mistakes"]] == ["rule-not-narrowable"]
    bare.charter(ROBOT + RELAX, "night-robot")
    (mistake,) = look(bare)["mistakes"]
    assert (mistake["code"], "ines.vole@brindlemoor.example" in mistake["what"]) == ("protection-lost", True)
    for word in ("house-default", "people-second-factor"):
        bare.charter(ROBOT + RELAX.replace(word, "no-such"), "night-robot")
        assert [m["code"] for m in look(bare)["mistakes"]] == ["rule-unknown"]
    ids = [
        u["id"] for u in away.state()["resources"]["User"] if u["userName"] in ("ines.vole@brindlemoor.example", "old-robot")
    ]
    patch(away, "SignInRule", "people-second-factor", {"op": "add", "path": "targets", "value": [{"value": i} for i in ids]})
    bare.charter(ROBOT + RELAX, "night-robot")
    ran = bare.run("enact", "night-robot", "--yes")
    assert ran.code == 0, ran.out + ran.err
    undo = [
        e["body"]["undo"]
        for e in bare.run("ledger", "show", "night-robot", "--entries", "--format", "json").json["entries"]
        if "undo" in e["body"]
    ]
    assert undo == [{"enabled": True}]
    bare.charter(ROBOT, "night-robot")
    assert ("change", "tenant-wide sign-in rule house-default: switch it on again") in [
        (s["step"], s["about"]) for s in look(bare)["steps"]
    ]
    assert bare.run("enact", "night-robot", "--yes", "--end", "--no-prove").code == 0
    assert all(r["enabled"] for r in away.state()["resources"]["SignInRule"])
    assert look(bare)["steps"][:-1] == []


OWN = """\
sign_in:
  networks: [127.0.0.0/8]
  rules:
    - {name: night-people, demands: [second-factor], of: [ines.vole@brindlemoor.example], accepted_by: mara.teel@brindlemoor.example,
       why: people keep theirs, review: 2099-06-01}
  exempt: {rule: house-default, accepted_by: mara.teel@brindlemoor.example, why: nobody sits there at night, review: 2099-06-01}
"""


def test_a_rule_of_a_charter_is_made_before_the_exemption_changed_and_ended(night: tuple[Desk, Away]) -> None:
    desk, away = night

    def own() -> list[dict[str, Any]]:
        return [r for r in away.state()["resources"]["SignInRule"] if r["name"] == "night-people"]

    desk.charter(ROBOT + OWN, "night-robot")
    steps = look(desk)["steps"]
    rule, exempt = (next(s for s in steps if text in s["about"]) for text in ("sign-in rule night-people", "exemption of"))
    assert rule["id"] in exempt["needs"]
    ran = desk.run("enact", "night-robot", "--yes")
    assert ran.code == 0, ran.out + ran.err
    assert [(r["enabled"], r["demands"], len(r["targets"])) for r in own()] == [(True, ["second-factor"], 1)]
    assert desk.run("rehearse", "night-robot", "--strict").code == 0
    patch(away, "SignInRule", "night-people", {"op": "replace", "path": "enabled", "value": False})  # another hand
    assert desk.run("rehearse", "night-robot", "--strict").code == 1
    assert desk.run("enact", "night-robot", "--yes").code == 0
    assert [r["enabled"] for r in own()] == [True]
    desk.charter(ROBOT + OWN.replace("of: [ines.vole@brindlemoor.example]", "of: everyone"), "night-robot")
    assert [m["code"] for m in look(desk)["mistakes"]] == ["rule-of-whom"]  # which the tenant would refuse
    desk.charter(ROBOT + OWN.replace("ines.vole", "inse.vole"), "night-robot")
    assert [m["code"] for m in look(desk)["mistakes"]] == ["rule-of-whom"]
    desk.charter(ROBOT + EXEMPT, "night-robot")
    assert desk.run("enact", "night-robot", "--yes", "--end").code == 0
    assert own() == []


def test_questions_about_sign_in_without_a_meaning(night: tuple[Desk, Away]) -> None:
    desk, _ = night
    assert desk.run("explain", "old-robot", "mail.read", "brindlemoor", "--sign-in").code == 2
    for who in ("lift-telephone", "snow-watch", "nobody-there"):
        assert desk.run("explain", who, "--sign-in").code == 6
    assert "met" in desk.run("explain", "old-robot", "--sign-in", "--second-factor", "--interactive").out
    for bad, told in (("networks: [300.1.1.1/8]", "is no network"), ("exempt: {rule: a}", "accepted_by")):
        desk.charter(ROBOT + f"sign_in: {{{bad}}}\n", "night-robot")
        ran = desk.run("charter", "check", "night-robot")
        assert (ran.code, told in ran.err) == (3, True)


# --- two deciders -----------------------------------------------------------------------------------------------
PEOPLE, TEAMS = ["ann", "bob", "cat"], ["crew", "ring"]
NETS = ["10.0.0.0/8", "10.1.0.0/16", "2001:db8::/32", "192.0.2.7/32"]
some = st.lists(st.sampled_from(PEOPLE + TEAMS), max_size=2, unique=True)
rules = st.lists(
    st.fixed_dictionaries(
        {
            "everyone": st.booleans(),
            "targets": some,
            "exempt": st.lists(st.sampled_from(PEOPLE), max_size=2, unique=True),
            "applies_to": st.sampled_from(["any", "interactive", "non-interactive"]),
            "enabled": st.booleans(),
            "blocks": st.sampled_from([False, False, True]),
            "demands": st.lists(st.sampled_from(["second-factor", "device"]), max_size=2, unique=True),
            "networks": st.lists(st.sampled_from(NETS), max_size=2, unique=True),
        }
    ),
    max_size=4,
)
worlds = st.fixed_dictionaries(
    {
        "rules": rules,
        "switches": st.lists(st.sampled_from(["on", "off", None]), min_size=3, max_size=3),
        "suspended": st.sampled_from([None, None, "cat"]),
        "crew": st.lists(st.sampled_from(PEOPLE), max_size=2, unique=True),
        "ring": st.lists(st.sampled_from([*PEOPLE, "crew"]), max_size=2, unique=True),
    }
)
attempts = st.builds(
    Attempt,
    st.sampled_from(["10.1.2.3", "10.9.9.9", "2001:db8::5", "192.0.2.7", "", "nonsense"]),
    st.booleans(),
    st.booleans(),
    st.booleans(),
)


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(worlds, st.lists(attempts, min_size=3, max_size=6))
def test_the_effective_rule_agrees_with_the_tenants_own_answer(
    sandbox: Sandbox, world: dict[str, Any], asked: list[Attempt]
) -> None:
    described = {
        "admins": [{"name": "ada.rusk", "powers": "all"}],
        "teams": [{"name": t, "members": world[t]} for t in TEAMS],
        "accounts": [
            {
                "name": n,
                "active": n != world["suspended"],
                **({"second_factor": {"on": "asked", "off": "waived"}[s]} if s else {}),
            }
            for n, s in zip(PEOPLE, world["switches"], strict=True)
        ],
        "sign_in_rules": [
            {k: v for k, v in {"name": f"rule-{n}", **r}.items() if v not in ([], False) or k == "enabled"}
            for n, r in enumerate(world["rules"])
        ],
    }
    made = sandbox.control("tenants", {"open": {"doors": described}})
    away = Away("doors", made["tenants"]["doors"], made["tokens"]["doors"], sandbox)

    def things(kind: str, path: str) -> list[Any]:
        return [CODECS[kind].record(r) for r in away.scim("GET", path).json()["Resources"]]

    teams = teams_of(things("team", "/Groups"))
    known = [rule_of(t) for t in things("rule", "/SignInRules")]
    for thing in things("account", "/Users"):
        account = account_of(thing, teams)
        for attempt in asked:
            body = {
                "subject": {"type": "service-account", "id": account.id},
                "action": {"name": "sign-in"},
                "resource": {"type": "tenant", "id": "x"},
                "context": as_context(attempt),
            }
            answer = sandbox.pool.request(
                "POST",
                away.address.replace("/scim/v2", "/access/v1/evaluation"),
                json=body,
                headers={"Authorization": f"Bearer {away.tokens['ada.rusk']}"},
            ).json()
            verdict = decide(account, known, attempt)
            assert verdict.allowed == answer["decision"], (world, thing.get("name"), attempt, answer)
            reason = answer["context"]["reason"]
            assert verdict.allowed or (f"{verdict.rule}: {verdict.demand}" == reason or reason == "suspended" == verdict.demand)
