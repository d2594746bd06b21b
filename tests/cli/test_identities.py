"""Clients, consents and requests, with the real program, several administrators and two tenants."""

from __future__ import annotations

import io
import json
import signal
from pathlib import Path
from typing import Any

import pytest
from joserfc import jws
from joserfc.jwk import OKPKey
from rich.console import Console

from conftest import Away, Desk, Fork, Ran, Sandbox, boundaries, kill_at
from sigillum.cli.views.rehearsal import ABOVE, details
from sigillum.cli.views.requests import text as request_text
from sigillum.core.kinds.changes import Make
from sigillum.core.kinds.registry import KINDS
from sigillum.core.records.letters import document
from sigillum.core.records.requests import Request, numbered
from sigillum.core.records.steps import Step, StepKind
from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.marks import Mark, StepId
from sigillum.keys import signed
from sigillum.keys.ledgerkey import LedgerKey

KAI, JON = "kai.lund@brindlemoor.example", "jon.askew@brindlemoor.example"
BOX = "brindlemoor/mailboxes"
MAILER = f"""\
charter: avalanche-mailer
tenant: roster
purpose: Sends avalanche warnings for the snow watch
owner: mara.teel@brindlemoor.example
identity: {{kind: client, name: avalanche-mailer, display: Avalanche mailer, usable_in: any-tenant, redirects: ["https://mailer.example/back"]}}
permissions:
  - {{api: mail, scopes: [mail.send], acts: on-behalf, only: [{BOX}/warnings, {BOX}/trial]}}
  - {{api: mail, scopes: [mail.read], acts: alone, only: [{BOX}/trial]}}
grants:
  - {{role: stream-reader, at: brindlemoor/sensing-prod, in: summit}}
credentials:
  - {{name: mailer-key, kind: key-pair, lasts: 90d, limits: [mail.send, mail.read]}}
proofs:
  - {{can: mail.read, at: {BOX}/trial}}
  - {{cannot: mail.read, at: {BOX}/board}}
  - {{can: mail.send, at: {BOX}/warnings, on_behalf_of: {KAI}}}
  - {{cannot: mail.send, at: {BOX}/board, on_behalf_of: {KAI}}}
  - {{cannot: mail.send, at: {BOX}/warnings, on_behalf_of: {JON}}}
  - {{can: stream.read, at: brindlemoor/sensing-prod/streams/mast-4, in: summit, count: 3}}
  - {{cannot: stream.delete, at: brindlemoor/sensing-prod/streams/mast-4, in: summit}}
"""
ENACT = ["enact", "avalanche-mailer", "--yes", "--end"]


def pair(sandbox: Sandbox, **limits: float) -> tuple[Away, Away]:
    """A fresh roster, and a fresh summit that takes its clients as foreign principals."""
    roster, summit = sandbox.tenant("roster", **limits), sandbox.tenant("summit", **limits)
    sandbox.control("tenants", {"describe": {summit.name: {"organisations": [roster.name]}}})
    return roster, summit


def settle(desk: Desk, roster: Away, summit: Away, *, consenting: bool = True) -> None:
    """Make a workspace know both; with an administrator who may consent, or only that administrator's name."""
    token = desk.folder / ".sigillum" / "nils.token"
    token.write_text(roster.tokens["nils.brack"])
    token.chmod(0o600)
    told = "token: 'file:.sigillum/nils.token'" if consenting else "powers: [consents], contact: nils.brack@brindlemoor.example"
    desk.know(roster, "roster", "lena.frost", extra=f"    admins: [{{name: nils.brack, {told}}}]\n")
    desk.know(summit)
    desk.charter(MAILER, "avalanche-mailer")


@pytest.fixture
def both(bare: Desk, sandbox: Sandbox) -> tuple[Desk, Away, Away]:
    roster, summit = pair(sandbox)
    settle(bare, roster, summit)
    return bare, roster, summit


def look(desk: Desk, *more: str) -> Any:
    return desk.run("rehearse", "avalanche-mailer", "--format", "json", *more).json["charters"][0]


def mine(away: Away, name: str) -> list[dict[str, Any]]:
    """What belongs to the mailer, of one type."""
    found = away.state()["resources"]
    ids = (
        {c["id"] for c in found["Client"] if c["name"] == "avalanche-mailer"}
        | {p["id"] for p in found["ServicePrincipal"] if p.get("displayName") == "Avalanche mailer"}
        | {u["id"] for u in found["User"] if u["userName"] == "avalanche-mailer"}
    )
    return [r for r in found[name] if r["id"] in ids or r.get("principal", {}).get("value") in ids]


def check_whole(desk: Desk, roster: Away, summit: Away) -> None:
    assert [len(mine(roster, n)) for n in ("Client", "ServicePrincipal", "Consent", "Credential")] == [1, 1, 2, 1]
    assert [len(mine(summit, n)) for n in ("User", "Grant", "Credential")] == [1, 1, 0]
    assert mine(roster, "Credential")[0]["active"] is True
    assert {c["consentedBy"] for c in mine(roster, "Consent")} == {"nils.brack"}
    assert look(desk)["steps"] == []
    assert desk.run("ledger", "verify").code == 0


