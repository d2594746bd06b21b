"""Access as an administrator meets it: causes explained, loans, windows, teams, waiting, twins, and what is extra."""

from __future__ import annotations

import signal
import subprocess
import sys
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from conftest import CHARTER, Away, Desk, Json, Sandbox
from sigillum.cli.views.hints import refusals_page
from sigillum.core.deciding.refusals import ABOUT, Cause

PROD, TEST, CAMERAS = "brindlemoor/sensing-prod", "brindlemoor/sensing-test", "brindlemoor/cameras"
MAST = f"{PROD}/streams/mast-4"
OWN = "urn:sigillum:scim:1.0:"
COUNTS = "brindlemoor/visitors/counts"
LEND = ("--at", MAST, "--to", "wind-ingest", "--because", "calibration of mast 4")


def at(seconds: float) -> str:
    return (datetime.now(UTC) + timedelta(seconds=seconds)).replace(microsecond=0).isoformat().replace("+00:00", "Z")


def enact(desk: Desk, *names: str, code: int = 0) -> str:
    ran = desk.run("enact", *(names or ("wind-ingest",)), "--yes", "--end")
    assert ran.code == code, ran.out + ran.err
    return ran.out


def explain(desk: Desk, *words: str) -> Json:
    ran = desk.run("explain", *words, "--format", "json")
    assert "Traceback" not in ran.err, ran.err
    return dict(ran.json["questions"][0])


def notes(desk: Desk, name: str = "wind-ingest") -> list[str]:
    return [n["code"] for n in desk.run("rehearse", name, "--format", "json").json["charters"][0]["notes"]]


# --- every cause of the closed list, driven in the sandbox -----------------------------------------------------------
def described(**changed: Any) -> Json:
    """A small tenant with one account whose permission works; each case changes one thing."""
    base: Json = {
        "admins": [{"name": "ada.rusk", "powers": "all"}],
        "limits": {},
        "permissions": {
            "data.read": {"class": "looks", "call": "GET /data/{place}"},
            "data.drop": {"class": "manages", "call": "POST /d/{place}"},
        },
        "places": [
            {"path": "hill", "kind": "project"},
            {"path": "hill/hut", "kind": "folder"},
            {"path": "hill/top", "kind": "folder"},
        ],
        "roles": [{"name": "reader", "permissions": ["data.read"]}, {"name": "dropper", "permissions": ["data.drop"]}],
        "accounts": [{"name": "probe"}],
        "teams": [{"name": "crew", "members": ["probe"]}],
        "grants": [{"to": "probe", "role": "reader", "at": "hill/hut"}],
        "credentials": [{"of": "probe", "name": "key"}],
    }
    for name, value in changed.items():
        base[name] = {**base[name], **value} if isinstance(base[name], dict) else value
    return base


def grant(**more: Any) -> Json:
    return {"grants": [{"to": "probe", "role": "reader", "at": "hill/hut", **more}]}


def key(**more: Any) -> Json:
    return {"credentials": [{"of": "probe", "name": "key", **more}]}


def rule(**more: Any) -> Json:
    return {"permissions": {"data.read": {"class": "looks", "call": "GET /data/{place}", **more}}}


WITH = ("--with", "key")
ALPS = {"path": "hill/hut", "kind": "folder", "location": "west"}
CAUSES: dict[Cause, tuple[Json, tuple[str, ...], tuple[str, ...]]] = {
    # cause: the tenant, more arguments, another question than probe data.read hill/hut
    Cause.PRINCIPAL_UNKNOWN: ({}, (), ("nobody", "data.read", "hill/hut")),
    Cause.CREDENTIAL_UNKNOWN: ({}, ("--with", "kay"), ()),
    Cause.PRINCIPAL_OFF: ({"accounts": [{"name": "probe", "active": False}]}, (), ()),
    Cause.PLACE_UNKNOWN: ({}, (), ("probe", "data.read", "hill/hot")),
    Cause.CREDENTIAL_INACTIVE: (key(active=False), WITH, ()),
    Cause.CREDENTIAL_WAITING: ({"credentials": [{"of": "probe", "name": "key", "from": at(900)}]}, WITH, ()),
    Cause.CREDENTIAL_ENDED: (key(until=at(-1)), WITH, ()),
    Cause.SERVICE_OFF: (rule(service="store"), (), ()),
    Cause.LOCATION_DIFFERS: (
        {
            **rule(located=True),
            "accounts": [{"name": "probe", "location": "east"}],
            "places": [{"path": "hill", "kind": "project"}, ALPS],
        },
        (),
        (),
    ),
    Cause.LICENCE_MISSING: (rule(licence="seat"), (), ()),
    Cause.SIGN_IN_KIND: ({**rule(takes=["password", "trust"]), **key()}, WITH, ()),
    Cause.LIMITS_NARROWER: (key(limits=["data.drop"]), WITH, ()),
    Cause.NOT_FELT: ({**grant(made=at(-5)), "limits": {"felt_seconds": 900}}, (), ()),
    Cause.WINDOW_WAITING: (grant(**{"from": at(900)}), (), ()),
    Cause.WINDOW_ENDED: (grant(until=at(-1)), (), ()),
    Cause.LABEL_DIFFERS: (grant(where={"stage": "test"}), (), ()),
    Cause.REACH_ELSEWHERE: (
        {
            "teams": [{"name": "crew", "members": ["probe"], "reach": ["hill/top"]}],
            "grants": [{"to": "crew", "role": "reader", "at": "hill"}],
        },
        (),
        (),
    ),
    Cause.PLACE_ELSEWHERE: ({}, (), ("probe", "data.read", "hill/top")),
    Cause.ROLE_LACKS: ({}, (), ("probe", "data.drop", "hill/hut")),
    Cause.PERMISSION_UNKNOWN: ({}, (), ("probe", "date.read", "hill/hut")),
    Cause.NOTHING_GRANTED: ({}, (), ("probe", "data.drop", "hill/top")),
    Cause.RIGHT_MISSING: (rule(needs=["data.drop@project"]), (), ()),
}


