"""Acting for people: registered by a domain administrator, proved scope by scope, listed, and ended."""

from __future__ import annotations

import pytest

from conftest import Away, Desk, Json, Sandbox

ROTA = """\
charter: rota-sync
tenant: summit
owner: mara.teel@brindlemoor.example
purpose: Writes who is on duty into calendars
identity: {kind: client, name: rota-sync, display: Rota}
credentials: [{name: rota-key, kind: key-pair, lasts: 90d}]
delegation:
  domain: brindlemoor.example
  people: {team: snow-watch}
  scopes:
    - {scope: calendar.read, because: sees what stands there}
    - {scope: calendar.write, because: writes it}
proofs:
  - {can: calendar.read, at: brindlemoor/calendars/rota, on_behalf_of: kai.lund@brindlemoor.example}
  - {can: calendar.write, at: brindlemoor/calendars/rota, on_behalf_of: kai.lund@brindlemoor.example}
  - {cannot: mail.read, at: brindlemoor/mailboxes/board, on_behalf_of: kai.lund@brindlemoor.example}
  - {cannot: calendar.read, at: brindlemoor/calendars/rota, on_behalf_of: jon.askew@brindlemoor.example}
"""


@pytest.fixture
def office(bare: Desk, sandbox: Sandbox) -> tuple[Desk, Away]:
    away = sandbox.tenant("roster")
    bare.know(away, admin="lena.frost")
    (bare.folder / "nils").write_text(away.tokens["nils.brack"])
    (bare.folder / "nils").chmod(0o600)
    file = bare.folder / "sigillum.yaml"
    file.write_text(
        file.read_text().replace(
            "    stage: prod\n", "    stage: prod\n    admins: [{name: nils.brack, token: 'file:nils'}]\n", 1
        )
    )
    bare.charter(ROTA, "rota-sync")
    return bare, away


def results(desk: Desk, *words: str) -> list[Json]:
    return list(desk.run("prove", "rota-sync", *words, "--format", "json").json["charters"][0]["proofs"])


def test_a_delegation_is_proved_scope_by_scope_before_and_after(office: tuple[Desk, Away]) -> None:
    desk, away = office
    desk.charter(ROTA.replace("    - {scope: calendar.write, because: writes it}\n", ""), "rota-sync")
    assert "calendar.write is not among the scopes" in desk.run("charter", "check", "rota-sync").err
    desk.charter(ROTA, "rota-sync")
    assert [r["held"] for r in results(desk, "--before")] == [None] * 4
    ran = desk.run("enact", "rota-sync", "--yes")
    assert (ran.code, ran.out.count("holds ")) == (0, 4), ran.out + ran.err
    [made] = [d for d in away.state()["resources"]["Delegation"] if d["people"] == ["team:snow-watch"]]
    assert (made["scopes"], made["domain"]) == (["calendar.read", "calendar.write"], "brindlemoor.example")
    (fetch, kai) = (
        ("token", "fetch", "rota-sync", "--for-person", "kai.lund@brindlemoor.example", "--scope"),
        str(desk.folder / "kai.token"),
    )
    assert (
        desk.run(*fetch, "calendar.read", "--out", kai).code,
        desk.run(*fetch, "mail.read", "--out", kai + "2").code,
        desk.run(*fetch[:3], "--scope", "x", "--out", kai + "2").code,
    ) == (0, 4, 2)
    assert [
        desk.run("token", "try", kai, *w, "--tenant", "summit").code
        for w in (("calendar.read", "brindlemoor/calendars/rota"), ("mail.read", "brindlemoor/mailboxes/board"))
    ] == [0, 1]
    tried = desk.run(
        "token", "try", kai, "mail.read", "brindlemoor/mailboxes/board", "--tenant", "summit", "--format", "json"
    ).json
    assert (tried["state"], tried["cause"], tried["scopes"]) == ("refused", "scope", ["calendar.read"])
    misspelt = "  - {cannot: calendar.read, at: brindlemoor/calendars/rota, on_behalf_of: jon.askow@brindlemoor.example}\n"
    desk.charter(ROTA + misspelt, "rota-sync")
    assert [(r["held"], "person-unknown" in r["said"]) for r in results(desk)][-1] == (
        None,
        True,
    )  # who is not there shows nothing
    desk.charter(ROTA, "rota-sync")
    told = results(desk)
    assert [r["said"].partition(":")[0] for r in told[2:]] == ["scope-not-delegated", "person-outside"]
    assert all("shown beside it: can calendar.read" in r["said"] for r in told[2:])
    for scope, place, person, cause in (
        ("calendar.read", "brindlemoor/calendars/rota", "kai.lund", "allowed"),
        ("mail.read", "brindlemoor/mailboxes/board", "kai.lund", "scope-not-delegated"),
        ("calendar.read", "brindlemoor/calendars/rota", "jon.askew", "person-outside"),
    ):  # what explains is what proves, and what the tenant decides
        words = ("explain", "rota-sync", scope, place, "--for-person", f"{person}@brindlemoor.example", "--ask-tenant")
        one = desk.run(*words, "--format", "json").json["questions"][0]
        assert (one["cause"], one["tenant"]["differs"]) == (cause, False), one
    assert desk.run("rehearse", "rota-sync", "--format", "json").json["charters"][0]["steps"] == []
    narrower = {
        "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
        "Operations": [{"op": "replace", "path": "scopes", "value": ["calendar.write"]}],
    }
    assert away.scim("PATCH", f"/Delegations/{made['id']}", narrower, admin="nils.brack").status == 200  # another hand
    told = results(desk)
    assert ([r["held"] for r in told], told[0]["said"].partition(":")[0]) == (
        [False, True, True, True],
        "scope-not-delegated",
    )
    assert [s["step"] for s in desk.run("rehearse", "rota-sync", "--format", "json").json["charters"][0]["steps"]] == [
        "change",
        "prove",
    ]
    assert desk.run("enact", "rota-sync", "--yes").code == 0
    desk.charter(ROTA.replace("team: snow-watch", "team: people"), "rota-sync")
    ran = desk.run("enact", "rota-sync", "--yes")
    assert (ran.code, "person-outside" in ran.out, "does not hold" in ran.out) == (1, False, True), (
        ran.out
    )  # jon.askew is one of them
    assert desk.run("retire", "rota-sync", "--because", "over", "--yes").code == 0
    assert [d["people"] for d in away.state()["resources"]["Delegation"]] == [["all"]]


