"""What a charter can expect: by a named key, as long as a window, of what is linked, and of getting in."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from cli.test_access import MAST, PROD
from cli.test_sign_in import EXEMPT, ROBOT, known
from conftest import CHARTER, Away, Desk, Sandbox

TEST = f"{PROD}/streams/mast-test"
HEAD = CHARTER.partition("proofs:")[0]


def proved(desk: Desk, name: str = "wind-ingest") -> tuple[int, list[tuple[Any, str]]]:
    ran = desk.run("prove", name, "--format", "json")
    return ran.code, [(p["held"], p["said"]) for p in ran.json["charters"][0]["proofs"]]


def enact(desk: Desk, name: str = "wind-ingest", code: int = 0) -> str:
    ran = desk.run("enact", name, "--yes", "--end")
    assert ran.code == code, ran.out + ran.err
    return " ".join(ran.out.split())


def test_a_proof_names_its_key_and_without_one_each_is_tried(desk: Desk) -> None:
    two = HEAD + "  - {name: reader-key, kind: key-pair, lasts: 90d, limits: [stream.read]}\nproofs:\n"
    desk.charter(
        two
        + f"  - {{can: stream.append, at: {TEST}, with: ingest-key}}\n  - {{cannot: stream.append, at: {TEST}, with: reader-key}}\n"
        f"  - {{can: stream.read, at: {MAST}}}\n"
    )
    assert "ingest-key, generation 1, reader-key, generation 1" in enact(desk)
    code, found = proved(desk)
    assert (code, [h for h, _ in found]) == (0, [True, True, True])
    desk.charter(two + f"  - {{cannot: stream.append, at: {TEST}}}\n")
    code, found = proved(desk)  # the other key can
    assert (code, found[0][0], found[0][1].startswith("with ingest-key")) == (1, False, True)
    desk.charter(two + f"  - {{can: stream.append, at: {TEST}, with: igest-key}}\n")
    assert "did you mean ingest-key?" in desk.run("charter", "check", "wind-ingest").err


def test_a_proof_lasts_as_long_as_a_window_and_then_the_same_is_refused(desk: Desk, ticking: Callable[[int], None]) -> None:
    path = desk.folder / "sigillum.yaml"
    path.write_text(path.read_text().replace("    stage: prod\n", "    stage: prod\n    clock: tenant\n"))
    text = HEAD.replace(
        "credentials:", f"  - {{role: stream-keeper, at: {TEST}, for: 10m, because: clears it}}\ncredentials:"
    ).replace("limits: [stream.append, stream.read]", "limits: [stream.append, stream.read, stream.delete]")
    desk.charter(text + f"proofs:\n  - {{can: stream.delete, at: {TEST}, while: stream-keeper}}\n")
    assert "while stream-keeper lasts" in enact(desk)
    ticking(660)
    code, found = proved(desk)
    assert (code, found[0][0]) == (0, True)
    assert "cannot stream.delete" in desk.run("prove", "wind-ingest").out
    desk.charter(text + f"proofs:\n  - {{can: stream.delete, at: {TEST}, while: stream-writer}}\n")
    assert "for a window" in " ".join(desk.run("charter", "check", "wind-ingest").err.split())


def test_what_is_linked_must_be_readable_too(bare: Desk, sandbox: Sandbox) -> None:
    items = [{"next": "hill/b"}, {"next": ["/data/hill/c", "hill/b"]}]
    made = sandbox.control(
        "tenants",
        {
            "open": {
                "linked": {
                    "admins": [{"name": "ada.rusk", "powers": "all"}],
                    "permissions": {
                        "data.read": {"class": "looks", "call": "GET /streams/{place}"},
                        "log.read": {"class": "looks", "call": "GET /data/{place}"},
                    },
                    "places": [
                        {"path": "hill"},
                        {"path": "hill/a", "kind": "stream", "items": items},
                        {"path": "hill/b", "kind": "stream"},
                        {"path": "hill/c", "kind": "stream"},
                    ],
                    "roles": [
                        {"name": "reader", "permissions": ["data.read"]},
                        {"name": "logger", "permissions": ["log.read"]},
                    ],
                }
            }
        },
    )
    bare.know(Away("linked", made["tenants"]["linked"], made["tokens"]["linked"], sandbox))
    text = (
        HEAD.replace("stream-writer", "reader")
        .replace("brindlemoor/sensing-prod", "hill")
        .replace(", limits: [stream.append, stream.read]", "")
    )
    bare.charter(text + "proofs: [{can: data.read, at: hill/a, follow: next}]\n")
    assert "next names hill/c, and log.read is missing there" in enact(bare, code=1)
    bare.charter(
        text.replace("credentials:", "  - {role: logger, at: hill, because: follows}\ncredentials:")
        + "proofs: [{can: data.read, at: hill/a, follow: next}]\n"
    )
    assert "all 2 places in next can be read" in enact(bare)


def test_getting_in_is_expected_too(bare: Desk, sandbox: Sandbox) -> None:
    known(bare, sandbox.tenant("roster"))
    robot = ROBOT.partition("proofs:")[0] + EXEMPT + "proofs:\n"
    expected = (
        "  - {can: sign-in, from: 127.0.0.1}\n  - {cannot: sign-in, from: 192.0.2.7}\n"
        "  - {cannot: sign-in, as: ines.vole@brindlemoor.example, interactive: true}\n"
        "  - {can: sign-in, as: ines.vole@brindlemoor.example, interactive: true, second_factor: true}\n"
    )
    bare.charter(robot + expected, "night-robot")
    out = enact(bare, "night-robot")
    assert "4 proofs held" in out
    assert "which demands network" in out
    assert "which demands second-factor" in out
    bare.charter(robot + "  - {can: sign-in, from: 192.0.2.7}\n", "night-robot")
    assert proved(bare, "night-robot")[0] == 1


@pytest.mark.parametrize(
    ("proof", "told"),
    [
        ("{can: sign-in, at: a/b}", "cannot stand at sign-in"),
        ("{can: stream.read, at: a/b, from: 10.0.0.1}", "only `sign-in` takes it"),
        ("{can: stream.read}", "add `at: PLACE`"),
        ("{cannot: stream.read, at: a/b, while: stream-writer}", "while cannot stand here"),
        ("{can: sing-in}", "write thing.verb, like stream.append; or sign-in"),
    ],
)
def test_what_a_proof_cannot_say(desk: Desk, proof: str, told: str) -> None:
    desk.charter(HEAD + f"proofs: [{proof}]\n")
    ran = desk.run("charter", "check", "wind-ingest")
    assert (ran.code, told in " ".join(ran.err.split())) == (3, True), ran.err