def test_a_client_with_consent_by_another_administrator_and_rights_in_a_second_tenant(both: tuple[Desk, Away, Away]) -> None:
    desk, roster, summit = both
    assert [s["about"] for s in look(desk)["steps"] if s["tenant"] == "summit"] == [
        "foreign principal avalanche-mailer, in summit",
        "grant of stream-reader at brindlemoor/sensing-prod, in summit",
    ]
    ran = desk.run(*ENACT, "--format", "json")
    assert ran.code == 0, ran.out + ran.err
    assert "as nils.brack" in ran.err
    proofs = ran.json["charters"][0]["proofs"]["proofs"]
    assert [(p["held"], p["how"]) for p in proofs] == [
        (True, h) for h in ("tried", "tried", *["asked, not tried"] * 3, "tried", "asked, not tried")
    ]
    check_whole(desk, roster, summit)
    before = roster.state(), summit.state()
    assert desk.run(*ENACT).code == 0
    assert (roster.state(), summit.state()) == before
    (kept,) = (json.loads(p.read_text()) for p in (desk.folder / ".sigillum" / "keys").glob("*/*.json"))
    about = kept["credential"]
    client, principal = mine(roster, "Client")[0], mine(roster, "ServicePrincipal")[0]
    assert (about["client_id"], about["principal_id"]) == (client["clientId"], principal["id"])
    desk.charter(
        MAILER.replace(f", only: [{BOX}/trial]", "").replace("mailer.example/back", "mailer.example/on"), "avalanche-mailer"
    )
    assert [(s["step"], s["facet"]) for s in look(desk)["steps"]] == [
        ("change", "client"),
        ("make", "permission"),
        ("end", "permission"),
        ("prove", "proof"),
    ]
    ran = desk.run(*ENACT)
    assert (ran.code, f"the charter says `cannot mail.read at {BOX}/board`" in " ".join(ran.out.split())) == (3, True)
    wide = (desk.folder / "charters" / "avalanche-mailer.yaml").read_text()
    desk.charter(wide.replace(f"  - {{cannot: mail.read, at: {BOX}/board}}\n", ""), "avalanche-mailer")
    assert desk.run(*ENACT).code == 0  # reading is not narrowed any more
    desk.charter(MAILER, "avalanche-mailer")
    assert desk.run(*ENACT).code == 0


def test_what_is_no_longer_wanted_in_a_second_tenant_ends_there(both: tuple[Desk, Away, Away]) -> None:
    desk, _, summit = both
    assert desk.run(*ENACT).code == 0
    lines = [x for x in MAILER.splitlines() if "in: summit" not in x and x != "grants:"]
    desk.charter("\n".join(lines) + "\n", "avalanche-mailer")
    assert [(s["step"], s["tenant"]) for s in look(desk)["steps"] if s["step"] != "prove"] == [("end", "summit")]
    assert desk.run(*ENACT).code == 0
    assert mine(summit, "Grant") == look(desk)["steps"] == []


@pytest.mark.parametrize("kind", ["shared-secret", "key-pair"])
def test_what_a_client_signs_in_with(both: tuple[Desk, Away, Away], kind: str) -> None:
    desk, roster, summit = both
    desk.charter(MAILER.replace("kind: key-pair", f"kind: {kind}"), "avalanche-mailer")
    ran = desk.run(*ENACT)
    assert ran.code == 0, ran.out + ran.err
    check_whole(desk, roster, summit)
    desk.charter(
        MAILER.replace("kind: key-pair", f"kind: {kind}").replace("limits: [mail.send, mail.read]", "limits: [mail.read]"),
        "avalanche-mailer",
    )
    ran = desk.run(*ENACT)
    assert ran.code == 0, ran.out + ran.err
    check_whole(desk, roster, summit)


@pytest.mark.parametrize("fate", [*(pytest.param(f, marks=pytest.mark.soak) for f in ("arrives", "lost-before")), "lost-after"])
def test_killed_at_every_boundary_across_two_tenants(bare: Desk, sandbox: Sandbox, forked: Fork, fate: str) -> None:
    def house(number: int | str) -> tuple[Desk, Away, Away]:
        made = Desk(bare.folder.parent / f"house-{number}", bare.capture)
        assert made.run("init", str(made.folder)).code == 0
        roster, summit = pair(sandbox)
        settle(made, roster, summit)
        return made, roster, summit

    first = house("first")[0]
    seen = boundaries(first, forked, ENACT)
    names = [n for n in seen if n.split()[-1] in ("intended", "answered", "settled", "read-back")]
    assert len(names) >= 28
    names = [n for n in names if n.startswith(("make-client", "consent", "make-credential")) or "in summit" in n]
    for number, name in enumerate(names if fate == "arrives" else [n for n in names if "answered" in n or "read-back" in n]):
        desk, roster, summit = house(number)
        if fate != "arrives":
            parts = {
                "make-client registration": "Clients",
                "make-client principal": "ServicePrincipals",
                "consent-permission mail": "Consents",
                "make-grant": "Grants",
                "make-account": "Users",
                "make-credential": "Credentials",
            }
            part = next((p for n, p in parts.items() if name.startswith(n)), "Consents")
            there = summit if "in summit" in name else roster
            sandbox.faults({"kind": fate, "method": "POST", "path": f"{there.name}/scim/v2/{part}"})
        assert forked(desk, ENACT, kill_at(name)) == (0, signal.SIGKILL), name
        sandbox.faults()
        again = desk.run(*ENACT)
        assert again.code == 0, f"{name}: {again.out}{again.err}"
        check_whole(desk, roster, summit)


# --- requests ---------------------------------------------------------------------------------------------------
def signers(desk: Desk, **known: Desk) -> None:
    path = desk.folder / "sigillum.yaml"
    path.write_text(path.read_text() + f"signers: {{{', '.join(f'{n}: {thumb(d)}' for n, d in known.items())}}}\n")


def thumb(desk: Desk) -> str:
    return thumbprint(json.loads((desk.folder / ".sigillum" / "ledger-key.json").read_text()))


