"""The sheet: complete or not, masked, revealed, sealed; and everything that can be wrong with a sealed one."""

from __future__ import annotations

import json
import stat
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from joserfc import jwe, jws, jwt
from joserfc.jwk import ECKey, JWKRegistry, OKPKey, RSAKey
from ruamel.yaml import YAML

from cli.test_identities import ENACT as ENACT_MAILER
from cli.test_identities import MAILER, pair, settle
from conftest import CHARTER, Away, Desk, Sandbox
from sigillum.core.charter.sheet import Sheet, Value, unfit
from sigillum.core.values.canonical import thumbprint

CONSUMERS = """\
consumers:
  mail-desk:
    asks:
      - {value: client_id, as: APP, form: '[0-9a-f]{16}'}
      - {value: secret, as: APP_SECRET, shortest: 20, longest: 200}
      - {value: token_endpoint, as: TOKENS}
      - {value: ends, as: UNTIL}
      - {value: person, as: TRY_FOR}
      - {value: colour, as: COLOUR, fixed: green}
"""


@pytest.fixture
def done(desk: Desk) -> Desk:
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    return desk


def key_of(desk: Desk) -> dict[str, Any]:
    path, = (desk.folder / ".sigillum" / "keys").glob("*/*.json")
    return dict(json.loads(path.read_text()))


def state(desk: Desk, *more: str, charter: str = "wind-ingest") -> Any:
    return desk.run("handover", charter, "--format", "json", *more).json["sheets"][0]


def test_a_sheet_is_complete_once_its_values_are_there(desk: Desk) -> None:
    before = state(desk)
    assert (before["complete"], {v["value"]: bool(v["content"]) for v in before["values"]}) == (
        False, {"token_endpoint": True, "account": True, "principal_id": False, "key": False, "ends": False})
    assert desk.run("handover", "wind-ingest").code == 1
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    after = state(desk)
    assert after["complete"] is True
    private = key_of(desk)["key"]["d"]
    for form in ("text", "env", "json", "yaml", "snippet"):
        ran = desk.run("handover", "wind-ingest", "--as", form)
        assert (ran.code, private in ran.out, "masked" in ran.out) == (0, False, form != "snippet")
    snippet = desk.run("handover", "wind-ingest", "--as", "snippet").out
    assert "WIND_INGEST_KEY=file:.sigillum/keys/" in snippet
    assert len(snippet.splitlines()) == 1


def test_secrets_are_revealed_with_a_word_and_written_down(done: Desk, tmp_path: Path) -> None:
    key = key_of(done)["key"]
    assert done.run("handover", "wind-ingest", "--reveal", "yes").code == 2
    assert done.run("--presenting", "handover", "wind-ingest", "--reveal", "wind-ingest").code == 2
    out = tmp_path / "wind.env"
    ran = done.run("handover", "wind-ingest", "--reveal", "wind-ingest", "--as", "env", "--out", str(out))
    assert (ran.code, ran.out) == (0, "")
    assert stat.S_IMODE(out.stat().st_mode) == 0o600
    line = next(x for x in out.read_text().splitlines() if x.startswith("WIND_INGEST_KEY="))
    assert json.loads(line.partition("=")[2].strip("'")) == key
    again = done.run("handover", "wind-ingest", "--reveal", "wind-ingest", "--as", "env", "--out", str(out))
    assert (again.code, "there already" in again.err) == (3, True)
    masks = done.run("handover", "wind-ingest", "--as", "env", "--out", str(tmp_path / "masks.env"))
    assert (masks.code, "a file of masks" in masks.err, (tmp_path / "masks.env").exists()) == (2, True, False)
    shown = YAML(typ="safe").load(done.run("handover", "wind-ingest", "--reveal", "wind-ingest", "--as", "yaml").out)
    assert json.loads(shown["WIND_INGEST_KEY"]) == key
    entries = [e for e in done.run("ledger", "show", "wind-ingest", "--entries", "--format", "json").json["entries"] if e["kind"] == "handed-over"]
    assert [(e["body"]["how"], e["body"]["form"]) for e in entries] == [("revealed", "env"), ("revealed", "yaml")]
    assert key["d"] not in json.dumps(entries)
    assert "revealed at" in done.run("handover", "wind-ingest").out
    assert "revealed to whoever saw it" in done.run("ledger", "show", "wind-ingest").out


