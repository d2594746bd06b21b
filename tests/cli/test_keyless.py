"""Without keys: a workload's profile on the right and the wrong machine, proofs by a trust, tokens that are ended."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import pytest

from conftest import CHARTER, Away, Desk, Sandbox

READER = """\
charter: mast-reader
tenant: summit
owner: mara.teel@brindlemoor.example
purpose: Shows the wind of the masts to the neighbour
identity: {kind: service-account, name: mast-reader, display: Mast reader}
grants: [{role: stream-reader, at: brindlemoor/sensing-prod, because: it shows the wind}]
trusts:
  - name: valley
    issuer: valley
    audience: summit
    subject: {account: "4712", machine_role: mast-reader}
    when: [{claim: account, equals: "4712"}, {claim: tags, has: masts}]
proofs:
  - {can: stream.read, at: brindlemoor/sensing-prod/streams/mast-4}
  - {can: sign-in, trust: valley, outside: {account: "4712", machine_role: mast-reader}}
  - {cannot: sign-in, trust: valley, outside: {account: "4712", machine_role: night-clerk}}
  - {cannot: sign-in, trust: valley, outside: {account: "4713", machine_role: mast-reader}}
"""
SHOW = "import json, os; print(json.dumps({n: open(v).read() if n.endswith('_FILE') else v for n, v in os.environ.items() if n.startswith(('MAST_READER', 'SIGILLUM', 'WHO'))}))"


@dataclass
class Keyless:
    """A workspace whose charter has no key, and the tokens of some machines."""

    desk: Desk
    away: Away
    machines: str

    def token(self, name: str, audience: str = "summit") -> Path:
        path, address = self.desk.folder / f"{name}.jwt", f"{self.machines}/{name}/token?audience={audience}"
        path.write_text(self.away.sandbox.pool.request("GET", address).json()["token"])
        path.chmod(0o600)
        return path

    def profile(self, *way: str, name: str = "p.json") -> Path:
        path = self.desk.folder / name
        ran = self.desk.run("trust", "profile", "mast-reader", *way, "--out", str(path))
        assert ran.code == 0, ran.out + ran.err
        return path

    def with_(self, *words: str, **more: str) -> subprocess.CompletedProcess[str]:
        """Elsewhere: no workspace is near."""
        return subprocess.run(
            [sys.executable, "-m", "sigillum", "with", *words, "--", sys.executable, "-c", SHOW],
            cwd="/",
            capture_output=True,
            text=True,
            env={**os.environ, "SIGILLUM_TIMEOUT": "20", **more},
            timeout=60,
        )


@pytest.fixture
def keyless(bare: Desk, sandbox: Sandbox) -> Keyless:
    away = sandbox.tenant("summit")
    bare.know(away)
    valley = bare.know_valley(away)
    bare.charter(READER, "mast-reader")
    assert bare.run("enact", "mast-reader", "--yes", "--no-prove").code == 0
    return Keyless(bare, away, f"{valley}/machines")


def test_a_profile_serves_on_the_right_machine_alone(keyless: Keyless) -> None:
    desk, right, wrong = keyless.desk, keyless.token("reader-1"), keyless.token("clerk-1")
    path = keyless.profile("--token-file", str(right))
    told = desk.run("key", "read", str(path), "--format", "json").json
    assert "no secret" in json.dumps(told), told
    ran = keyless.with_("--profile", str(path))
    seen = json.loads(ran.stdout)
    assert (ran.returncode, ran.stderr, sorted(seen)) == (
        0,
        "",
        ["MAST_READER_HEADER_FILE", "MAST_READER_TENANT", "MAST_READER_TOKEN_FILE"],
    )
    token = seen["MAST_READER_TOKEN_FILE"].strip()
    called = keyless.away.sandbox.pool.request(
        "GET",
        f"{keyless.away.address.removesuffix('/scim/v2')}/work/streams/brindlemoor/sensing-prod/streams/mast-4",
        headers={"Authorization": f"Bearer {token}"},
    )
    assert called.status != 401
    for way, more in (
        (("--address", f"{keyless.machines}/reader-1/token?audience=summit", "--pointer", "/token"), {}),
        (("--variable", "WHO"), {"WHO": right.read_text()}),
        (("--command", f"cat {right}"), {}),
    ):
        name = f"{way[0].strip('-')}.json"
        flags = ("--allow-command",) if way[0] == "--command" else ()
        ran = keyless.with_("--profile", str(keyless.profile(*way, name=name)), *flags, "--put", "environment", **more)
        assert ("MAST_READER_TOKEN" in json.loads(ran.stdout), "WHO" in json.loads(ran.stdout)) == (True, False), ran.stderr
    content = json.loads(path.read_text())
    # what is otherwise, and what is told
    for change, code, told_ in (
        ({"reads": {"file": str(wrong)}}, 6, 'sub is "4712:mast-reader": it is another one'),
        ({"reads": {"file": "/nowhere"}}, 3, "cannot be read"),
        ({"reads": {"command": ["cat", str(right)]}}, 2, "say --allow-command"),
        ({"tenant": {**content["tenant"], "endpoint": "https://evil.example/token"}}, 2, "lies elsewhere than its tenant"),
        ({"reads": {"file": str(right), "variable": "X"}}, 3, "just one way"),
        ({"extra": 1}, 3, "extra"),
        ({"trust": {**content["trust"], "id": "another"}}, 4, "invalid_target"),
        ({"reads": {"address": "http://10.0.0.1/token"}}, 2, "only https"),
        ({"reads": {"address": "https://x.example/token", "header": {"X": "é"}}}, 3, "no header can hold"),
        ({"reads": {"address": "https://x.example/token", "header": {"Xé": "y"}}}, 3, "no name of a header"),
        ({"reads": {"address": "https://x.example/token", "header": {"Host": "y"}}}, 3, "by the HTTP library alone"),
    ):
        other = desk.folder / "other.json"
        other.write_text(json.dumps({**content, **change}))
        ran = keyless.with_("--profile", str(other))
        assert (ran.returncode, told_ in ran.stderr, "Traceback" in ran.stderr) == (code, True, False), ran.stderr
    path.chmod(0o666)
    ran = keyless.with_("--profile", str(path))
    assert (ran.returncode, "others can write this profile" in ran.stderr) == (8, True)
    assert keyless.with_("--profile", str(path), "mast-reader").returncode == 2
    for words in (
        ("--token-file", "x", "--trust", "vally"),
        ("--command", " "),
        ("--command", "cat 'x"),
        ("--token-file", "x", "--header", "A=B"),
        ("--address", "http://127.0.0.1:1", "--header", "A"),
    ):
        assert desk.run("trust", "profile", "mast-reader", *words).code == 2, words


def test_a_trust_is_proved_with_the_tokens_that_are_at_hand(keyless: Keyless) -> None:
    desk, right, wrong = keyless.desk, keyless.token("reader-1"), keyless.token("clerk-1")

    def results(*words: str) -> list[tuple[bool | None, str]]:
        return [
            (r["held"], r["how"])
            for r in desk.run("prove", "mast-reader", *words, "--format", "json").json["charters"][0]["proofs"]
        ]

    decided = "decided, not tried"
    assert results()[1:] == [(True, decided)] * 3
    assert results("--outside", str(right), "--outside", str(wrong)) == [
        (True, "tried"),
        (True, "tried"),
        (True, "tried"),
        (True, decided),
    ]
    assert results("--outside", str(wrong))[2] == (None, "tried")  # refused, and nobody beside it was let in
    for old, new, told in (
        ('trust: valley, outside: {account: "4713"', 'trust: vally, outside: {account: "4713"', "did you mean valley?"),
        ('"4713", machine', '"471x", machine', "has to be a number"),
        (
            '{cannot: sign-in, trust: valley, outside: {account: "4713", machine_role: mast-reader}}',
            "{cannot: sign-in, trust: valley}",
            "named by its subject and a trust",
        ),
        ("{can: stream.read, at:", "{can: stream.read, trust: valley, outside: x, at:", "cannot stand here"),
    ):
        desk.charter(READER.replace(old, new), "mast-reader")
        ran = desk.run("charter", "check", "mast-reader")
        assert (ran.code, told in ran.out + ran.err) == (3, True), ran.out + ran.err


def test_a_refusal_of_a_token_for_another_reason_shows_nothing(keyless: Keyless, ticking: Callable[[int], None]) -> None:
    """Only a condition of the trust shows that somebody cannot get in: an expired token, or one for somebody else, is none."""
    desk, old_right, old_wrong = keyless.desk, keyless.token("reader-1"), keyless.token("clerk-1")
    settings = desk.folder / "sigillum.yaml"
    settings.write_text(settings.read_text().replace("    stage: prod\n", "    stage: prod\n    clock: tenant\n"))
    for kept in (old_right, old_wrong):
        kept.rename(kept.with_suffix(".old"))
    other = keyless.token("clerk-1", audience="winch")
    other = other.rename(other.with_suffix(".other"))
    ticking(7200)
    olds = [str(p.with_suffix(".old")) for p in (old_right, old_wrong)]

    def proved(*files: str) -> tuple[list[tuple[bool | None, str]], str]:
        ran = desk.run("prove", "mast-reader", *(w for f in files for w in ("--outside", f)), "--format", "json")
        return [(r["held"], r["how"]) for r in ran.json["charters"][0]["proofs"]][1:], ran.err

    found, told = proved(*olds)
    assert (found, told.count("it ended at"), "was not tried" in told) == ([(True, "decided, not tried")] * 3, 2, True)
    found, told = proved(olds[0], olds[1], str(keyless.token("reader-1")), str(other))
    assert (found[0], found[1]) == ((True, "tried"), (True, "decided, not tried")), told
    assert "it is for winch" in told
    found, told = proved(olds[1], str(keyless.token("reader-1")), str(keyless.token("clerk-1")))  # a better one is preferred
    assert found[:2] == [(True, "tried")] * 2
    stranger = keyless.token("stranger")
    assert "no proof names it" in proved(str(stranger))[1]


def test_a_token_that_matches_and_is_accepted_nowhere(keyless: Keyless) -> None:
    desk, payload = keyless.desk, keyless.token("reader-1").read_text().split(".")[1]
    assert desk.run("trust", "try", str(keyless.token("reader-1")), "mast-reader").code == 0
    unsigned = desk.folder / "unsigned.jwt"
    unsigned.write_text(f"eyJhbGciOiJub25lIn0.{payload}.")
    ran = desk.run("trust", "try", str(unsigned), "mast-reader")
    assert (ran.code, "It matches valley, and is accepted nowhere: it is not signed" in ran.out) == (1, True), ran.out
    tried = desk.run(
        "token", "try", str(unsigned), "stream.read", "brindlemoor/sensing-prod", "--tenant", "summit", "--format", "json"
    )
    found = desk.run("token", "read", str(unsigned), "--format", "json").json
    assert (tried.code, {f["code"] for f in tried.json["findings"]}) == (
        1,
        {f["code"] for f in found["findings"] if f["refuse"]},
    )


def test_a_trust_with_other_conditions_takes_the_place_of_the_one_before(keyless: Keyless) -> None:
    desk, right = keyless.desk, keyless.token("reader-1")
    for number, tag in ((2, "night"), (3, "masts")):
        desk.charter(READER.replace("has: masts", f"has: {tag}"), "mast-reader")
        ran = desk.run("enact", "mast-reader", "--yes", "--end")
        assert (ran.code, [t["name"] for t in keyless.away.state()["resources"]["Trust"]]) == (0, [f"valley-{number}"]), (
            ran.out + ran.err
        )
        assert desk.run("token", "swap", "mast-reader", str(right), "--out", str(desk.folder / f"{number}.token")).code == 0
    assert desk.run("rehearse", "mast-reader", "--format", "json").json["charters"][0]["steps"] == []


def test_a_trust_that_is_replaced_names_the_profiles_to_write_again(keyless: Keyless) -> None:
    desk, path = keyless.desk, keyless.desk.folder / "p.json"
    listed = ("trust", "profile", "mast-reader", "--list", "--format", "json")
    assert (desk.run(*listed).json["profiles"], desk.run(*listed).code) == ([], 0)
    keyless.profile("--token-file", "/run/token")
    ran = desk.run(*listed)
    assert ([(p["to"], p["exists"]) for p in ran.json["profiles"]], ran.code) == ([(str(path), True)], 0)
    charter = desk.folder / "charters" / "mast-reader.yaml"
    charter.write_text(charter.read_text().replace("has: masts", "has: night"))
    notes = desk.run("rehearse", "mast-reader", "--format", "json").json["charters"][0]["notes"]
    assert [n["text"].partition(" names")[0] for n in notes if n["code"] == "profile-old"] == [f"{path}: such a profile"]
    assert desk.run("enact", "mast-reader", "--yes", "--end").code in (0, 1)
    ran = desk.run("trust", "profile", "mast-reader", "--list")
    assert (ran.code, "its trust is gone: write it again" in ran.out) == (1, True), ran.out
    path.unlink()
    keyless.profile("--token-file", "/run/token")
    assert desk.run(*listed).code == 0


def test_that_no_private_key_exists_is_attested_place_by_place(keyless: Keyless) -> None:
    desk = keyless.desk
    ran = desk.run("key", "attest", "mast-reader")
    assert (
        ran.code,
        ran.out.count(" none "),
        "No private key of mast-reader exists" in ran.out,
        "by the trust valley" in ran.out,
    ) == (0, 5, True, True), ran.out + ran.err
    elsewhere = desk.folder.parent / "scripts"
    elsewhere.mkdir()
    assert desk.run("key", "make", str(elsewhere / "found.jwk")).code == 0
    ran = desk.run("key", "attest", "mast-reader", str(elsewhere), "--format", "json")
    looked = [(p["where"], p["found"]) for p in ran.json["looked"]]
    assert (ran.code, looked[4:], ran.json["none"]) == (6, [("files", []), ("keys of nobody knows whom", None)], False), ran.out
    desk.charter(READER + "credentials: [{name: late-key, kind: key-pair, lasts: 30d}]\n", "mast-reader")
    assert desk.run("enact", "mast-reader", "--yes", "--no-prove").code == 0
    assert [len(p["found"]) for p in desk.run("key", "attest", "mast-reader", "--format", "json").json["looked"]] == [
        1,
        1,
        1,
        2,
        0,
    ]
    for words, code in ((("nobody",), 2), (("mast-reader", str(desk.folder / "none")), 3)):
        assert desk.run("key", "attest", *words).code in (code, 3)


def test_other_ways_in_are_named_and_those_that_nobody_here_made_are_suspicious(keyless: Keyless) -> None:
    desk, away = keyless.desk, keyless.away
    assert (
        desk.run(
            "lend", "identity-user", "--at", "@mast-reader", "--to", "ada.rusk", "--for", "10m", "--because", "x", "--yes"
        ).code
        == 0
    )
    ran = desk.run("suspend", "mast-reader", "--because", "x", "--yes")
    told = " ".join(ran.out.split())
    assert (ran.code, "by the trust valley" in told, "ada.rusk, who may act as it (identity-user)" in told) == (
        0,
        True,
        True,
    ), ran.out + ran.err
    assert desk.run("reinstate", "mast-reader", "--because", "x").code == 0
    desk.charter(READER + "credentials: [{name: late-key, kind: key-pair, lasts: 30d}]\n", "mast-reader")
    assert desk.run("enact", "mast-reader", "--yes", "--no-prove").code == 0
    account = next(u["id"] for u in away.state()["resources"]["User"] if u["userName"] == "mast-reader")
    away.make(
        "/Trusts",
        {
            "schemas": ["urn:sigillum:scim:1.0:Trust"],
            "principal": {"$ref": f"../Users/{account}"},
            "name": "back-door",
            "issuer": "https://elsewhere.example",
            "audience": "x",
        },
    )
    ran = desk.run("rotate", "mast-reader", "--exposed", "--yes", "--format", "json")
    assert [x["what"] for x in ran.json["rotations"][0]["exposure"]["suspicions"] if "lent until" not in x["what"]] == [
        "tokens of https://elsewhere.example, by the trust back-door, which nobody here made"
    ], ran.out


def test_a_token_is_ended_and_shown_to_be_refused(desk: Desk, away: Away) -> None:
    desk.charter(CHARTER)
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    out = desk.folder / "a.token"
    assert desk.run("token", "fetch", "wind-ingest", "--out", str(out)).code == 0
    for before in (True, False):
        ran = desk.run("token", "end", str(out), "--tenant", "summit", "--format", "json")
        assert (ran.code, ran.json["taken_before"], ran.json["taken_now"], out.read_text().strip() in ran.out) == (
            0,
            before,
            False,
            False,
        )
    assert "was refused before, too, and is refused now" in desk.run("token", "end", str(out), "--tenant", "summit").out
    for file in ("none", "sigillum.yaml"):
        assert desk.run("token", "end", str(desk.folder / file), "--tenant", "summit").code == 3


def test_a_bogus_token_is_told_from_a_missing_right(desk: Desk, away: Away, tmp_path: Path) -> None:
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    token = tmp_path / "access.token"
    assert desk.run("token", "fetch", "wind-ingest", "--out", str(token)).code == 0
    mast = "brindlemoor/sensing-prod/streams/mast-4"

    def tried(file: Path, permission: str = "stream.read", place: str = mast) -> tuple[int, str, str]:
        ran = desk.run("token", "try", str(file), permission, place, "--tenant", "summit", "--format", "json")
        return ran.code, ran.json["state"], ran.json["cause"]

    assert (tried(token), tried(token, "stream.delete"), tried(token, "board.read", "brindlemoor")) == (
        (0, "allowed", ""),
        (1, "refused", "role-lacks"),
        (1, "refused", "service-off"),
    )
    assert "(403)" in desk.run("token", "try", str(token), "stream.delete", mast, "--tenant", "summit").out
    for text, said in (
        ("bogus", "ended, or is nobody's here"),
        (token.read_text()[:-9] + "AAAAAAAA", "ended, or is nobody's here"),
        (away.tokens["watch"][:-3], ""),
    ):
        (tmp_path / "b").write_text(text)
        assert tried(tmp_path / "b") == tried(tmp_path / "b", "stream.append") == (1, "not taken", "")
        assert (
            "(401): "
            in (
                out := " ".join(
                    desk.run("token", "try", str(tmp_path / "b"), "stream.read", mast, "--tenant", "summit").out.split()
                )
            )
            and said in out
        )
    assert [desk.run("token", "try", str(token), w, mast, "--tenant", "summit").code for w in ("stream.raed", "x")] == [2, 2]
    (tmp_path / "b").write_text("a b")
    assert desk.run("token", "try", str(tmp_path / "b"), "stream.read", mast, "--tenant", "summit").code == 3


def test_who_acts_with_a_token_from_outside_is_named(keyless: Keyless) -> None:
    desk, outside = keyless.desk, keyless.token("reader-1")
    own = desk.folder / "own.token"
    assert desk.run("token", "swap", "mast-reader", str(outside), "--out", str(own)).code == 0
    ran = desk.run("token", "swap", "mast-reader", str(outside), "--actor", str(own), "--out", str(desk.folder / "a.token"))
    assert (ran.code, "acting, stands in" in ran.out) == (0, True), ran.err
    told = desk.run("token", "read", str(desk.folder / "a.token"), "--format", "json").json
    assert told["claims"]["act"] == {"sub": told["claims"]["sub"]}
    (desk.folder / "bad.token").write_text("x.y.z")
    assert (
        desk.run(
            "token",
            "swap",
            "mast-reader",
            str(outside),
            "--actor",
            str(desk.folder / "bad.token"),
            "--out",
            str(desk.folder / "b.token"),
        ).code
        == 4
    )


def test_advice_reads_what_services_take_with_the_day_of_it(keyless: Keyless) -> None:
    found = keyless.desk.run(
        "advise", "board", "--tenant", "summit", "--services", "board-publisher", "--runs", "cloud", "--format", "json"
    ).json
    assert (found["credential"]["answer"], found["wish"]["by"]) == (
        "trust",
        ["summit says that board.publish is used with key-pair, certificate, trust, signing, as of 2026-11-18"],
    )
    found = keyless.desk.run("advise", "wind", "--tenant", "summit", "--services", "stream-reader", "--format", "json").json
    assert (found["credential"]["answer"], found["wish"]["by"]) == ("key-pair", [])


def test_what_nobody_here_reads_is_not_counted(keyless: Keyless) -> None:
    """It may; how much it would read shows a token from outside alone."""
    desk = keyless.desk
    desk.charter(READER.replace("mast-4}\n", "mast-4, at_least: 1}\n", 1), "mast-reader")
    ran = desk.run("prove", "mast-reader", "--format", "json")
    assert (ran.code, ran.json["charters"][0]["proofs"][0]["held"]) == (1, None), ran.out
    ran = desk.run("enact", "mast-reader", "--yes", "--outside", str(keyless.token("reader-1")))
    assert (ran.code, "at least 1" in ran.out, "tried" in ran.out) == (0, True, True), ran.out + ran.err


def test_by_no_door_counts_every_door_whoever_made_it(keyless: Keyless, ticking: Callable[[int], None]) -> None:
    desk, away = keyless.desk, keyless.away
    desk.charter(READER + '  - {cannot: sign-in, outside: "valley:4712:night-clerk"}\n', "mast-reader")

    def said() -> tuple[object, str]:
        one = desk.run("prove", "mast-reader", "--format", "json").json["charters"][0]["proofs"][-1]
        return one["held"], one["said"]

    [own] = away.state()["resources"]["Trust"]
    subject = own["subject"].replace("mast-reader", "night-clerk")
    desk.charter(READER + f'  - {{cannot: sign-in, outside: "{subject}"}}\n', "mast-reader")
    assert said() == (True, "none of its 1 trusts lets it in")
    theirs = {n: v for n, v in own.items() if n not in ("id", "meta", "externalId", "when", "conditions")}
    theirs |= {"name": "theirs", "subject": subject}
    assert away.scim("POST", "/Trusts", theirs).status == 201
    ticking(10)
    assert said() == (False, "the trust theirs lets it in")
    token = keyless.token("clerk-1")
    ran = desk.run("prove", "mast-reader", "--outside", str(token), "--format", "json")
    last = ran.json["charters"][0]["proofs"][-1]
    assert (ran.code, last["held"], last["how"]) == (1, False, "tried"), last
    ran = desk.run("enact", "mast-reader", "--yes", "--end", "--end-extra", "--no-prove")
    assert ran.code == 0, ran.out + ran.err
    assert (len(away.state()["resources"]["Trust"]), said()[0]) == (1, True)
    desk.charter(READER + '  - {can: sign-in, outside: "x"}\n', "mast-reader")
    assert desk.run("charter", "check", "mast-reader").code == 3


def test_the_ways_in_of_a_retired_identity_without_keys_are_told(keyless: Keyless) -> None:
    ran = keyless.desk.run("retire", "mast-reader", "--because", "over", "--yes", "--format", "json")
    [one] = ran.json["retired"]
    ways = [w for w in one["closed"]["ways"] if "by the trust valley" in w["way"]] if "closed" in one else one["ways"]
    assert (ran.code, [w["refused"] for w in ways]) == (0, [True]), ran.out