def test_a_request_goes_to_another_workspace_and_comes_back_as_a_receipt(bare: Desk, sandbox: Sandbox) -> None:
    roster, summit = pair(sandbox)
    settle(bare, roster, summit, consenting=False)
    asked = [s for s in look(bare)["steps"] if s["step"] == "ask"]
    assert [s["about"].split(" only")[0] for s in asked] == [
        "nils.brack to make consent to mail.send of mail, on behalf of people,",
        "nils.brack to make consent to mail.read of mail, alone,",
    ]
    ran = bare.run(*ENACT)
    assert ran.code == 6
    assert len(mine(summit, "Grant")) == 1  # everything else went on
    for _ in range(2):  # written once
        listed = bare.run("requests", "--format", "json").json["requests"]
        assert [(r["no"], r["state"], r["to"], r["power"]) for r in listed] == [
            (1, "open", "nils.brack", "consents"),
            (2, "open", "nils.brack", "consents"),
        ]
        assert bare.run(*ENACT).code == 6
    files = sorted((bare.folder / "requests").iterdir())
    body = json.loads(files[0].read_text())
    assert [a["number"] for a in body["asks"]] == [1, 2]  # of one person, in one file
    assert body["asks"][0]["values"] == {
        "principal": mine(roster, "ServicePrincipal")[0]["id"],
        "api": "mail",
        "scope": "mail.send",
        "acts": "on-behalf",
        "only": [f"{BOX}/trial", f"{BOX}/warnings"],
    }
    assert "mail.send" in bare.run("requests", "show", "1").out
    assert json.loads(bare.run("requests", "show", "1", "--format", "json").out) == body
    other = Desk(bare.folder.parent / "other", bare.capture)
    assert other.run("init", str(other.folder)).code == 0
    lacking = other.run("requests", "answer", str(files[0]), "--yes")
    assert (lacking.code, "does not know the tenant" in lacking.err) == (6, True)
    other.know(roster, "their-roster", "nils.brack")
    stranger = other.run("requests", "answer", str(files[0]), "--yes")
    assert (stranger.code, thumb(bare) in stranger.err, mine(roster, "Consent")) == (6, True, [])
    wrong = other.answered("yes\n", "requests", "answer", str(files[0]), "--from", thumb(other))  # at a terminal, too
    assert (wrong.code, "by another key than `--from` says" in wrong.err, "Carry it out" in wrong.err) == (6, True, False)
    assert mine(roster, "Consent") == []
    one = ("--only", "1")
    first = other.run("requests", "answer", str(files[0]), "--yes", "--from", thumb(bare), *one)
    assert (first.code, "It is not so yet" in first.out) == (0, True), first.out + first.err
    receipt = Path(str(files[0]).replace(".json", ".1.receipt.json"))
    stood = other.run("requests", "answer", str(files[0]), "--yes", *one, "--format", "json").json["answers"]
    assert [a["stood"] for a in stood] == [True]  # compared again
    second = bare.run("requests", "done", "2", "--receipt", str(receipt))
    assert (second.code, "for another request" in second.err) == (3, True)
    refused = bare.run("requests", "done", "1", "--receipt", str(receipt))
    assert (refused.code, "not among `signers`" in refused.err, "closes nothing" in refused.err) == (6, True, True)
    assert len(bare.run("requests", "--format", "json").json["requests"]) == 2
    signers(bare, office=other)
    done = bare.run("requests", "done", "--receipt", str(receipt))
    assert (done.code, "signed by office" in done.out) == (0, True)
    consent = mine(roster, "Consent")[0]["id"]
    assert [
        e["body"]["id"]
        for e in bare.run("ledger", "show", "--entries", "--format", "json").json["entries"]
        if e["kind"] == "adopted"
    ] == [consent]
    signers(other, mailers=bare)
    assert "signed by mailers" in other.run("requests", "answer", str(files[0]), "--yes").out
    assert bare.run(*ENACT).code == 0
    assert bare.run("requests", "--format", "json").json["requests"] == []
    ended = bare.run("requests", "--all", "--format", "json").json["requests"]
    assert [(r["state"], r["how"]) for r in ended] == [("answered", "receipt of nils.brack"), ("answered", "seen to be done")]
    assert bare.run("requests", "done", "2").code == bare.run("requests", "done", "7").code == 2
    assert len(mine(roster, "Consent")) == 2


def test_a_request_that_was_changed_is_refused_and_an_independent_library_reads_the_signature(
    bare: Desk, sandbox: Sandbox, tmp_path: Path
) -> None:
    roster, summit = pair(sandbox)
    settle(bare, roster, summit, consenting=False)
    assert bare.run(*ENACT).code == 6
    file = min((bare.folder / "requests").iterdir())
    body = json.loads(file.read_text())
    header, _, signature = body.pop("signature").split(".")
    from sigillum.core.values.canonical import canonical
    from sigillum.keys.ledgerkey import b64, unb64

    key = OKPKey.import_key(json.loads(unb64(header))["jwk"])
    assert jws.deserialize_compact(
        f"{header}.{b64(canonical(body))}.{signature}", key, algorithms=["Ed25519"]
    ).payload == canonical(body)
    whole = file.read_text()
    for name, text in (
        ("changed", whole.replace("mail.send", "mail.read")),
        ("cut", whole[:200]),
        ("bare", json.dumps(body)),
        ("list", "[]"),
        ("odd", whole.replace(header, "e30")),
    ):
        (tmp_path / name).write_text(text)
        ran = bare.run("requests", "answer", str(tmp_path / name), "--yes")
        assert (ran.code, "  do     " in ran.err) == (3, True), name
    assert bare.run("requests", "answer", str(tmp_path / "none"), "--yes").code == 3
    assert mine(roster, "Consent") == []


