"""Programs of somebody else's: an OpenID provider as a trust's issuer, an OAuth client at the exchange, a JOSE library."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import pytest
import urllib3

from conftest import CHARTER, Away, Desk, Sandbox
from real.servers import issuer, node

READER = """\
charter: mast-reader
tenant: summit
owner: mara.teel@brindlemoor.example
purpose: Shows the wind
identity: {kind: service-account, name: mast-reader, display: Mast reader}
grants: [{role: stream-reader, at: brindlemoor/sensing-prod, because: it shows the wind}]
trusts: [{name: theirs, issuer: theirs, audience: 'urn:summit', subject: reader, when: [{claim: account, equals: "4712"}, {claim: tags, has: masts}]}]
proofs: [{can: stream.read, at: brindlemoor/sensing-prod/streams/mast-4}]
"""


@pytest.fixture(scope="module")
def theirs(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    with issuer(tmp_path_factory.mktemp("oidc") / "run") as address:
        yield address


def token(theirs: str, name: str, path: Path) -> Path:
    """What a workload of theirs gets, for summit."""
    headers = {**urllib3.make_headers(basic_auth=f"{name}:{name}-secret"), "Content-Type": "application/x-www-form-urlencoded"}
    answer = urllib3.request(
        "POST", f"{theirs}/token", body="grant_type=client_credentials&resource=urn%3Asummit", headers=headers
    )
    path.write_text(answer.json()["access_token"])
    path.chmod(0o600)
    return path


def test_tokens_of_a_strangers_provider_are_taken_by_a_trust(bare: Desk, sandbox: Sandbox, theirs: str) -> None:
    away = sandbox.tenant("summit")
    bare.know(away)
    settings = bare.folder / "sigillum.yaml"
    settings.write_text(settings.read_text() + f"issuers:\n  theirs: {{address: '{theirs}'}}\n")
    bare.charter(READER, "mast-reader")
    assert bare.run("enact", "mast-reader", "--yes").code == 0
    right, wrong = (token(theirs, name, bare.folder / f"{name}.jwt") for name in ("reader", "clerk"))
    ran = bare.run("token", "read", str(right), "--tenant", "summit", "--audience", "urn:summit")
    assert (ran.code, f"Verified: a key of {theirs}" in ran.out) == (0, True), ran.out + ran.err
    assert (
        bare.run("trust", "try", str(right), "mast-reader").code,
        bare.run("trust", "try", str(wrong), "mast-reader").code,
    ) == (0, 1)
    ran = bare.run("prove", "mast-reader", "--outside", str(right))
    assert (ran.code, "tried" in ran.out) == (0, True), ran.out + ran.err
    changed = bare.folder / "changed.jwt"
    changed.write_text(right.read_text()[:-8] + "AAAAAAAA")
    assert bare.run("token", "read", str(changed), "--tenant", "summit").code == 1
    [trust] = away.state()["resources"]["Trust"]
    for file, expected in (
        (right, {"type": "bearer", "issued": "urn:ietf:params:oauth:token-type:access_token"}),
        (wrong, {"error": "invalid_request"}),  # RFC 8693 §2.2.2: what a subject token is refused with
        (changed, {"error": "invalid_request"}),
    ):
        said = node("client.mjs", away.address.removesuffix("/scim/v2"), file, trust["id"], trust["principal"]["value"])
        assert 0 < said.pop("lives", 1) <= 600
        assert {n: v.lower() if n == "type" else v for n, v in said.items()} == expected, file


def test_a_strangers_library_reads_what_is_minted(desk: Desk, away: Away) -> None:
    desk.charter(CHARTER)
    assert desk.run("enact", "wind-ingest", "--yes").code == 0
    out, key = desk.folder / "a.jwt", desk.folder / "key.json"
    assert desk.run("token", "mint", "wind-ingest", "--out", str(out)).code == 0
    [made] = [c for c in away.of("Credential") if c["name"] == "ingest-key"]
    key.write_text(json.dumps(made["publicKey"]))
    issuer_ = away.address.removesuffix("/scim/v2")
    read = node("verify.mjs", out, key, issuer_)
    assert (read["claims"]["iss"], read["claims"]["aud"], read["header"]["typ"]) == (made["principal"]["value"], issuer_, "JWT")
