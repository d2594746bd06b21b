"""Certificates: self-signed and by the house's CA, with the key kept here, named by their assertions, renewed like any key."""

from __future__ import annotations

import base64
import json
import subprocess
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

from cli.test_rotation import live
from conftest import CHARTER, Away, Desk, Json, Sandbox

Tick = Callable[[int], None]
SELF = CHARTER.replace("kind: key-pair", "kind: certificate")
BY_CA = SELF.replace("lasts: 90d", "lasts: 90d, signed_by: ca")


def kept(desk: Desk) -> Json:
    return dict(json.loads(next(desk.folder.glob(".sigillum/keys/*/current/ingest-key.json")).read_text()))


class House:
    """A CA of the house, made with a tool of its own."""

    def __init__(self, name: str = "House CA") -> None:
        self.key, self.name = (
            ec.generate_private_key(ec.SECP256R1()),
            x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, name)]),
        )
        self.own = self._sign(self.name, self.key.public_key(), timedelta(days=900), authority=True)

    def _sign(self, subject: x509.Name, key: object, lasts: timedelta, *, authority: bool) -> x509.Certificate:
        now = datetime.now(UTC)
        return (
            x509.CertificateBuilder()
            .subject_name(subject)
            .issuer_name(self.name)
            .public_key(key)  # type: ignore[arg-type]
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - timedelta(hours=1))
            .not_valid_after(now + lasts)
            .add_extension(x509.BasicConstraints(ca=authority, path_length=None), critical=True)
            .sign(self.key, hashes.SHA256())
        )

    def answer(self, request: Path, to: Path, lasts: timedelta = timedelta(days=60), *, authority: bool = False) -> None:
        asked = x509.load_pem_x509_csr(request.read_bytes())
        assert asked.is_signature_valid
        to.write_bytes(
            self._sign(asked.subject, asked.public_key(), lasts, authority=authority).public_bytes(serialization.Encoding.PEM)
        )


@pytest.mark.parametrize("algorithm", ["Ed25519", "ES256", "RS256"])
def test_a_self_signed_one_signs_in_by_its_own_name_and_is_renewed(
    bare: Desk, away: Away, ticking: Tick, algorithm: str
) -> None:
    desk = bare
    desk.know(away, extra="    clock: tenant\n")
    desk.charter(SELF.replace("lasts: 90d", f"lasts: 90d, algorithm: {algorithm}"))
    ran = desk.run("enact", "wind-ingest", "--yes")
    assert ran.code == 0, ran.out
    [there] = [c for c in away.of("Credential") if c["name"] == "ingest-key"]
    about = kept(desk)["credential"]
    der = base64.b64decode(about["certificate"])
    mark = base64.urlsafe_b64encode(x509.load_der_x509_certificate(der).fingerprint(hashes.SHA256())).rstrip(b"=").decode()
    assert (there["thumbprint"], about["x5t#S256"], there["kind"]) == (mark, mark, "certificate")
    if algorithm == "ES256":
        told = subprocess.run(
            ["openssl", "x509", "-inform", "der", "-noout", "-text"], input=der, capture_output=True, check=True
        ).stdout.decode()
        assert "CA:FALSE" in told and "Digital Signature" in told and "wind-ingest" in told
        assert "d" in kept(desk)["key"]
    assert datetime.fromisoformat(there["validUntil"]) == x509.load_der_x509_certificate(der).not_valid_after_utc + timedelta(
        seconds=1
    )
    assert desk.run("enact", "wind-ingest", "--yes").out.count("Nothing to do") == 1
    assert desk.run("rotate", "wind-ingest").code == 7
    assert desk.run("rotate", "wind-ingest", "--taken", "mira.sol").code == 7
    ticking(700)
    assert (desk.run("rotate", "wind-ingest").code, live(away)) == (0, ["ingest-key-2"])
    assert desk.run("prove", "wind-ingest").code == 0
    path = next(desk.folder.glob(".sigillum/keys/*/current/ingest-key.json"))
    assert desk.run("suspend", "--key", str(path), "--because", "x", "--yes").code == 0  # by its key, and by its own name
    assert desk.run("prove", "wind-ingest").code != 0
    assert desk.run("reinstate", "--key", kept(desk)["credential"]["x5t#S256"], "--because", "x").code == 0
    assert desk.run("retire", "wind-ingest", "--because", "x", "--yes").code == 0