def test_a_request_that_shows_one_grant_and_would_make_another_is_refused(bare: Desk, away: Away, tmp_path: Path) -> None:
    bare.know(away)
    at = away.state()["resources"]
    ids = {
        k: next(r["id"] for r in at[k] if r[n] == v)
        for k, n, v in (
            ("Role", "name", "place-manager"),
            ("Place", "path", "brindlemoor"),
            ("User", "userName", "ines.vole@brindlemoor.example"),
        )
    }
    key = LedgerKey.of(json.loads((bare.folder / ".sigillum" / "ledger-key.json").read_text()), "")
    true = {
        "Role": next(r["id"] for r in at["Role"] if r["name"] == "stream-reader"),
        "Place": next(r["id"] for r in at["Place"] if r["path"] == "brindlemoor/sensing-test"),
    }

    def sent(values: dict[str, str], about: str = "grant of stream-reader at brindlemoor/sensing-test") -> Ran:
        asked = Request(
            "make",
            "grant",
            away.address,
            about,
            {
                "principal": ids["User"],
                "role": "stream-reader",
                "role_id": true["Role"],
                "place": "brindlemoor/sensing-test",
                "place_id": true["Place"],
                **values,
            },
        )
        path = tmp_path / "asked.json"
        path.write_text(json.dumps(signed.sign(document([numbered(asked, 1, "2099-01-01T00:00:00Z")]), key)))
        return bare.run("requests", "answer", str(path), "--yes")

    for values, told in (
        ({"role_id": ids["Role"]}, "would send place-manager"),
        ({"place_id": ids["Place"]}, "would send brindlemoor"),
        ({"role_id": "none"}, "not there"),
        ({"principal": "none"}, "not there"),
        ({"reason": "a\x1b[2Jb"}, "cannot be seen"),
        ({"reason": "safe\u202eexe"}, "cannot be seen"),
        ({"reason": "a\U000e0041"}, "cannot be seen"),
    ):
        ran = sent(values)
        assert (ran.code, told in ran.err) == (3, True), ran.err + ran.out
    assert sent({}, "nothing at all\x9b1m").code == 3
    theirs = [g for g in away.state()["resources"]["Grant"] if g["principal"]["value"] == ids["User"]]
    good = sent({})
    assert (good.code, "place brindlemoor/sensing-test" in good.out, "ines.vole@brindlemoor.example" in good.out) == (
        0,
        True,
        True,
    ), good.out + good.err
    now = [g for g in away.state()["resources"]["Grant"] if g["principal"]["value"] == ids["User"]]
    assert len(now) == len(theirs) + 1  # and nothing came of the others


def test_an_account_that_somebody_else_made_becomes_ours_by_a_known_receipt(bare: Desk, away: Away) -> None:
    bare.know(away, admin="watch")
    bare.charter()
    assert bare.run("enact", "wind-ingest", "--yes").code == 6
    other = Desk(bare.folder.parent / "other", bare.capture)
    assert other.run("init", str(other.folder)).code == 0
    other.know(away)
    (file,) = (bare.folder / "requests").iterdir()
    answered = other.answered("yes\n", "requests", "answer", str(file))
    assert answered.code == 0, answered.err
    path = bare.folder / "sigillum.yaml"
    path.write_text(path.read_text() + f"signers: {{platform: {thumb(other)}}}\n")
    done = bare.run("requests", "done", "1", "--receipt", str(file).replace(".json", ".receipt.json"))
    assert (done.code, "signed by platform" in done.out) == (0, True)
    again = bare.run("rehearse", "wind-ingest", "--format", "json").json["charters"][0]
    assert (again["taken"], [s["facet"] for s in again["steps"]]) == (
        [],
        ["grant", "credential", "credential", "credential", "proof"],
    )


