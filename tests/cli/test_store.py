"""A tenant that is a secret store: generations and what consumers read stand there, narrow tokens read one container, and no more."""

from __future__ import annotations

import json

from cli.test_rotation import HELD, secret_of
from cli.test_with import told, with_
from conftest import Away, Desk, Json, Sandbox

IN_STORE = HELD.replace("keep_in: keyring", "keep_in: 'store:cairn/brindlemoor/sensing/ingest-key'")
NARROW = """\
charter: gate-reader
tenant: cairn
purpose: Reads the key of the mast gateway
owner: mara.teel@brindlemoor.example
identity: {kind: service-account, name: gate-reader}
grants: [{role: secret-reader, at: brindlemoor/sensing, because: the gateway fetches its key}]
credentials: [{name: gate-token, kind: api-token, lasts: 30d, limits: [secret.read]}]
proofs:
  - {can: secret.read, at: brindlemoor/sensing}
  - {cannot: secret.read, at: brindlemoor/pass-desk}
  - {cannot: secret.write, at: brindlemoor/sensing}
"""


def house(bare: Desk, sandbox: Sandbox, number: str = "") -> tuple[Desk, Away]:
    desk, cairn = Desk(bare.folder.parent / f"store{number}", bare.capture), sandbox.tenant("cairn")
    assert desk.run("init", str(desk.folder)).code == 0
    desk.know(sandbox.tenant(), "summit")
    desk.know(cairn, "cairn", "hale.brook")
    desk.charter(IN_STORE)
    return desk, cairn


def get(cairn: Away, path: str, token: str) -> tuple[int, Json]:
    answer = cairn.sandbox.pool.request(
        "GET", f"{cairn.address.removesuffix('/scim/v2')}/work/secrets/{path}", headers={"Authorization": f"Bearer {token}"}
    )
    return answer.status, answer.json() if answer.data else {}


def test_secrets_stand_in_the_store_and_nowhere_here(bare: Desk, sandbox: Sandbox) -> None:
    desk, cairn = house(bare, sandbox)
    ran = desk.run("enact", "wind-ingest", "--yes")
    assert (ran.code, "in store:cairn/brindlemoor/sensing/ingest-key" in " ".join(ran.out.split())) == (0, True), ran.out
    key = json.loads(secret_of(cairn))["key"]["d"]
    assert secret_of(cairn, "ingest-key.1")
    assert not [p for p in desk.folder.rglob("*") if p.is_file() and key in p.read_text(errors="ignore")]
    desk.charter(NARROW, "gate-reader")
    ran = desk.run("enact", "gate-reader", "--yes")
    assert ran.code == 0, ran.out  # reading elsewhere is proved to be refused, by calls
    assert "tried             cannot secret.read at brindlemoor/pass-desk" in ran.out
    token = json.loads(next(p for p in desk.folder.glob(".sigillum/keys/*/current/gate-token.json")).read_text())["secret"]
    assert get(cairn, "brindlemoor/sensing/ingest-key", token)[0] == 200
    assert [get(cairn, p, token)[0] for p in ("brindlemoor/pass-desk", "brindlemoor/pass-desk/x", "nowhere/x")] == [
        403,
        403,
        404,
    ]
    status, audit = get(cairn, "brindlemoor/sensing?audit=1", cairn.tokens["hale.brook"])
    assert (status, {r["secret"] for r in audit["reads"]} >= {"brindlemoor/sensing/ingest-key"}) == (200, True)
    shown = ("--", "python3", "-c", "import os, json; print(json.dumps(dict(os.environ)))")
    read = ("--env", "KEY=store:cairn/brindlemoor/sensing/ingest-key")
    env = told(with_(desk, "gate-reader", *read, *shown))
    assert json.loads(str(env["KEY"]))["key"]["d"] == key
    status, audit = get(cairn, "brindlemoor/sensing?audit=1", cairn.tokens["hale.brook"])
    assert [r["by"] for r in audit["reads"]][-1] != "hale.brook", audit
    for words, code, said in (
        (read, 2, "no charter is named whose identity signs in at cairn"),
        (("wind-ingest", *read), 2, "no charter is named"),
        (("gate-reader", "--env", "KEY=store:cairn/brindlemoor/pass-desk/x"), 4, "reading the secret"),
        (("gate-reader", "--env", "KEY=store:cairn/brindlemoor/sensing/none"), 8, "has no such secret"),
    ):
        refused = with_(desk, *words, *shown)
        assert (refused.returncode, said in refused.stderr, refused.stdout) == (code, True, ""), refused
    assert "store:cairn/brindlemoor/sensing/ingest-key" in desk.run("handover", "wind-ingest", "--form", "snippet").out


def test_a_place_that_is_taken_is_left_alone(bare: Desk, sandbox: Sandbox) -> None:
    desk, cairn = house(bare, sandbox, "2")
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    mine = secret_of(cairn)
    desk.charter(IN_STORE.replace("wind-ingest", "other"), "other")
    ran = desk.run("enact", "other", "--yes")
    assert (ran.code, "another one's secret stands there" in ran.out, secret_of(cairn)) == (6, True, mine), ran.out
    for text, code, said in (
        ("store:nowhere/x", 3, "knows no tenant"),
        ("store:summit/x/y", 6, "is no secret store"),
        ("store:cairn/brindlemoor", 4, "writing the secret"),
    ):
        desk.charter(
            IN_STORE.replace("wind-ingest", "third").replace("store:cairn/brindlemoor/sensing/ingest-key", text), "third"
        )
        ran = desk.run("enact", "third", "--yes")
        assert (ran.code, said in ran.out + ran.err) == (code, True), ran.out + ran.err
        assert "Traceback" not in ran.err
    settings = desk.folder / "sigillum.yaml"
    settings.write_text(settings.read_text().replace("'file:.sigillum/cairn.hale.brook.token'", "'store:cairn/x'"))
    ran = desk.run("tenant", "inspect", "cairn")
    assert (ran.code, "write env:NAME, file:PATH or keyring:NAME" in ran.err) == (3, True), (
        ran.err
    )  # it would be needed to read it


def test_an_end_does_not_need_the_secret(bare: Desk, sandbox: Sandbox) -> None:
    """The store lost what was kept there: all of it ends, and what was left there by a kill goes."""
    desk, cairn = house(bare, sandbox)
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    assert desk.run("rotate", "wind-ingest").code == 7
    for name in ("ingest-key.1", "ingest-key.2"):
        url = f"{cairn.address.removesuffix('/scim/v2')}/work/secrets/brindlemoor/sensing/{name}"
        token = {"Authorization": f"Bearer {cairn.tokens['hale.brook']}"}
        assert sandbox.pool.request("DELETE", url, headers=token).status == 204
    ran = desk.run("retire", "wind-ingest", "--because", "x", "--yes")
    assert (ran.code, "not tried" in ran.out) == (0, True), ran.out + ran.err