def known(desk: Desk, sandbox: Sandbox, tenant: Json, name: str = "hill") -> Away:
    made = sandbox.control("tenants", {"open": {name: tenant}})
    away = Away(name, made["tenants"][name], made["tokens"][name], sandbox)
    desk.know(away, name)
    return away


@pytest.mark.parametrize("cause", CAUSES)
def test_each_cause_is_named_first(bare: Desk, sandbox: Sandbox, cause: Cause) -> None:
    changed, more, question = CAUSES[cause]
    known(bare, sandbox, described(**changed))
    asked = question or ("probe", "data.read", "hill/hut")
    if cause in (Cause.PLACE_UNKNOWN, Cause.PERMISSION_UNKNOWN):  # mistyped: nothing is decided
        ran = bare.run("explain", *asked, *more)
        assert (ran.code, "refused" in ran.err, "do" in ran.err) == (2, False, True), ran.err
        return
    told = explain(bare, *asked, *more, *(() if more else ("--ask-tenant",)))
    assert (told["allowed"], told["cause"]) == (False, cause)
    assert [k["good"] for k in told["chain"] if k["decides"]] == [False]
    assert told["mends"]
    assert more or (told["tenant"]["allowed"], told["tenant"]["differs"]) == (False, False)


def test_causes_that_something_under_way_brings(bare: Desk, sandbox: Sandbox) -> None:
    away = known(bare, sandbox, described(**rule(service="store"), limits={"felt_seconds": 900}))
    assert explain(bare, "probe", "data.read", "hill/hut")["cause"] == Cause.SERVICE_OFF
    place = next(p for p in away.state()["resources"]["Place"] if p["path"] == "hill")
    away.scim(
        "PATCH",
        f"/Places/{place['id']}",
        {
            "schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"],
            "Operations": [{"op": "add", "path": "services", "value": [{"value": "store"}]}],
        },
    )
    assert explain(bare, "probe", "data.read", "hill/hut")["cause"] == Cause.SERVICE_NOT_FELT
    assert explain(bare, "probe", "data.read", "hill/hut", "--when", "+16m")["allowed"]
    sandbox.control("tenants", {"slow": {"hill": {"User": {"seconds": 900}, "Grant": {"seconds": 900}}}})
    ids = {
        r.get("userName") or r.get("name") or r.get("path"): r["id"]
        for k in ("User", "Role", "Place")
        for r in away.state()["resources"][k]
    }
    answer = away.scim(
        "POST",
        "/Grants",
        {
            "schemas": [OWN + "Grant"],
            **{
                n: {"$ref": f"../{e}/{ids[i]}"}
                for n, e, i in (("principal", "Users", "probe"), ("role", "Roles", "dropper"), ("place", "Places", "hill"))
            },
        },
    )
    assert answer.status == 202
    assert explain(bare, "probe", "data.drop", "hill", "--when", "+16m")["cause"] == Cause.GRANT_UNFINISHED
    assert (
        away.scim("POST", "/Users", {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "userName": "late"}).status
        == 202
    )
    assert explain(bare, "late", "data.read", "hill")["cause"] == Cause.PRINCIPAL_UNFINISHED


def test_questions_without_a_meaning(bare: Desk, sandbox: Sandbox) -> None:
    known(bare, sandbox, described())
    for words, code, told in (
        (("probe", "data.read,data.drop", "hill"), 2, "say --matrix"),
        (("probe", "", "hill"), 2, "a permission and a place"),
        (("probe", "data.read", "hill", "--when", "noon"), 2, "is not an instant"),
        (("probe", "data.read", "hill", "--when", "+11x"), 2, "is not a duration"),
        (("probe", "data.read", "hill", "--when", "+1m", "--ask-tenant"), 2, "for now only"),
    ):
        ran = bare.run("explain", *words)
        assert (ran.code, told in ran.err) == (code, True), ran.err