# --- identifiers ------------------------------------------------------------------------------------------------
def test_the_wrong_identifier_is_named_and_never_sent(both: tuple[Desk, Away, Away]) -> None:
    desk, roster, summit = both
    assert desk.run(*ENACT).code == 0
    client, principal, foreign = mine(roster, "Client")[0], mine(roster, "ServicePrincipal")[0], mine(summit, "User")[0]
    ids = {"registration": client["id"], "client id": client["clientId"], "principal": principal["id"]}

    def meanings(value: str, *more: str) -> set[tuple[str, str]]:
        found = desk.run("tenant", "identify", "--format", "json", *more, "--", value).json["meanings"]
        assert all(m["use"] and (m["whose"] or m["what"].startswith("client id of")) for m in found)
        return {(m["tenant"], m["what"]) for m in found}

    assert meanings(ids["registration"]) == {("roster", "registration id of a client")}
    assert meanings(ids["client id"]) >= {("roster", "client id"), ("summit", "client id of a client of another tenant")}
    assert meanings(ids["principal"]) == {("roster", "principal id of a client")}
    assert meanings(foreign["id"], "--tenant", "summit") == {("summit", "principal id of an account")}
    told = desk.run("tenant", "identify", ids["client id"]).out
    assert ids["registration"] in told
    assert ids["principal"] in told
    assert [
        desk.run("tenant", "identify", *words).code for words in (("nothing-of-that",), ("--send", "--", "-" + "a" * 42))
    ] == [1, 1]  # a thumbprint can begin with a dash
    assert desk.run("tenant", "identify", "x", "--tenant", "no-such").code == 3
    assert "secret" in desk.run("tenant", "identify", "eyJhbGciOi.eyJzdWIiOi.c2lnbmF0dXJl").out
    key = json.loads(next((desk.folder / ".sigillum" / "keys").glob("*/mailer-key-1.json")).read_text())["key"]
    logs = [
        desk.run("-v", "tenant", "identify", *words)
        for words in (("--", key["d"]), ("--", roster.tokens["nils.brack"]), ("--", thumb(desk)), ("--send", "--", thumb(desk)))
    ]
    assert [("GET" in ran.err and "filter" not in ran.err) or "Users" in ran.err for ran in logs] == [False, False, False, True]
    assert ("the secret of mailer-key-1" in logs[0].out, "could be a secret" in logs[2].out) == (True, True)
    assert all(k not in ran.out + ran.err for k in (key["d"],) for ran in logs)
    assert meanings(thumbprint(key)) == {("roster", "thumbprint of a public key (RFC 7638)")}
    place = f"{BOX}/trial"
    for word, given in ids.items():
        ran = desk.run("explain", given, "mail.read", place, "--tenant", "roster")
        assert ran.code == 0, ran.out + ran.err
        assert ("is meant here, and used" in ran.err) == (word != "principal")
    assert desk.run("explain", "avalanche-mailer", "mail.read", place).code == 0
    for given in ids.values():
        lent = desk.run(
            "lend",
            "site-reader",
            "--at",
            "brindlemoor/sites",
            "--to",
            given,
            "--for",
            "1h",
            "--because",
            "x",
            "--tenant",
            "roster",
        )
        assert lent.code == 0, lent.out + lent.err
        wrong = desk.run("explain", "avalanche-mailer", "mail.send", place, "--for-person", given)
        assert (wrong.code, "a person is meant here" in wrong.err) == (2, True)
    desk.charter(MAILER.replace(f"on_behalf_of: {JON}", f"on_behalf_of: {ids['client id']}"), "avalanche-mailer")
    assert "a person is meant here" in desk.run("prove", "avalanche-mailer").err
    grants = [g for g in mine(roster, "Grant") if g["principal"]["value"] == principal["id"]]
    assert len(grants) == 1


@pytest.mark.parametrize(
    ("permission", "place", "person", "cause"),
    [
        ("mail.send", "warnings", KAI, "allowed"),
        ("mail.send", "board", KAI, "consent-narrower"),
        ("mail.send", "warnings", JON, "person-lacks"),
        ("mail.send", "warnings", "who@x.example", "person-unknown"),
        ("mail.send", "warnings", "", "way-differs"),
        ("mail.read", "trial", KAI, "way-differs"),
        ("calendar.read", "trial", "", "not-requested"),
    ],
)
def test_answers_of_one_text_are_told_apart(
    both: tuple[Desk, Away, Away], permission: str, place: str, person: str, cause: str
) -> None:
    desk = both[0]
    desk.run(*ENACT, "--no-prove")
    more = ("--for-person", person) if person else ()
    ran = desk.run("explain", "avalanche-mailer", permission, f"{BOX}/{place}", "--ask-tenant", "--format", "json", *more)
    found = ran.json["questions"][0]
    assert found["cause"] == cause
    assert found["tenant"]["allowed"] == found["allowed"]
    if not found["allowed"]:
        assert found["tenant"]["reason"] in ("the client may not do that", "this person cannot be acted for")
        assert found["mends"]


@pytest.mark.parametrize("what", ["verified-organisation", "owner", "native-account"])
def test_what_stops_everything_is_told_first(both: tuple[Desk, Away, Away], sandbox: Sandbox, what: str) -> None:
    desk, roster, summit = both
    sandbox.control(
        "tenants",
        {
            "describe": {
                roster.name: {
                    "preconditions": [{"what": what, "types": ["Client"], "met": False, "about": "Mara Teel is the owner"}]
                }
            }
        },
    )
    first = look(desk)["mistakes"][0]
    assert (first["code"], what.replace("-", " ") in first["what"], first["do"]) == (
        "precondition",
        True,
        "Mara Teel is the owner",
    )
    assert desk.run(*ENACT).code == 3
    assert mine(summit, "User") == []
    answer = roster.scim("POST", "/Clients", {"schemas": ["urn:sigillum:scim:1.0:Client"], "name": "x"}, admin="lena.frost")
    assert answer.status == 403


def test_an_identifier_in_a_charter_where_a_name_belongs_is_named(both: tuple[Desk, Away, Away]) -> None:
    desk, roster, _ = both
    assert desk.run(*ENACT, "--no-prove").code == 0
    client, principal = mine(roster, "Client")[0], mine(roster, "ServicePrincipal")[0]
    kai = next(u["id"] for u in roster.state()["resources"]["User"] if u["userName"] == KAI)
    before = roster.state()
    for value, told in (
        (client["clientId"], "the client id of"),
        (client["id"], "the registration id"),
        (principal["id"], "the principal id of the client"),
        (kai, f"write {KAI}"),
        ("nobody-here", "enact its own charter first"),
    ):
        desk.charter(
            f"charter: crew\ntenant: roster\npurpose: x\nowner: o@x.example\nidentity: {{kind: team, name: crew, reach: [brindlemoor]}}\nmembers: ['{value}']\n",
            "crew",
        )
        ran = desk.run("rehearse", "crew", "--format", "json").json["charters"][0]["mistakes"]
        assert [(m["code"], told in m["do"]) for m in ran] == [("member-unknown", True)]
        assert desk.run("enact", "crew", "--yes").code == 3
    assert roster.state() == before