def test_what_a_kind_of_consumer_asks_for_and_what_is_wrong_with_it(bare: Desk, sandbox: Sandbox) -> None:
    roster, summit = pair(sandbox)
    settle(bare, roster, summit)
    path = bare.folder / "sigillum.yaml"
    path.write_text(path.read_text() + CONSUMERS)
    bare.charter(MAILER.replace("kind: key-pair", "kind: shared-secret") + "handover: {to: mail-desk, as: env}\n", "avalanche-mailer")
    missing = state(bare, charter="avalanche-mailer")
    assert {v["name"] for v in missing["values"] if v["problem"]} == {"APP", "APP_SECRET", "UNTIL"}
    ran = bare.run(*ENACT_MAILER)
    assert ran.code == 0, ran.out + ran.err
    whole = state(bare, charter="avalanche-mailer")
    assert [v["name"] for v in whole["values"]] == ["APP", "APP_SECRET", "TOKENS", "UNTIL", "TRY_FOR", "COLOUR"]
    assert whole["complete"] is True
    assert "COLOUR=green" in bare.run("handover", "avalanche-mailer").out
    path.write_text(path.read_text().replace("[0-9a-f]{16}", "[A-Z]+"))
    assert bare.run("handover", "--all", "--to", "mail-desk").code == 1
    bare.charter(MAILER + "handover: {gives: [client_idd]}\n", "avalanche-mailer")
    ran = bare.run("charter", "check", "avalanche-mailer")
    assert (ran.code, "did you mean client_id?" in ran.err) == (3, True)


# --- sealed -------------------------------------------------------------------------------------------------------
@pytest.fixture
def sealed(done: Desk, tmp_path: Path) -> tuple[Desk, Path, Path, str]:
    """A desk, the sealed sheet, the receiving key, and the sender's thumbprint."""
    assert done.run("handover", "key", str(tmp_path / "mine.jwk")).code == 0
    out = tmp_path / "sheet.sealed"
    ran = done.run("handover", "wind-ingest", "--seal-to", str(tmp_path / "mine.public.jwk"), "--out", str(out), "--lasts", "1h")
    assert ran.code == 0, ran.err
    sender = thumbprint(json.loads((done.folder / ".sigillum" / "ledger-key.json").read_text()))
    assert sender in ran.err
    return done, out, tmp_path / "mine.jwk", sender


def opened(desk: Desk, file: Path, key: Path, *more: str) -> Any:
    return Desk(desk.folder.parent, desk.capture).program("handover", "open", str(file), "--key", f"file:{key}", "--as", "env", *more)


def test_a_sealed_sheet_opens_on_the_other_side_and_an_independent_library_agrees(sealed: tuple[Desk, Path, Path, str]) -> None:
    desk, file, key, sender = sealed
    private = key_of(desk)["key"]["d"]
    assert stat.S_IMODE(key.stat().st_mode) == 0o600
    assert "d" not in json.loads(key.with_name("mine.public.jwk").read_text())
    masked = opened(desk, file, key, "--from", sender)
    assert (masked.code, private in masked.out, "WIND_INGEST_ACCOUNT=wind-ingest" in masked.out) == (0, False, True)
    out = file.with_name("got.env")
    assert opened(desk, file, key, "--from", sender, "--out", str(out)).code == 0
    assert private in out.read_text()
    plain = jwe.decrypt_compact(file.read_text().strip(), OKPKey.import_key(json.loads(key.read_text()))).plaintext
    assert plain is not None
    signer = OKPKey.import_key({**json.loads((desk.folder / ".sigillum" / "ledger-key.json").read_text())})
    claims = jwt.decode(plain.decode(), signer, algorithms=["Ed25519"]).claims
    assert claims["exp"] - claims["iat"] == 3600
    assert [v["content"] for v in claims["sheet"]["values"] if v["value"] == "account"] == ["wind-ingest"]
    entry = [e for e in desk.run("ledger", "show", "wind-ingest", "--entries", "--format", "json").json["entries"] if e["kind"] == "handed-over"][-1]["body"]
    assert (entry["how"], entry["receiver"], entry["sealed"]) == ("sealed", claims["aud"], claims["jti"])
    assert private not in file.read_text() + json.dumps(entry)