def test_the_closed_list_is_documented_and_driven() -> None:
    assert (Path(__file__).parents[2] / "docs" / "refusals.md").read_text() == refusals_page()
    elsewhere = {
        Cause.ALLOWED,
        Cause.FACTS_UNKNOWN,
        Cause.PLACE_NOT_FELT,
        Cause.SERVICE_NOT_FELT,
        Cause.GRANT_UNFINISHED,
        Cause.PRINCIPAL_UNFINISHED,
        Cause.SUSPENDED,
        Cause.HALF_MISSING,
        Cause.RUNS_OTHERWISE,
        Cause.MEANS_NOTHING,
    }  # the last three: test_workload, core/test_deciding
    clients = {
        Cause.NOT_REQUESTED,
        Cause.WAY_DIFFERS,
        Cause.NOT_CONSENTED,
        Cause.CONSENT_NARROWER,
        Cause.NO_DELEGATE,
        Cause.PERSON_UNKNOWN,
        Cause.PERSON_LACKS,
        Cause.SIGN_IN_REFUSED,
        Cause.SCOPE_NOT_DELEGATED,
        Cause.PERSON_OUTSIDE,
    }  # test_identities, test_sign_in, core/test_clients, test_delegation
    assert set(CAUSES) | elsewhere | clients == set(Cause)
    assert set(ABOUT) == set(Cause) - {Cause.ALLOWED}


def test_a_difference_with_the_tenant_is_said_loudly(desk: Desk, away: Away, sandbox: Sandbox) -> None:
    enact(desk)
    assert explain(desk, "wind-ingest", "stream.append", MAST, "--ask-tenant")["tenant"] == {
        "allowed": True,
        "reason": "granted by stream-writer",
        "differs": False,
    }
    away.limits(
        felt_seconds=600
    )  # what we know was announced at 0 seconds before: the profile is read anew, so only the tenant is late
    told = desk.run("explain", "wind-ingest", "stream.append", MAST, "--ask-tenant")
    assert "DIFFERENT" not in told.err
    assert "not-felt" in told.out


def test_a_matrix_of_a_charter(desk: Desk) -> None:
    enact(desk)
    table = desk.run("explain", "wind-ingest", "--matrix", "--format", "csv")
    assert table.code == 0
    rows = [line.split(",") for line in table.out.splitlines()]
    assert rows[0] == ["place", "stream.append", "stream.read", "stream.delete"]
    assert [r for r in rows if r[0] == MAST] == [[MAST, "yes", "yes", "no: role-lacks"]]
    assert next(r for r in rows if r[0].startswith(TEST))[1] == "no: place-elsewhere"
    wide = desk.run("explain", "ferry-desk", "stream.read", f"{CAMERAS},{PROD},@wind-ingest", "--matrix").out
    assert "@wind-ingest" in wide


# --- loans ------------------------------------------------------------------------------------------------------------
def test_a_loan_ends_by_itself_and_is_shown_as_ended_until_it_is_cleared(
    desk: Desk, away: Away, ticking: Callable[[int], None]
) -> None:
    path = desk.folder / "sigillum.yaml"
    path.write_text(path.read_text().replace("    stage: prod\n", "    stage: prod\n    clock: tenant\n"))
    enact(desk)
    refused = desk.run("lend", "stream-keeper", *LEND, "--for", "10m")
    assert (refused.code, "only the limits of its credentials stand against that" in refused.err) == (2, True)
    lent = desk.run("lend", "stream-keeper", *LEND, "--for", "10m", "--yes")
    assert (lent.code, "Lent: stream-keeper" in lent.out, "stream.delete (changes data)" in lent.err) == (0, True, True), (
        lent.err
    )
    assert "limits nothing for stream.append, stream.read" in lent.err  # the charter's own grant stands beside it
    assert "(the charter wind-ingest)" in lent.err
    [loan] = desk.run("loans", "--format", "json").json["loans"]
    asked = ("wind-ingest", "stream.delete", MAST)
    assert [explain(desk, *asked, "--when", t)["cause"] for t in ("+5m", "+11m")] == ["allowed", "window-ended"]
    assert explain(desk, *asked)["changes_at"] == loan["until"]
    assert notes(desk) == ["limits-alone"]  # a loan is not extra
    ticking(300)
    again = desk.run("lend", "stream-keeper", *LEND, "--for", "10m", "--yes")
    assert (again.code, f"until {loan['until']} (loan {loan['loan']}); its end stays" in again.out) == (0, True)
    ticking(300)
    assert explain(desk, *asked)["cause"] == "window-ended"
    assert [r["state"] for r in desk.run("loans", "--format", "json").json["loans"]] == ["ended"]
    assert len(away.of("Grant")) == 2
    swept = desk.answered("yes\n", "sweep")
    assert (swept.code, "Cleared: 1 grant." in swept.out) == (0, True), swept.err
    assert len(away.of("Grant")) == 1
    assert desk.run("loans").err.endswith("Nothing is lent.\n")
    assert "cleared" in desk.run("loans", "--all").out
    assert "Nothing to clear" in desk.run("sweep", "--yes").out


def test_a_loan_is_recalled_and_what_is_still_felt_is_told(desk: Desk, away: Away) -> None:
    enact(desk)
    for role in ("stream-keeper", "place-manager"):
        assert desk.run("lend", role, *LEND, "--until", at(600), "--yes").code == 0
    number = desk.run("loans", "--format", "json").json["loans"][0]["loan"]
    away.limits(felt_seconds=300)
    assert "is recalled" in desk.run("recall", number).out
    told = explain(desk, "wind-ingest", "stream.delete", MAST)
    assert next(k["text"] for k in told["chain"] if k["link"] == "window").startswith("it was ended, and is felt until")
    assert "it may be felt until" in desk.run("recall", number).out  # not "stands no more" yet
    assert desk.run("recall", "--to", "wind-ingest").code == 0
    assert len(away.of("Grant")) == 1
    assert desk.run("recall", "--to", "wind-ingest").code == 6
    assert desk.run("recall", "123456").code == desk.run("recall").code == 2