# --- a tenant that only registers clients (RFC 7591, 7592) ------------------------------------------------------
REGISTERED = """\
charter: lift-board
tenant: summit
purpose: Shows which lifts run
owner: mara.teel@brindlemoor.example
identity: {kind: client, name: lift-board, redirects: ["https://board.example/back"]}
credentials: [{name: board-key, kind: key-pair, lasts: 90d}]
"""


def shown(away: Away, desk: Desk) -> Any:
    """The registration as the server shows it, asked without any code of ours."""
    (kept,) = (
        json.loads(json.loads(p.read_text())["secret"])["answer"]
        for p in (desk.folder / ".sigillum" / "keys").glob("*/registration-*.json")
    )
    return away.sandbox.pool.request(
        "GET", kept["registration_client_uri"], headers={"Authorization": f"Bearer {kept['registration_access_token']}"}
    )


@pytest.mark.parametrize("kind", ["key-pair", "shared-secret"])
def test_a_client_where_a_tenant_offers_dynamic_registration_only(bare: Desk, away: Away, kind: str) -> None:
    bare.know(away)
    bare.charter(REGISTERED.replace("key-pair", kind), "lift-board")
    enact = ("enact", "lift-board", "--yes", "--end")
    ran = bare.run(*enact)
    assert ran.code == 0, ran.out + ran.err
    found = shown(away, bare).json()
    assert (found["client_name"], found["redirect_uris"], found["token_endpoint_auth_method"]) == (
        "lift-board",
        ["https://board.example/back"],
        "private_key_jwt" if kind == "key-pair" else "client_secret_basic",
    )
    entries = bare.run("ledger", "show", "--format", "json").out
    again = bare.run(*enact)
    assert (
        again.code,
        "Nothing to do" in again.out,
        "has no end at summit" in again.out + bare.run("rehearse", "lift-board").out,
    ) == (0, True, True), again.out
    assert bare.run("ledger", "show", "--format", "json").out == entries
    sheet = bare.run("handover", "lift-board", "--format", "json").json["sheets"][0]
    assert {v["value"]: v["content"] for v in sheet["values"] if v["value"] == "client_id"} == {"client_id": found["client_id"]}
    assert next((v["content"] for v in sheet["values"] if v["value"] == "ends"), None) is None  # the secret never ends there
    assert "until" not in ran.out
    bare.charter(REGISTERED.replace("key-pair", kind).replace("board.example/back", "board.example/on"), "lift-board")
    assert bare.run(*enact).code == 0
    assert shown(away, bare).json()["redirect_uris"] == ["https://board.example/on"]
    for secret in (
        json.loads(p.read_text())["secret"] for p in (bare.folder / ".sigillum" / "keys").glob("*/registration-*.json")
    ):
        assert json.loads(secret)["answer"]["registration_access_token"] not in entries
    for text, code in ((REGISTERED.replace("lasts: 90d", "lasts: 90d, limits: [stream.read]"), "limits-registered"),):
        bare.charter(text, "lift-board")
        assert code in [
            m["code"] for m in bare.run("rehearse", "lift-board", "--format", "json").json["charters"][0]["mistakes"]
        ]
    away.sandbox.pool.request(
        "DELETE",
        shown(away, bare).json()["registration_client_uri"],
        headers={"Authorization": f"Bearer {json.loads(secret)['answer']['registration_access_token']}"},
    )
    assert shown(away, bare).status == 401
    assert "status 401" in bare.run("rehearse", "lift-board").out  # and not that it is gone


def test_killed_while_a_client_is_registered(bare: Desk, sandbox: Sandbox, forked: Fork) -> None:
    """What the answer held is kept before the outcome is written; a lost answer leaves a registration that nobody can use."""

    def house(number: int | str) -> tuple[Desk, Away]:
        made, away = Desk(bare.folder.parent / f"house-{number}", bare.capture), sandbox.tenant()
        assert made.run("init", str(made.folder)).code == 0
        made.know(away)
        made.charter(REGISTERED, "lift-board")
        return made, away

    first, _ = house("first")
    enact = ["enact", "lift-board", "--yes"]
    names = boundaries(first, forked, enact)
    assert "make-client registration in summit kept here" in names
    for number, name in enumerate(n for n in names if "client" in n or "board-key" in n):
        desk, away = house(number)
        assert forked(desk, enact, kill_at(name)) == (0, signal.SIGKILL), name
        again = desk.run(*enact)
        assert again.code == 0, f"{name}: {again.out}{again.err}"
        assert shown(away, desk).status == 200
        assert desk.run("rehearse", "lift-board", "--format", "json").json["charters"][0]["steps"] == []


@pytest.mark.parametrize("kind", ["key-pair", "shared-secret"])
def test_what_a_registration_rotates_is_kept_and_a_401_is_never_absence(
    bare: Desk, away: Away, sandbox: Sandbox, kind: str
) -> None:
    sandbox.control("tenants", {"describe": {away.name: {"registrations_rotate": True, "bearer_grant_authenticates": True}}})
    bare.know(away)
    text = (
        REGISTERED.replace("key-pair", kind)
        + "proofs: [{cannot: stream.delete, at: brindlemoor/sensing-prod/streams/mast-4}]\n"
    )
    bare.charter(text, "lift-board")
    for redirect in ("back", "on", "off"):  # each change is an update, and each look rotates the token
        bare.charter(text.replace("board.example/back", f"board.example/{redirect}"), "lift-board")
        assert bare.run("enact", "lift-board", "--yes", "--end", "--no-prove").code == 0
        assert bare.run("rehearse", "lift-board", "--format", "json").json["charters"][0]["steps"][:-1] == []
        ran = bare.run("prove", "lift-board")
        assert "a fresh token" in ran.out, ran.out + ran.err  # what it signs in with is the newest
    (kept,) = (bare.folder / ".sigillum" / "keys").glob("*/registration-*.json")
    content = json.loads(kept.read_text())
    spoiled = json.loads(content["secret"])
    spoiled["answer"]["registration_access_token"] = "stale"
    kept.write_text(json.dumps({**content, "secret": json.dumps(spoiled)}))
    looked = bare.run("rehearse", "lift-board", "--format", "json").json["charters"][0]
    assert ([s["step"] for s in looked["steps"] if s["step"] == "make"], "status 401" in str(looked["notes"])) == ([], True)
    assert bare.run("enact", "lift-board", "--yes").code == 6


