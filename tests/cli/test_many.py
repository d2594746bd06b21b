"""Advice as a command, charters from a list, and many charters at once."""

from __future__ import annotations

import json
from typing import Any

import pytest

from conftest import Desk, Sandbox

TEMPLATE = """\
# Stations write their wind.
charter: ${station}-${stage}
tenant: summit
stage: ${stage}
purpose: Stores the wind of ${display}
identity: {kind: service-account, name: '${station}-${stage}', display: "${display}"}
grants:
  - {role: stream-reader, at: 'brindlemoor/sensing-${stage}'}
credentials:
  - {name: station-key, kind: key-pair, lasts: 90d}
proofs:
  - {can: stream.read, at: 'brindlemoor/sensing-${stage}/streams/mast-4'}
"""
LIST = 'station,display\nmast-4,"Mast 4, north"\nmast-7,"Mast 7: {odd} & #"\n'


def listed(desk: Desk, text: str = LIST, template: str = TEMPLATE, stages: str = "test,prod") -> Any:
    (desk.folder / "stations.csv").write_text(text)
    (desk.folder / "station.yaml").write_text(template)
    return desk.program(
        "charter", "new", "--from-list", "stations.csv", "--template", "station.yaml", *(("--stages", stages) if stages else ())
    )


def test_one_charter_a_line_and_stage_each_with_its_own_secret(desk: Desk) -> None:
    (desk.folder / "charters" / "wind-ingest.yaml").unlink()
    ran = listed(desk)
    assert (ran.code, "4 charters were written" in ran.out) == (0, True), ran.err
    assert "# Stations write their wind." in (desk.folder / "charters" / "mast-7-prod.yaml").read_text()
    shown = desk.run("charter", "show", "mast-7-prod", "--format", "json").json
    assert shown["identity"]["display"] == "Mast 7: {odd} & #"
    done = desk.run("enact", "--all", "--yes", "--format", "json")
    assert done.code == 0, done.out + done.err
    kept = [json.loads(p.read_text())["key"]["d"] for p in (desk.folder / ".sigillum" / "keys").glob("*/*.json")]
    assert (len(kept), len(set(kept))) == (4, 4)
    assert "4 charters: 4 as wished, 0 not." in desk.run("enact", "--all", "--yes").out
    states = desk.run("handover", "--all", "--format", "json").json["sheets"]
    assert [s["complete"] for s in states] == [True] * 4
    again = listed(desk)
    assert (again.code, "4 charters of the list stood there already" in again.out) == (0, True)
    more = listed(desk, LIST + "mast-9,Mast 9\n", stages="test")
    assert (more.code, "charters/mast-9-test.yaml\n1 charter was written" in more.out) == (0, True), more.err
    path = desk.folder / "charters" / "mast-4-test.yaml"
    path.write_text(path.read_text() + "# changed\n")
    assert "other than the list says: mast-4-test" in listed(desk).out


@pytest.mark.parametrize(
    ("text", "template", "stages", "told"),
    [
        (LIST.replace("display", "name", 1), TEMPLATE, "prod", "has no column 'display'"),
        (LIST, TEMPLATE, "", "has no column 'stage'"),
        (LIST, TEMPLATE.replace("${station}-${stage}\nten", "${station}\nten"), "test,prod", "is taken by line 2"),
        (LIST.replace("mast-7", "Mast 7"), TEMPLATE, "prod", "stations.csv:3:1: 'Mast 7-prod' cannot be a charter's name"),
        (LIST, TEMPLATE.replace("lasts: 90d", "lasts: ninety"), "prod", "mast-4-prod (line 10 of it)"),
        (LIST, "just: this\n", "prod", "no charter"),
        (LIST + "a,b,c\n", TEMPLATE, "prod", "more or fewer cells"),
        ("", TEMPLATE, "prod", "has no lines"),
        ('station,display\n"mast', TEMPLATE, "prod", "this is not CSV"),
        (LIST, TEMPLATE.replace("lasts: 90d", "lasts: 900d"), "prod", "the house allows"),
        (LIST, TEMPLATE.replace("grants:", "grants"), "prod", "station.yaml:8"),
    ],
)
def test_one_mistake_in_a_list_writes_nothing(desk: Desk, text: str, template: str, stages: str, told: str) -> None:
    before = sorted(p.name for p in (desk.folder / "charters").iterdir())
    ran = listed(desk, text, template, stages)
    assert (ran.code, told in ran.err) == (3, True), ran.err
    assert sorted(p.name for p in (desk.folder / "charters").iterdir()) == before
    assert not list((desk.folder / ".sigillum").glob("list-*"))