def test_a_loan_that_somebody_else_ended_is_told_and_lent_anew(desk: Desk, away: Away, ticking: Callable[[int], None]) -> None:
    path = desk.folder / "sigillum.yaml"
    path.write_text(path.read_text().replace("    stage: prod\n", "    stage: prod\n    clock: tenant\n"))
    enact(desk)
    words = (
        "lend",
        "stream-keeper",
        "--at",
        f"{PROD}/streams/mast-test",
        "--to",
        "wind-ingest",
        "--because",
        "trial",
        "--for",
        "10m",
    )
    assert desk.run(*words).code == 0
    first = next(g for g in away.of("Grant") if g.get("validUntil"))
    away.scim("DELETE", f"/Grants/{first['id']}")
    assert desk.run("loans", "--format", "json").json["loans"][0]["state"] == "in-force"  # look-ups may be late
    ticking(10)
    [loan] = desk.run("loans", "--format", "json").json["loans"]
    assert loan["state"] == "ended-elsewhere"
    lent = desk.run(*words)
    assert (lent.code, "Lent: stream-keeper" in lent.out, "already" in lent.out) == (0, True, False)
    second = next(g for g in away.of("Grant") if g.get("validUntil"))
    assert [x["state"] for x in desk.run("loans", "--all", "--format", "json").json["loans"]] == ["ended-elsewhere", "in-force"]
    away.scim("DELETE", f"/Grants/{second['id']}")
    ticking(10)
    swept = desk.run("sweep", "--yes")
    assert (swept.code, "somebody else ended it" in swept.out) == (0, True)
    assert desk.run("loans").out == ""
    assert desk.run("sweep", "--yes").out.startswith("Nothing to clear")


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("stream-keeper", *LEND), "one of the arguments --for --until is required"),
        (("stream-keeper", *LEND[:4], "--for", "10m"), "--because"),
        (("stream-keeper", *LEND[:5], " ", "--for", "10m"), "always has a reason"),
        (("stream-keeper", *LEND, "--for", "25h"), "the house lends for 1d at most"),
        (("stream-keeper", *LEND, "--until", at(-5)), "which is over"),
        (("stream-keepr", *LEND, "--for", "10m"), "did you mean stream-keeper?"),
        (("tenant-owner", *LEND, "--for", "10m"), "takes no window here"),
        (("query-runner", *LEND, "--for", "10m"), "grant it at brindlemoor/sensing-prod, the nearest place above"),
        (
            ("stream-reader", "--at", PROD, "--to", "everyone", "--because", "x", "--for", "1h"),
            "a grant to everyone takes no window",
        ),
        (
            ("stream-reader", "--at", f"{PROD}/strems", "--to", "wind-ingest", "--because", "x", "--for", "1h"),
            f"did you mean {PROD}/streams?",
        ),
    ],
)
def test_what_is_not_lent(desk: Desk, words: tuple[str, ...], told: str) -> None:
    enact(desk)
    ran = desk.run("lend", *words)
    assert (ran.code, told in ran.err) == (2, True), ran.err
    assert desk.run("loans", "--format", "json").json["loans"] == []


def test_a_loan_that_the_tenant_refuses_is_not_kept_as_begun(desk: Desk, bare: Desk, away: Away) -> None:
    enact(desk)
    desk.know(away, "looking", admin="watch")
    words = ("lend", "stream-keeper", *LEND, "--for", "10m", "--yes", "--tenant")
    ran = desk.run(*words, "looking")
    assert (ran.code, "lacks the power" in " ".join(ran.out.split())) == (4, True), ran.out + ran.err
    assert desk.run("loans", "--format", "json").json["loans"] == []
    assert "refused" in desk.run("loans", "--all").out
    unreachable = desk.run(*words, "looking", "--timeout", "0.000001")
    assert unreachable.code == 5
    assert desk.run(*words, "summit").code == 0


def test_a_loan_without_effect_asks_first(desk: Desk, away: Away) -> None:
    enact(desk)
    words = ("lend", "stream-reader", *LEND, "--for", "10m")
    assert (
        "has no effect: beside it stands stream-writer at brindlemoor/sensing-prod, without end (the charter wind-ingest)"
        in desk.run(*words).err
    )
    refused, agreed = desk.answered("no\n", *words), desk.answered("yes\n", *words)
    assert (refused.code, agreed.code, len(away.of("Grant"))) == (1, 0, 2)


# --- windows, and what makes them pointless -----------------------------------------------------------------------------
LOOK = "  - {role: stream-reader, at: " + MAST + ", for: 10m}\n"
TEAM = """\
charter: crew
tenant: summit
purpose: Looks at streams
identity: {kind: team, name: crew}
grants: [{role: stream-reader, at: brindlemoor/sensing-prod}]
members: [wind-ingest]
"""