ASKS = """\
charter: depot-feed
tenant: summit
purpose: Feeds the depot's board
owner: mara.teel@brindlemoor.example
identity: {kind: service-account, name: depot-feed, display: Depot feed}
grants:
  - {role: identity-user, at: self, to: {ask: {of: Corvid Ropeways, form: '[a-z]+-[a-z]+', for: the account that acts as it}}, because: they run it}
  - {role: stream-reader, at: brindlemoor/sensing-test, because: reads}
proofs:
  - {can: stream.read, at: brindlemoor/sensing-test/streams/mast-4}
"""


def test_a_value_that_only_somebody_else_can_tell_is_asked_for_and_the_rest_goes_on(bare: Desk, away: Away) -> None:
    bare.know(away)
    bare.charter(ASKS, "depot-feed")
    ran = bare.run("enact", "depot-feed", "--yes")
    assert (ran.code, "Corvid Ropeways for the account that acts as it" in " ".join(ran.out.split())) == (6, True), (
        ran.out + ran.err
    )
    assert len(away.of("Grant", "depot-feed")) == 1  # what does not need it went on
    [asked] = bare.run("requests", "--format", "json").json["requests"]
    assert (asked["to"], asked["what"]) == ("Corvid Ropeways", "the account that acts as it")
    assert bare.run("enact", "depot-feed", "--yes").code == 6
    assert len(bare.run("requests", "--format", "json").json["requests"]) == 1  # written once
    file = bare.folder / asked["file"]
    other = Desk(bare.folder.parent / "supplier", bare.capture)
    assert other.run("init", str(other.folder)).code == 0
    assert other.run("requests", "answer", str(file), "--value", "camera-archive").code == 6  # by whom?
    known = ("--from", thumb(bare))
    assert other.run("requests", "answer", str(file), *known).code == 2
    wrong = other.run("requests", "answer", str(file), "--value", "Camera 7", *known)
    assert (wrong.code, "[a-z]+-[a-z]+" in wrong.err) == (2, True)
    assert other.run("requests", "answer", str(file), "--value", "camera-archive", *known).code == 0
    receipt = str(file).replace(".json", ".receipt.json")
    assert bare.run("requests", "done", "1", "--receipt", receipt).code == 6
    assert bare.run("requests", "done", "1", "--receipt", receipt, "--from", thumb(other)).code == 0
    assert bare.run("enact", "depot-feed", "--yes").code == 0
    assert len([g for g in away.state()["resources"]["Grant"] if g["reason"] == "they run it"]) == 1
    bare.charter(
        ASKS.replace("[a-z]+-[a-z]+", "[0-9]{12}"), "depot-feed"
    )  # the answer does not fit any more: asked anew, and nothing ends for it
    assert bare.run("enact", "depot-feed", "--yes", "--end").code == 6
    assert len([g for g in away.state()["resources"]["Grant"] if g["reason"] == "they run it"]) == 1
    assert bare.run("requests", "done", "2", "--value", "nonsense").code == 2


def test_what_one_person_has_to_tell_is_one_file_and_one_receipt(bare: Desk, away: Away) -> None:
    bare.know(away)
    more = "  - {role: stream-reader"
    question = "{ask: {of: Corvid Ropeways, form: '[a-z-]+', for: the account that looks on}}"
    bare.charter(
        ASKS.replace(more, f"  - {{role: identity-user, at: self, to: {question}, because: look}}\n{more}"), "depot-feed"
    )
    ran = bare.run("enact", "depot-feed", "--yes")
    asked = bare.run("requests", "--format", "json").json["requests"]
    assert (ran.code, len(asked), len({r["file"] for r in asked})) == (6, 2, 1), ran.out + ran.err
    other = Desk(bare.folder.parent / "supplier", bare.capture)
    assert other.run("init", str(other.folder)).code == 0
    answer = ("requests", "answer", str(bare.folder / asked[0]["file"]), "--from", thumb(bare))
    told = {r["no"]: "camera-archive" if "acts" in r["what"] else "wind-ingest" for r in asked}
    values = [f"{n}={v}" for n, v in told.items()]
    for wrong in ((), ("--value", "x"), ("--value", values[0]), ("--value", values[0], "--value", "9=x")):
        assert other.run(*answer, *wrong).code == 2, wrong
    assert other.run(*answer, "--value", values[0], "--value", values[1]).code == 0
    receipt = str(bare.folder / asked[0]["file"]).replace(".json", ".receipt.json")
    done = ("requests", "done", "--receipt", receipt, "--from", thumb(other))
    assert [bare.run(*done, *more).code for more in (("--value", "x"), ())] == [2, 0]
    assert [r["state"] for r in bare.run("requests", "--all", "--format", "json").json["requests"]] == ["answered"] * 2
    shown = bare.run("ledger", "show", "depot-feed").out
    assert all(v in shown for v in told.values()), shown