def test_who_lacks_the_power_asks_with_exact_values(bare: Desk, sandbox: Sandbox) -> None:
    away = sandbox.tenant("roster")
    bare.know(away, admin="lena.frost")
    bare.charter(ROTA, "rota-sync")
    told = " ".join(bare.run("rehearse", "rota-sync").out.split())
    assert all(v in told for v in ("brindlemoor.example", "people team:snow-watch", "calendar.write: writes it")), told
    ran = bare.run("enact", "rota-sync", "--yes")
    [request] = [p for p in (bare.folder / "requests").glob("*") if "delegation" in p.read_text()]
    assert (ran.code, all(v in request.read_text() for v in ("calendar.read", "team:snow-watch", "brindlemoor.example"))) == (
        6,
        True,
    ), ran.out


def test_all_that_exist_are_listed_and_one_that_nobody_owns_is_ended(office: tuple[Desk, Away]) -> None:
    desk, away = office
    assert desk.run("enact", "rota-sync", "--yes").code == 0
    ran = desk.run("delegations", "summit", "--format", "json")
    old, ours = ran.json["delegations"]
    assert (ran.code, old["whose"], old["by"], old["people"], old["unasked"], old["used_at"]) == (
        1,
        "lift-telephone",
        "",
        ["all"],
        ["calendar.read", "mail.read"],
        None,
    )
    assert (ours["by"], ours["unasked"], ours["used_at"] is None) == ("the charter rota-sync", [], False)
    assert "nobody here" in desk.run("delegations", "summit").out
    assert "people: all" in desk.run("delegations", "summit", "--section", "lift-telephone").out
    for words, code, told in (
        (("--end-of", "lift-telephone"), 2, "not said why"),
        (("--end-of", "lift-phone", "--because", "x", "--yes"), 2, "did you mean lift-telephone?"),
        (("--end-of", "rota-sync", "--because", "x", "--yes"), 6, "the charter rota-sync made it"),
        (("--end-of", "lift-telephone", "--because", "nobody owns it", "--yes"), 0, "for nobody of"),
    ):
        ran = desk.run("delegations", "summit", *words)
        assert (ran.code, told in ran.out + ran.err) == (code, True), ran.out + ran.err
    assert (
        len(away.state()["resources"]["Delegation"]),
        desk.run("delegations", "summit").code,
        desk.run("ledger", "verify").code,
    ) == (1, 0, 0)


@pytest.mark.parametrize(
    ("old", "new", "rules", "told"),
    [
        ("{team: snow-watch}", "all", "", "a house rule does not allow"),
        ("{team: snow-watch}", "[me]", "", "means somebody else for each"),
        ("{team: snow-watch}", "[kai.lund@elsewhere.example]", "", "is nobody of brindlemoor.example"),
        ("because: writes it", "because: ' '", "", "not said what calendar.write is for"),
        ("scope: calendar.write", "scope: calendar.read", "", "listed twice"),
        ("", "", "delegable_scopes: [calendar.read]", "does not allow the scope calendar.write"),
        ("kind: client", "kind: team", "", "a team acts for nobody"),
        ("people:", "persons:", "", "`persons` is not known here"),
    ],
)
def test_what_is_too_wide_is_refused_before_anything_is_made(
    office: tuple[Desk, Away], old: str, new: str, rules: str, told: str
) -> None:
    desk, _ = office
    file = desk.folder / "sigillum.yaml"
    file.write_text(file.read_text().replace("rules:\n", f"rules:\n  {rules}\n") if rules else file.read_text())
    desk.charter(ROTA.replace(old, new) if old else ROTA, "rota-sync")
    ran = desk.run("charter", "check", "rota-sync")
    assert (ran.code, told in ran.out + ran.err) == (3, True), ran.out + ran.err