@pytest.mark.parametrize(
    ("beside", "expected"),
    [
        ("  - {role: stream-reader, at: " + MAST + ", where: {stage: prod}}\n", "stream-reader"),  # the same role
        ("  - {role: stream-writer, at: " + MAST + ", because: x}\n", "stream-writer"),  # a wider role
        ("  - {role: stream-reader, at: brindlemoor}\n", "stream-reader at brindlemoor,"),  # a parent place
        ("team", "through the team crew, without end (the charter crew)"),  # a team, by another charter
        ("", ""),
        ("  - {role: stream-reader, at: " + TEST + "}\n", ""),
        ("  - {role: stream-reader, at: brindlemoor, until: 2099-01-01T00:00:00Z}\n", ""),
    ],
)
def test_a_window_without_effect_is_told_by_whatever_way(desk: Desk, beside: str, expected: str) -> None:
    text = CHARTER.replace("  - {role: stream-writer, at: brindlemoor/sensing-prod, because: stores the readings}\n", "GRANTS")
    text = text.replace("limits: [stream.append, stream.read]", "limits: [stream.read]")
    if beside == "team":
        text = text.replace(", limits: [stream.read]", "")
        desk.charter(text.replace("grants:\nGRANTS", ""))
        desk.charter(TEAM, "crew")
        enact(desk, "--all", "--no-prove")
    desk.charter(text.replace("GRANTS", ("" if beside == "team" else beside) + LOOK))
    found = [
        n["text"]
        for n in desk.run("rehearse", "wind-ingest", "--format", "json").json["charters"][0]["notes"]
        if n["code"] == "window-without-effect"
    ]
    assert (len(found), all(expected in n for n in found)) == (bool(expected), True), found


@pytest.mark.parametrize(
    ("grants", "code", "told"),
    [
        ("  - {role: tenant-owner, at: brindlemoor, for: 10m, because: x}\n", "window-broad", "takes no window"),
        ("  - {role: query-runner, at: " + MAST + "}\n", "role-not-grantable", "nearest place above"),
        ("  - {role: dataset-reader, at: brindlemoor}\n", "role-not-grantable", "choose a project or a dataset"),
        ("  - {role: stream-reader, at: brindlemoor, until: 2020-01-01T00:00:00Z}\n", "window-past", "before it is made"),
        ("  - {role: identity-user, at: self, to: nobody.here, because: x}\n", "principal-unknown", "nobody.here"),
    ],
)
def test_what_a_rehearsal_refuses(desk: Desk, grants: str, code: str, told: str) -> None:
    desk.charter(CHARTER.replace("grants:\n", "grants:\n" + grants))
    ran = desk.run("rehearse", "wind-ingest", "--format", "json")
    [mistake] = ran.json["charters"][0]["mistakes"]
    assert (ran.code, mistake["code"], told in mistake["what"] + mistake["do"]) == (3, code, True), mistake


def test_a_window_that_ends_before_changes_arrive_and_one_that_waits(desk: Desk, away: Away) -> None:
    away.limits(felt_seconds=1200)
    desk.charter(CHARTER.replace("because: stores", "for: 10m, because: stores"))
    assert "window-before-arrival" in notes(desk)
    away.limits(felt_seconds=0)
    desk.charter(CHARTER.replace("because: stores", f"from: {at(900)}, because: stores"))
    enact(desk, "wind-ingest", "--no-prove")
    assert "grant-waiting" in notes(desk)
    assert explain(desk, "wind-ingest", "stream.append", MAST)["cause"] == "window-waiting"


# --- places, services, roles, teams --------------------------------------------------------------------------------------
STATISTICS = f"""\
charter: visitor-statistics
tenant: summit
purpose: Counts visitors
identity: {{kind: service-account, name: visitor-statistics, location: alps-east}}
services: [{{service: warehouse, at: brindlemoor/visitors}}]
grants:
  - {{role: dataset-reader, at: {COUNTS}}}
credentials: [{{name: key, kind: key-pair}}]
proofs: [{{can: dataset.query, at: {COUNTS}, at_least: 2}}]
"""


def test_two_levels_of_grants_and_a_location_that_does_not_match(desk: Desk, away: Away) -> None:
    desk.charter(STATISTICS.replace("services:", "# services:"), "visitor-statistics")
    assert notes(desk, "visitor-statistics") == ["service-off", "location-differs", "right-missing"]
    desk.charter(STATISTICS, "visitor-statistics")
    assert "location-differs" in enact(desk, "visitor-statistics", code=1)  # never: it says why, and stops
    desk.charter(STATISTICS.replace("alps-east", "alps-west"), "visitor-statistics")
    assert "right-missing" in enact(desk, "visitor-statistics", code=1)
    whole = STATISTICS.replace("alps-east", "alps-west").replace(
        "credentials:", "  - {role: query-runner, at: brindlemoor/visitors}\ncredentials:"
    )
    desk.charter(whole, "visitor-statistics")
    assert "1 proof held" in enact(desk, "visitor-statistics")
    before = away.state()
    assert "Nothing to do" in enact(desk, "visitor-statistics")
    assert away.state() == before
    desk.charter(whole.replace("services:", "# services:"), "visitor-statistics")
    assert notes(desk, "visitor-statistics") == ["service-stays"]  # never switched off: others may use it