def test_a_receipt_answers_one_question_of_one_charter(bare: Desk, away: Away) -> None:
    """Two charters ask the same of the same person: neither gets what the other was told."""
    bare.know(away)
    for name in ("depot-feed", "quay-feed"):
        bare.charter(ASKS.replace("depot-feed", name).replace("Depot feed", name), name)
        assert bare.run("enact", name, "--yes").code == 6
    files = [bare.folder / r["file"] for r in bare.run("requests", "--format", "json").json["requests"]]
    other = Desk(bare.folder.parent / "supplier", bare.capture)
    assert other.run("init", str(other.folder)).code == 0
    ran = other.run("requests", "answer", str(files[0]), "--value", "camera-archive", "--from", thumb(bare))
    assert (ran.code, "depot-feed" in ran.out, "needs it" in ran.out) == (0, True, True), ran.out + ran.err  # for what it is
    receipt = str(files[0]).replace(".json", ".receipt.json")
    refused = bare.run("requests", "done", "2", "--receipt", receipt, "--from", thumb(other))
    assert (refused.code, "for another request" in refused.err) == (3, True), refused.err
    assert bare.run("requests", "done", "1", "--receipt", receipt, "--from", thumb(other)).code == 0


@pytest.mark.parametrize(
    ("wrong", "told"),
    [
        ("to: {ask: {form: x}}", "of whom"),
        ("to: {ask: {of: x, from: y}}", "`from` is not known"),
        ("to: {ask: {of: x, form: '['}}", "not a pattern"),
        ("to: {ask: x}", "of whom"),
    ],
)
def test_what_is_asked_wrongly(desk: Desk, wrong: str, told: str) -> None:
    desk.charter(
        ASKS.replace("to: {ask: {of: Corvid Ropeways, form: '[a-z]+-[a-z]+', for: the account that acts as it}}", wrong),
        "depot-feed",
    )
    ran = desk.run("charter", "check", "depot-feed")
    assert (ran.code, told in " ".join(ran.err.split())) == (3, True), ran.err
    desk.charter(ASKS.replace("name: depot-feed", "name: {ask: {of: x}}"), "depot-feed")
    parts = json.loads(desk.run("charter", "schema").out)["$defs"]
    assert {"$ref": "#/$defs/Ask"} in parts["GrantSection"]["properties"]["to"]["anyOf"]
    assert "inside an entry of a list only" in " ".join(desk.run("charter", "check", "depot-feed").err.split())


def test_of_three_one_is_refused_one_waits_and_one_is_fine(bare: Desk, sandbox: Sandbox) -> None:
    summit, other = sandbox.tenant(), sandbox.tenant()
    bare.know(summit)
    bare.know(other, "other")
    plain = ASKS.partition("grants:")[0]
    bare.charter(plain.replace("depot-feed", "a-refused").replace("tenant: summit", "tenant: other"), "a-refused")
    bare.charter(ASKS, "depot-feed")
    bare.charter(plain.replace("depot-feed", "c-fine"), "c-fine")
    words = ("enact", "a-refused", "depot-feed", "c-fine", "--yes", "--format", "json")
    sandbox.faults({"kind": "status", "status": 403, "method": "POST", "path": f"{other.name}/scim/v2/Users", "count": 9})
    ran = bare.run(*words)
    assert (ran.code, {c["charter"]: c["outcome"] for c in ran.json["charters"]}) == (
        4,
        {"a-refused": 4, "depot-feed": 6, "c-fine": 0},
    ), ran.out
    sandbox.faults()
    before = summit.state()
    again = bare.run(*words)
    assert (again.code, {c["charter"]: c["outcome"] for c in again.json["charters"]}) == (
        6,
        {"a-refused": 0, "depot-feed": 6, "c-fine": 0},
    )
    assert summit.state() == before  # only the mended one is written to
    assert [u["userName"] for u in other.of("User", "a-refused")] == ["a-refused"]


@pytest.mark.parametrize("kind", KINDS)
def test_everything_that_would_be_sent_is_shown(kind: str) -> None:
    """Whoever agrees to a request sees each of its values, however many and however long; and what a change empties."""
    values: dict[str, Any] = {}
    for number, name in enumerate(f for f in KINDS[kind].fields if f != "id"):
        values[name] = [f"{name}-{n}" for n in range(13)] if number % 2 else f"{name}-{'x' * 600}-end"
    for do in ("make", "change"):
        sent = {**values, "display": "", "reach": []} if do == "change" else values
        out = io.StringIO()
        shown = request_text(Request(do, kind, "https://t.example", "it", sent), str)
        Console(file=out, width=100).print(shown)
        told = "".join(out.getvalue().split())
        wanted = [
            v for value in values.values() for v in (value if isinstance(value, list) else [value]) if value in sent.values()
        ]
        assert [v for v in wanted if v not in told] == []
        assert (told.count("(nothing)") > 0) is (do == "change")


@pytest.mark.parametrize("kind", KINDS)
def test_a_rehearsal_shows_each_value_that_is_sent(kind: str) -> None:
    """What stands above all steps, or in what a step is about, is the only thing that is not said below it."""
    part = {f: (f"{f}-one", f"{f}-two") if n % 2 else f"{f}-value" for n, f in enumerate(KINDS[kind].fields)}
    step = Step(StepId(Mark("x", "t", ()), 1, "make"), StepKind.MAKE, "it", Make(KINDS[kind], part), after={"until": "soon"})
    told = "\n".join(text for _, text in details(step))
    left_out = {n for n, v in part.items() if any(t not in told for t in ((v,) if isinstance(v, str) else v))}
    assert left_out <= ABOVE | {"until"}