def test_the_houses_ca_is_asked_and_its_answer_is_looked_at(desk: Desk, away: Away) -> None:
    house, answer = House(), desk.folder / "answer.pem"
    (desk.folder / "house.pem").write_bytes(house.own.public_bytes(serialization.Encoding.PEM))
    settings = desk.folder / "sigillum.yaml"
    settings.write_text(settings.read_text() + "house_ca: file:house.pem\n")
    desk.charter(BY_CA)
    asked = desk.run("enact", "wind-ingest", "--yes")
    request = desk.folder / "requests" / "wind-ingest-ingest-key-1.csr.pem"
    assert (asked.code, request.exists(), "the request for a certificate is written" in asked.out) == (6, True, True), asked.out
    assert live(away) == []
    first = request.read_bytes()
    assert desk.run("enact", "wind-ingest", "--yes").code == 6
    assert (
        x509.load_pem_x509_csr(first).public_key() == x509.load_pem_x509_csr(request.read_bytes()).public_key()
    )  # the same key
    answered = BY_CA.replace("signed_by: ca", "signed_by: ca, certificate: 'file:answer.pem'")
    desk.charter(answered)
    assert desk.run("charter", "check", "wind-ingest").code == 3  # it is not there yet
    for lasts, authority, who, told in (
        (60, True, house, "may sign others"),
        (-0.01, False, house, "is over since"),
        (900, False, house, "allows 180d"),
        (60, False, House("Strangers"), "not by the house's CA"),
    ):
        who.answer(request, answer, timedelta(days=lasts), authority=authority)
        ran = desk.run("enact", "wind-ingest", "--yes")
        assert (ran.code, told in " ".join(ran.out.split())) == (3, True), ran.out
    stranger = Desk(desk.folder.parent / "stranger", desk.capture)
    assert stranger.run("init", str(stranger.folder)).code == 0
    stranger.know(away)
    stranger.charter(BY_CA.replace("wind-ingest", "other"), "other")
    stranger.run("enact", "other", "--yes")
    house.answer(stranger.folder / "requests" / "other-ingest-key-1.csr.pem", answer)
    ran = desk.run("enact", "wind-ingest", "--yes")
    assert (ran.code, "is for another key" in " ".join(ran.out.split())) == (6, True), ran.out
    house.answer(request, answer)
    ran = desk.run("enact", "wind-ingest", "--yes")
    assert (ran.code, "by CN=House CA" in ran.out) == (0, True), ran.out
    [there] = [c for c in away.of("Credential") if c["name"] == "ingest-key"]
    assert datetime.fromisoformat(there["validUntil"]) == x509.load_pem_x509_certificate(
        answer.read_bytes()
    ).not_valid_after_utc + timedelta(seconds=1)
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    ran = desk.run("rotate", "wind-ingest")  # the next key, and another request
    second = desk.folder / "requests" / "wind-ingest-ingest-key-2.csr.pem"
    assert (ran.code, second.exists(), live(away)) == (6, True, ["ingest-key"]), ran.out
    house.answer(second, answer)
    assert desk.run("rotate", "wind-ingest").code == 7
    assert live(away) == ["ingest-key", "ingest-key-2"]


def test_which_algorithms_a_tenant_takes(bare: Desk, sandbox: Sandbox) -> None:
    away = sandbox.tenant()
    sandbox.control("tenants", {"describe": {away.name: {"assertion_algorithms": ["ES256"]}}})
    bare.know(away)
    bare.charter(CHARTER)
    told = bare.run("rehearse", "wind-ingest")
    assert (told.code, "write `algorithm:` ES256" in told.out) == (3, True), told.out
    bare.charter(CHARTER.replace("lasts: 90d", "lasts: 90d, algorithm: ES256"))
    assert bare.run("enact", "wind-ingest", "--yes").code == 0