@pytest.mark.parametrize(("wrong", "told"), [
    ("key", "sealed to another key"), ("cut", "a part of it is missing"), ("short", "changed or damaged"), ("changed", "changed or damaged"),
    ("stranger", "a key that is not known here"), ("ended", "it has ended"), ("unsigned", "not signed as it has to be"),
    ("aud", "meant for somebody else"), ("text", "no sealed sheet"), ("no key", "no JWK")])
def test_a_sheet_that_is_wrong_in_any_way_gives_no_plaintext(
        sealed: tuple[Desk, Path, Path, str], tmp_path: Path, wrong: str, told: str) -> None:
    desk, file, key, sender = sealed
    text, private = file.read_text().strip(), key_of(desk)["key"]["d"]
    parts = text.split(".")
    receiver = JWKRegistry.import_key(json.loads(key.read_text()))

    def resealed(change: dict[str, Any], *, sign: bool = True) -> str:
        claims = json.loads(jws.extract_compact(jwe.decrypt_compact(text, receiver).plaintext or b"").payload)
        signer = OKPKey.import_key(json.loads((desk.folder / ".sigillum" / "ledger-key.json").read_text()))
        body = json.dumps({**claims, **change})
        inner = jws.serialize_compact({"alg": "Ed25519", "jwk": signer.as_dict(private=False)}, body, signer, algorithms=["Ed25519"]) if sign else body
        return jwe.encrypt_compact({"alg": "ECDH-ES+A256KW", "enc": "A256GCM"}, inner, receiver)
    if wrong == "key":
        desk.run("handover", "key", str(tmp_path / "other.jwk"))
        key = tmp_path / "other.jwk"
    elif wrong == "no key":
        (tmp_path / "none.jwk").write_text("[]")
        (tmp_path / "none.jwk").chmod(0o600)
        key = tmp_path / "none.jwk"
    elif wrong == "stranger":
        sender = "x" * 43
    else:
        middle = len(parts[3]) // 2
        broken: dict[str, Callable[[], str]] = {
            "cut": lambda: ".".join(parts[:3]), "short": lambda: text[:-6], "text": lambda: "hello",
            "changed": lambda: ".".join([*parts[:3], parts[3][:middle] + ("A" if parts[3][middle] != "A" else "B") + parts[3][middle + 1:], parts[4]]),
            "ended": lambda: resealed({"exp": int(time.time()) - 1}), "aud": lambda: resealed({"aud": "somebody"}),
            "unsigned": lambda: resealed({}, sign=False)}
        file.write_text(broken[wrong]())
    ran = opened(desk, file, key, "--from", sender, "--out", str(tmp_path / "never"))
    assert (ran.code, told in ran.err, "  do     " in ran.err) == (3, True, True), ran.err
    assert private not in ran.out + ran.err
    assert not (tmp_path / "never").exists()


@pytest.mark.parametrize("receiver", [lambda: ECKey.generate_key("P-256"), lambda: RSAKey.generate_key(2048)], ids=["P-256", "RSA"])
def test_other_receiving_keys_and_keys_that_cannot_receive(done: Desk, tmp_path: Path, receiver: Any) -> None:
    key = receiver()
    (tmp_path / "public.jwk").write_text(json.dumps(key.as_dict(private=False)))
    (tmp_path / "private.jwk").write_text(json.dumps(key.as_dict(private=True)))
    (tmp_path / "private.jwk").chmod(0o600)
    out = tmp_path / "sealed"
    assert done.run("handover", "wind-ingest", "--seal-to", str(tmp_path / "public.jwk"), "--out", str(out)).code == 0
    ran = done.run("handover", "open", str(out), "--key", f"file:{tmp_path}/private.jwk")  # the own signature is known
    assert (ran.code, "Complete: 5 values." in ran.out) == (0, True), ran.err
    (tmp_path / "signing.jwk").write_text(json.dumps(OKPKey.generate_key("Ed25519").as_dict(private=False)))
    for name, code in (("private.jwk", 3), ("signing.jwk", 2), ("nowhere.jwk", 3)):
        assert done.run("handover", "wind-ingest", "--seal-to", str(tmp_path / name)).code == code


