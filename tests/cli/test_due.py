"""What is due: in order of time, with what stops then; as a calendar whose entries stay the same ones; and ahead of time."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import UTC, datetime, timedelta

from icalendar import Calendar

from conftest import CHARTER, Away, Desk, Sandbox

NEAR = (
    CHARTER.replace("lasts: 90d", "lasts: 30d, renew_before: 20d, consumers: [mast-gateway]")
    .replace(
        "because: stores the readings}",
        "because: stores the readings}\n  - {role: stream-reader, at: brindlemoor/cameras, for: 2d, because: looks}",
    )
    .replace("owner: mara", "review: 2026-01-31\nowner: mara")
)


def test_everything_that_ends_in_order_of_time(desk: Desk, away: Away, sandbox: Sandbox) -> None:
    desk.charter(NEAR)
    nothing = desk.run("due", "--format", "json")
    assert (nothing.code, [(d["kind"], d["state"]) for d in nothing.json["due"]]) == (1, [("review", "over")])
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    assert (
        desk.run(
            "lend",
            "stream-keeper",
            "--at",
            "brindlemoor/sensing-prod/streams/mast-test",
            "--to",
            "wind-ingest",
            "--for",
            "3h",
            "--because",
            "clears",
            "--yes",
        ).code
        == 0
    )
    assert desk.run("handover", "key", str(desk.folder / "g.jwk")).code == 0
    assert (
        desk.run(
            "handover",
            "wind-ingest",
            "--seal-to",
            str(desk.folder / "g.public.jwk"),
            "--lasts",
            "5d",
            "--out",
            str(desk.folder / "s"),
        ).code
        == 0
    )
    found = desk.run("due", "--format", "json").json["due"]
    assert [(d["kind"], d["state"]) for d in found] == [
        ("review", "over"),
        ("handed over", "due"),
        ("loan", "later"),
        ("grant", "later"),
        ("sealed sheet", "later"),
        ("credential", "later"),
    ]
    assert found == sorted(found, key=lambda d: d["at"])
    assert "go without: mast-gateway" in found[-1]["then"]
    assert [d["kind"] for d in desk.run("due", "--within", "12h", "--format", "json").json["due"]] == [
        "review",
        "handed over",
        "loan",
    ]
    ahead = (datetime.now(UTC) + timedelta(days=12)).strftime("%Y-%m-%dT%H:%M:%SZ")
    later = desk.run("due", "--when", ahead, "--format", "json").json["due"]
    assert [(d["kind"], d["state"]) for d in later] == [
        ("review", "over"),
        ("handed over", "due"),
        ("loan", "over"),
        ("grant", "over"),
        ("credential", "due"),
    ]
    assert "wind-ingest: the credential ingest-key" in " ".join(desk.run("due").out.split())
    assert desk.run("due", "--format", "csv").out.startswith("at,state,kind,charter,what")
    assert desk.run("due", "nobody").code == 3
    desk.charter("charter: odd\ntenant: nowhere\n", "odd")
    left = desk.run("due", "--format", "json")
    assert (left.code, "odd is left out" in left.err, left.json["due"] == found) == (3, True, True)


def test_another_import_of_the_calendar_changes_what_is_there(desk: Desk, away: Away) -> None:
    desk.charter(NEAR)
    assert desk.run("enact", "wind-ingest", "--yes").code == 0

    def events() -> dict[str, tuple[datetime, timedelta]]:
        path = desk.folder / "due.ics"
        desk.run("due", "--within", "365d", "--calendar", str(path))
        made = Calendar.from_ical(path.read_bytes())
        return {str(e["uid"]): (e.decoded("dtstart"), e.walk("VALARM")[0].decoded("trigger")) for e in made.walk("VEVENT")}

    first = events()
    assert (len(first), events()) == (3, first)
    assert timedelta(days=-20) in {alarm for _, alarm in first.values()}
    desk.charter(NEAR.replace("review: 2026-01-31", "review: 2027-01-31"))
    second = events()
    assert (set(second), second != first) == (set(first), True)
    assert desk.run("due", "--calendar", "/nowhere/x.ics").code == 3


def test_a_request_without_an_answer_is_due(bare: Desk, sandbox: Sandbox) -> None:
    roster = sandbox.tenant("roster")
    bare.know(roster, "roster", "lena.frost")
    bare.run(
        "charter",
        "new",
        "rota",
        "--kind",
        "client",
        "--scope",
        "calendar:calendar.read",
        "--tenant",
        "roster",
        "--purpose",
        "Reads the rota",
    )
    assert bare.run("enact", "rota", "--yes").code == 6
    found = [d for d in bare.run("due", "--format", "json").json["due"] if d["kind"] == "request"]
    assert [(d["state"], d["charter"], "calendar.read" in d["what"]) for d in found] == [("due", "rota", True)]


def test_each_tenants_clock_counts_where_it_is_followed(bare: Desk, sandbox: Sandbox, ticking: Callable[[int], None]) -> None:
    """By this machine's clock its key would be fresh: there, it is over."""
    away = sandbox.tenant()
    bare.know(away, "summit")
    settings = bare.folder / "sigillum.yaml"
    settings.write_text(re.sub(r"(\n  summit:\n)", r"\1    clock: tenant\n", settings.read_text()))
    bare.charter(CHARTER)
    assert bare.run("enact", "wind-ingest", "--yes").code == 0

    def state(*words: str) -> str:
        within = () if "--within" in words else ("--within", "1d")
        found = bare.run("due", "--format", "json", *within, *words).json["due"]
        return str(next((d["state"] for d in found if d["kind"] == "credential"), ""))

    assert [state("--within", "365d"), state("--when", "+85d"), state("--when", "+91d"), state()] == [
        "later",
        "due",
        "over",
        "",
    ]
    ticking(91 * 86_400)
    assert state() == "over"
    settings.write_text(settings.read_text().replace(away.address, "http://127.0.0.1:9/scim/v2"))
    assert "counted by this machine's clock" in bare.run("due", "--format", "json").err


def test_what_belongs_to_somebody_who_leaves(bare: Desk, sandbox: Sandbox) -> None:
    away = sandbox.tenant()
    bare.know(away, "summit")
    bare.charter(CHARTER)
    assert bare.run("enact", "wind-ingest", "--yes").code == 0
    [key] = away.of("Credential")
    ran = bare.run("due", "--of", "wind-ingest@brindlemoor.example", "--format", "json")
    assert [d["what"] for d in ran.json["due"]] == ["the key-pair ingest-key of wind-ingest@brindlemoor.example"]
    assert (ran.json["due"][0]["at"], ran.json["by"]) == (key["validUntil"], "ledger and tenants")
    owned = bare.run("due", "--of", "mara.teel", "--within", "365d", "--format", "json").json["due"]
    assert "the credential ingest-key" in [d["what"] for d in owned]
    assert bare.run("due", "--of", "nobody.at.all", "--within", "365d", "--format", "json").json["due"] == []
    assert "its key-pair" in bare.run("tenant", "identify", "wind-ingest").out