RELEASE = """\
charter: release
tenant: summit
purpose: Releases timetables
identity: {kind: team, name: release}
services: [{service: timetable-boards, at: brindlemoor/timetable}]
grants:
  - {role: board-publisher, at: brindlemoor/timetable, where: {stage: [dev, test]}, because: releases}
  - {role: board-reader, at: brindlemoor/timetable}
"""
PUBLISHER = """\
charter: publisher
tenant: summit
purpose: Publishes timetables
identity: {kind: service-account, name: publisher}
member_of: [release]
credentials: [{name: key, kind: key-pair}]
proofs:
  - {can: board.publish, at: brindlemoor/timetable/dev}
  - {can: board.publish, at: brindlemoor/timetable/test}
  - {can: board.read, at: brindlemoor/timetable/prod}
  - {cannot: board.publish, at: brindlemoor/timetable/prod}
"""


def test_a_team_with_narrowed_and_whole_roles_side_by_side(desk: Desk, away: Away) -> None:
    (desk.folder / "charters" / "wind-ingest.yaml").unlink()
    desk.charter(PUBLISHER, "publisher")
    desk.charter(RELEASE, "release")
    assert "that release be enacted first" in desk.run("rehearse", "publisher").out
    assert "4 proofs held" in enact(desk, "--all")  # the team first, whatever the names
    team = next(g for g in away.state()["resources"]["Group"] if g["displayName"] == "release")
    assert team[OWN + "Team"]["reach"] == ["brindlemoor/timetable"]
    assert [
        k["cause"]
        for k in desk.run(
            "explain",
            "publisher",
            "board.publish",
            "brindlemoor/timetable/dev,brindlemoor/timetable/prod",
            "--matrix",
            "--format",
            "json",
        ).json["questions"]
    ] == ["allowed", "label-differs"]
    assert desk.run("charter", "show", "release", "--format", "json").json["grants"][0]["where"] == {"stage": ["dev", "test"]}
    assert "stage is dev or test" in desk.run("charter", "show", "release").out
    assert desk.run("charter", "new", "again", "--describe", "publisher", "--tenant", "summit").code == 0
    described = desk.run("charter", "show", "again", "--format", "json").json
    assert (described["member_of"], described["grants"]) == (["release"], [])
    assert not desk.run("rehearse", "again", "--format", "json").json["charters"][0]["steps"]
    desk.charter(PUBLISHER.replace("member_of: [release]\n", ""), "publisher")
    assert "can-nothing" not in notes(desk, "publisher")  # it is still in the team
    enact(desk, "publisher", "--no-prove")
    assert set(notes(desk, "publisher")) == {"can-nothing", "breaks-can"}
    assert explain(desk, "publisher", "board.read", "brindlemoor/timetable/dev")["cause"] == "nothing-granted"


@pytest.mark.parametrize(
    ("text", "code"),
    [
        (
            RELEASE.replace(
                "  - {role: board-reader, at: brindlemoor/timetable}", "  - {role: board-reader, at: brindlemoor/cameras}"
            ),
            "reach-several",
        ),
        (RELEASE[: RELEASE.index("grants")], "reach-missing"),
        (RELEASE + "credentials: [{name: k, kind: key-pair}]\n", "team-signs-in"),
        (PUBLISHER + "members: [ada]\n", "team-only"),
        (RELEASE.replace("board-reader, at: brindlemoor/timetable", "board-reader, at: brindlemoor"), "reach-several"),
        (PUBLISHER.replace("[release]", "[relese]"), "team-unknown"),
        (RELEASE + "members: [nobody]\n", "member-unknown"),
        (RELEASE.replace("timetable-boards", "timetable-bords"), "service-unknown"),
        (
            PUBLISHER.replace("member_of: [release]\n", "") + "roles: [{name: r, permissions: [board.erase]}]\n",
            "permission-unknown",
        ),
        (PUBLISHER.replace("member_of: [release]", "like: publisher"), "like-circle"),
        (PUBLISHER + "like: wind-ingest\n", "like-and-own"),
        (PUBLISHER.replace("member_of: [release]", "like: nothing"), "like-unknown"),
    ],
)
def test_mistakes_of_teams_and_their_kind(desk: Desk, text: str, code: str) -> None:
    name = "release" if "kind: team" in text else "publisher"
    desk.charter(text, name)
    if code == "team-unknown":
        desk.charter(RELEASE, "release")
    checked = desk.run("charter", "check", name, "--format", "json").json["mistakes"]
    found = checked or desk.run("rehearse", name, "--format", "json").json["charters"][0]["mistakes"]
    assert [m["code"] for m in found] == [code]