def test_what_is_not_sealed_or_opened(desk: Desk, tmp_path: Path) -> None:
    assert desk.run("handover", "key", str(tmp_path / "k.jwk")).code == 0
    assert desk.run("handover", "key", str(tmp_path / "k.jwk")).code == 3  # never written over
    assert desk.run("handover", "wind-ingest", "--seal-to", str(tmp_path / "k.public.jwk")).code == 6  # not complete
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    for words in (("wind-ingest", "--seal"), ("open", "x"), ("open", "x", "--key", "file:k", "y"), ("key",), ("connected", "wind-ingest"), ()):
        assert desk.run("handover", *words).code == 2, words
    desk.charter(CHARTER.replace("wind-ingest", "second"), "second")
    assert desk.run("handover", "--all", "--reveal", "second").code == 2
    for sender in ("-" + "a" * 42, "a" * 43):  # a thumbprint can begin with a dash
        assert desk.run("handover", "open", str(tmp_path / "none"), "--key", f"file:{tmp_path}/k.jwk", "--from", sender).code == 3


def test_a_connection_is_recorded_once(done: Desk, away: Away) -> None:
    done.charter(CHARTER.replace("wind-ingest", "second"), "second")
    words = ("--consumer", "mast-gateway", "--connection", "4711")
    assert done.run("handover", "connected", "wind-ingest", *words).code == 0
    ran = done.run("handover", "connected", "second", *words)
    assert (ran.code, "wind-ingest has it since" in ran.err) == (6, True)
    assert done.run("handover", "connected", "second", *words[:-1], "4712").code == 0
    assert "mast-gateway is connected as 4711" in " ".join(done.run("ledger", "show", "wind-ingest").out.split())


def test_nothing_secret_travels_where_the_holder_keeps_the_key(desk: Desk, tmp_path: Path) -> None:
    key = OKPKey.generate_key("Ed25519").as_dict(private=False)
    (desk.folder / "holder.jwk").write_text(json.dumps(key))
    desk.charter(CHARTER.replace("kind: key-pair", "kind: key-pair, keep_in: holder, public_key: 'file:holder.jwk'") +
                 "handover: {gives: [principal_id, key_id, token_endpoint]}\n")
    assert desk.run("enact", "wind-ingest", "--yes", "--no-prove").code == 0
    sheet = state(desk)
    assert (sheet["complete"], [v["kind"] for v in sheet["values"]]) == (True, ["identifier", "identifier", "address"])
    assert sheet["values"][1]["content"] == thumbprint(key)


@pytest.mark.parametrize("name", ["x;id", "$(id)", "LD_PRELOAD", "PATH", "BASH_ENV", "PYTHONSTARTUP", "a b", "", "1A", "A=B", "X\nY"])
def test_a_name_in_a_sheet_never_becomes_a_command_or_steers_a_program(done: Desk, name: str) -> None:
    sheet = Sheet("wind-ingest", "", (Value("client_id", name, "identifier", "x"),))
    assert unfit(v.name for v in sheet.values) == name or name == ""
    path = done.folder / "sigillum.yaml"
    path.write_text(path.read_text() + f"consumers: {{desk: {{asks: [{{value: account, as: {json.dumps(name)}}}]}}}}\n")
    for form in ("env", "snippet"):
        ran = done.run("handover", "wind-ingest", "--to", "desk", "--as", form)
        assert name == "" or (ran.code, "cannot be a variable" in ran.err, ran.out) == (2, True, ""), ran.err


def test_an_incomplete_sheet_is_not_handed_on(done: Desk, tmp_path: Path) -> None:
    path = done.folder / "sigillum.yaml"
    path.write_text(path.read_text() + "consumers: {desk: {asks: [{value: account}, {value: person}]}}\n")
    ran = done.run("handover", "wind-ingest", "--to", "desk", "--reveal", "wind-ingest", "--as", "env")
    assert (ran.code, "is not complete" in ran.err, ran.out) == (6, True, "")
    assert [e for e in done.run("ledger", "show", "--entries", "--format", "json").json["entries"] if e["kind"] == "handed-over"] == []