def test_a_list_wants_a_template_and_nothing_else(desk: Desk) -> None:
    for words in (("--from-list", "x.csv"), ("name", "--from-list", "x.csv", "--template", "y"), ()):
        assert desk.run("charter", "new", *words).code == 2
    assert desk.run("charter", "new", "--from-list", "no.csv", "--template", "no.yaml").code == 3


def test_advice_from_flags_a_file_and_questions(bare: Desk) -> None:
    flags = (
        "advise",
        "mailer",
        "--signs-in",
        "form",
        "--in-the-name-of",
        "people",
        "--runs",
        "supplier",
        "--services",
        "mail.send",
        "--stages",
        "test,prod",
    )
    told = " ".join(bare.run(*flags).out.split())
    for words in (
        "client: only a client can act on behalf of people",
        "advised: to every place",
        "choose 1:",
        "b) alone, narrowed",
        "What a thief would get",
        "mailer-test, mailer-prod",
        "scopes: [mail.send], acts: on-behalf",
    ):
        assert words in told, told
    found = bare.run(*flags, "--format", "json").json
    assert (found["identity"]["answer"], len(found["choices"]), found["names"]) == ("client", 2, ["mailer-test", "mailer-prod"])
    file = bare.folder / "wish.yaml"
    file.write_text(
        "name: mailer\nsigns_in: form\nin_the_name_of: people\nruns: supplier\nservices: [mail.send]\nstages: [test, prod]\n"
    )
    assert bare.run("advise", "--file", str(file), "--format", "json").json == found
    asked = bare.answered("robot\nforms\nweb\nyes\nown\nno\npassword\nown\n", "advise", "--format", "json")
    assert json.loads(asked.out)["credential"]["answer"] == "password"
    assert "Write tokens or form or web." in asked.err
    draft = bare.run("advise", "night-robot", "--signs-in", "web", "--mailbox", "--draft").out
    assert draft.startswith("charter: night-robot\n")
    for line, told in (
        ("signs_in: hands", "known: tokens"),
        ("sings_in: form", "did you mean signs_in?"),
        ("mailbox: 3", "cannot be taken"),
        ("[]", "no answers"),
    ):
        file.write_text(f"{line}\n")
        ran = bare.run("advise", "x", "--file", str(file))
        assert (ran.code, told in ran.err) == (3, True), ran.err
    assert bare.run("advise").code == bare.run("advise", "x", "--accepts", "fingerprint").code == 2


def test_every_draft_that_is_advised_is_a_charter_once_its_capitals_are_filled(bare: Desk, sandbox: Sandbox) -> None:
    bare.know(sandbox.tenant("roster"), "roster", "lena.frost")
    for flags in (
        (),
        ("--signs-in", "form"),
        ("--signs-in", "web"),
        ("--mailbox",),
        ("--in-the-name-of", "people"),
        ("--runs", "supplier"),
    ):
        draft = bare.run("advise", "feed", "--tenant", "roster", *flags, "--draft").out
        for word, value in (
            ("WHAT feed IS FOR", "x"),
            ("PLACE", "brindlemoor/mailboxes/trial"),
            ("NETWORK", "10.0.0.0/8"),
            ("API", "mail"),
            ("SCOPE", "mail.send"),
            ("LICENCE", "mail-seat"),
            ("ROLE", "mailbox-user"),
            ("WHY", "y"),
        ):
            draft = draft.replace(word, value)
        bare.charter(draft, "feed")
        ran = bare.run("charter", "check", "feed")
        assert ran.code == 0, f"{flags} {draft} {ran.err}"