def test_a_custom_role_and_who_may_act_as_the_identity(desk: Desk, away: Away) -> None:
    text = CHARTER.replace(
        "grants:\n",
        "roles:\n  - {name: mast-reader, permissions: [stream.read]}\ngrants:\n"
        "  - {role: mast-reader, at: brindlemoor/cameras, because: looks}\n"
        "  - {role: identity-user, at: self, to: mara.teel@brindlemoor.example, because: runs it by hand}\n",
    )
    desk.charter(text)
    enact(desk)
    assert explain(desk, "wind-ingest", "stream.read", CAMERAS)["allowed"]
    assert explain(desk, "mara.teel@brindlemoor.example", "identity.act", "@wind-ingest", "--ask-tenant")["tenant"] == {
        "allowed": True,
        "reason": "granted by identity-user",
        "differs": False,
    }
    assert explain(desk, "wind-ingest", "identity.act", "self")["cause"] == "nothing-granted"
    assert desk.run("rehearse", "wind-ingest", "--strict").code == 0
    desk.charter(text.replace("permissions: [stream.read]", "permissions: [stream.read, stream.append]"))
    enact(desk)
    assert explain(desk, "wind-ingest", "stream.append", CAMERAS)["allowed"]
    desk.charter()
    enact(desk)
    assert "mast-reader" not in [r["name"] for r in away.state()["resources"]["Role"]]
    assert len(away.state()["resources"]["Grant"]) == 3


def test_two_that_are_alike_stay_alike(desk: Desk, away: Away) -> None:
    desk.charter(
        "charter: twin\ntenant: summit\npurpose: Stands by\nidentity: {kind: service-account, name: twin}\nlike: wind-ingest\n",
        "twin",
    )
    enact(desk, "--all", "--no-prove")
    desk.charter(CHARTER.replace("stream-writer", "stream-keeper"))
    enact(desk, "--all", "--no-prove")
    held = {
        name: [(g["role"]["value"], g["place"]["value"]) for g in away.of("Grant", name)] for name in ("wind-ingest", "twin")
    }
    assert held["wind-ingest"] == held["twin"]
    assert len(held["twin"]) == 1


def test_what_nobody_wants_is_extra_and_ended_only_when_that_is_said(desk: Desk, away: Away) -> None:
    enact(desk)
    ids = {
        n: next(r["id"] for r in away.state()["resources"][k] if r[f] == n)
        for k, f, n in (("User", "userName", "wind-ingest"), ("Role", "name", "stream-keeper"), ("Place", "path", CAMERAS))
    }
    away.make(
        "/Grants",
        {
            "schemas": [OWN + "Grant"],
            **{
                n: {"$ref": f"../{e}/{ids[i]}"}
                for n, e, i in (
                    ("principal", "Users", "wind-ingest"),
                    ("role", "Roles", "stream-keeper"),
                    ("place", "Places", CAMERAS),
                )
            },
        },
    )
    assert notes(desk) == ["grant-extra"]
    enact(desk)
    assert len(away.of("Grant")) == 2
    assert desk.run("enact", "wind-ingest", "--yes", "--end-extra").code == 0
    assert len(away.of("Grant")) == 1
    assert notes(desk) == []


def test_two_systems_disagree_whether_it_exists(desk: Desk, away: Away, sandbox: Sandbox) -> None:
    away.make("/Users", {"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "userName": "wind-ingest"})
    sandbox.control("tenants", {"stale": {away.name: 3000}})  # look-ups answer from long ago
    ran = desk.run("enact", "wind-ingest", "--yes")
    told = " ".join(ran.out.split())
    assert (ran.code, "the answers disagree. Making it says: userName is taken. Looking it up shows: nothing" in told) == (
        6,
        True,
    ), told
    assert "display Wind readings ingest not shown differs" in told
    sandbox.control("tenants", {"stale": {away.name: 0}})
    assert "keep it" in desk.run("rehearse", "wind-ingest").out


# --- waiting ----------------------------------------------------------------------------------------------------------------
def test_not_yet_is_waited_for_and_never_stops_at_once(desk: Desk, away: Away) -> None:
    assert desk.run("prove", "wind-ingest", "--before", "--format", "json").json["charters"][0]["proofs"][0]["held"] is None
    away.limits(felt_seconds=6)
    ran = desk.run("enact", "wind-ingest", "--yes")
    assert (ran.code, "not felt yet" in ran.out, "2 not yet" in desk.run("prove", "wind-ingest").out) == (7, True, True), (
        ran.out
    )
    waited = desk.run("prove", "wind-ingest", "--wait", "30s", "--format", "json")
    assert waited.code == 0, waited.out
    report = waited.json["charters"][0]
    assert report["waited_seconds"] > 0
    assert set(report["before"].values()) == {None}
    assert desk.run("prove", "wind-ingest", "--format", "json").json["charters"][0]["before"] == {}  # all held once
    desk.charter(CHARTER + "  - {can: stream.delete, at: brindlemoor/sensing-prod/streams/mast-test}\n")
    never = desk.run("prove", "wind-ingest", "--wait", "10m", "--format", "json")
    assert (never.code, "limits-narrower" in never.out, never.json["charters"][0]["waited_seconds"]) == (1, True, 0)
    assert [
        e["body"]["seconds"]
        for e in desk.run("ledger", "show", "--entries", "--format", "json").json["entries"]
        if e["kind"] == "felt"
    ] != []


def test_interrupting_a_wait_loses_nothing(desk: Desk, away: Away) -> None:
    away.limits(felt_seconds=8)
    assert desk.run("enact", "wind-ingest", "--yes", "--no-prove").code == 0
    process = subprocess.Popen(
        [sys.executable, "-m", "sigillum", "prove", "wind-ingest", "--wait", "1m"],
        cwd=desk.folder,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
    )  # also where these tests run in the background
    time.sleep(1.5)
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=20)
    assert (process.returncode, "Interrupted" in err, "Traceback" in err) == (130, True, False)
    assert desk.run("prove", "wind-ingest", "--wait", "30s").code == 0
    assert desk.run("ledger", "verify").code == 0


@pytest.mark.parametrize("kind", ["User", "Grant"])
def test_a_slow_creation_is_finished_later_and_a_failed_one_made_anew(
    desk: Desk, away: Away, sandbox: Sandbox, kind: str
) -> None:
    sandbox.control("tenants", {"slow": {away.name: {kind: {"seconds": 1.5, "fails": True}}}})
    first = desk.run("enact", "wind-ingest", "--yes")
    assert (first.code, "still making it" in " ".join(first.out.split())) == (7, True), first.out
    time.sleep(1.6)
    sandbox.control("tenants", {"slow": {away.name: {kind: {"seconds": 1.5}}}})
    again = desk.run("enact", "wind-ingest", "--yes", "--end", "--wait", "20s")
    assert again.code == 0, again.out
    assert (len(away.of("User")), len(away.of("Grant"))) == (1, 1)
    assert desk.run("rehearse", "wind-ingest", "--strict").code == 0


def at_once(desk: Desk, words: list[list[str]]) -> list[tuple[int, str]]:
    """Several programs at the same time; how each ended, and what it said."""
    running = [
        subprocess.Popen(
            [sys.executable, "-m", "sigillum", *w], cwd=desk.folder, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
        )
        for w in words
    ]
    return [(p.wait(timeout=60), out) for p in running for out in [p.communicate()[0]]]


def test_several_at_once_decide_under_the_lock(desk: Desk, away: Away) -> None:
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    lend = [
        "lend",
        "stream-keeper",
        "--at",
        "brindlemoor/cameras",
        "--to",
        "wind-ingest",
        "--for",
        "10m",
        "--because",
        "trial",
        "--yes",
    ]
    lent = at_once(desk, [lend, lend, lend])
    assert [code for code, _ in lent] == [0, 0, 0], lent
    assert sorted("is lent to" in " ".join(told.split()) and "already" in told for _, told in lent) == [False, True, True]
    assert len(away.of("Grant")) == 2
    connect = [["handover", "connected", "wind-ingest", "--consumer", "gateway", "--connection", "7"]] * 3
    assert sorted(code for code, _ in at_once(desk, connect)) == [0, 6, 6]
    number = desk.run("loans", "--format", "json").json["loans"][0]["loan"]
    recalled = at_once(desk, [["recall", number]] * 3)
    assert {code for code, _ in recalled} == {0}, recalled
    assert len(away.of("Grant")) == 1
    assert desk.run("ledger", "verify").code == 0


def test_places_are_listed_and_a_taken_role_is_adopted(desk: Desk, away: Away) -> None:
    assert [p["place"] for p in desk.run("tenant", "places", "--format", "json").json["places"]] == ["brindlemoor"]
    assert f"{PROD}/streams" in desk.run("tenant", "places", PROD).out
    wrong = desk.run("tenant", "places", f"{PROD}/strems")
    assert (wrong.code, "did you mean" in wrong.err) == (2, True)
    desk.charter(CHARTER.replace("mast-4", "nowhere", 1))
    assert (
        "tenant places [UNDER]" in desk.run("rehearse", "wind-ingest").out
        or "did you mean" in desk.run("rehearse", "wind-ingest").out
    )
    away.make("/Roles", {"schemas": [OWN + "Role"], "name": "mast-looker", "permissions": [{"value": "board.read"}]})
    desk.charter(CHARTER + "roles: [{name: mast-looker, display: Looks at masts, permissions: [stream.read]}]\n")
    taken = desk.run("rehearse", "wind-ingest")
    assert (taken.code, "as it stands: `permissions: [board.read]`" in " ".join(taken.out.split())) == (6, True)
    assert desk.run("enact", "wind-ingest", "--yes", "--adopt").code == 0
    role = next(r for r in away.state()["resources"]["Role"] if r["name"] == "mast-looker")
    assert ([p["value"] for p in role["permissions"]], role["display"]) == (["stream.read"], "Looks at masts")
    assert desk.run("rehearse", "wind-ingest", "--strict").code == 0


def test_advice_for_a_stranger_names_no_charter_and_a_service_below_is_no_lack(bare: Desk, sandbox: Sandbox) -> None:
    known(
        bare,
        sandbox,
        described(
            **rule(service="store"),
            places=[{"path": "hill"}, {"path": "hill/hut", "kind": "folder"}, {"path": "hill/top", "services": ["store"]}],
        ),
    )
    for place, told in (
        ("hill/hut", "switch the service store on at hill/hut"),
        ("hill", "store is switched on at hill/top, below that: use it there"),
    ):
        found = explain(bare, "probe", "data.read", place)
        assert [m["text"] for m in found["mends"]][:1] == [told]
