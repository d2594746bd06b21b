"""A real RabbitMQ broker, attached by the dialect that ships as an example."""

from __future__ import annotations

import json
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

import sigillum
from conftest import Both, Desk, Fork, boundaries, kill_at
from real.servers import Broker, rabbitmq

EXAMPLE = Path(sigillum.__file__).parent / "tenants" / "dialect" / "shipped" / "rabbitmq.yaml"
CHARTER = """\
charter: tail
tenant: broker
owner: mara.teel@brindlemoor.example
purpose: Reads the orders queue
identity: {kind: service-account, name: tail-1, display: Tail}
grants: [{role: consumer, at: orders, because: it reads}, {role: consumer, at: trial, because: it reads}]
credentials: [{name: tail-pw, kind: password, lasts: 30d}]
proofs:
  - {can: queue.read, at: orders}
  - {cannot: queue.write, at: trial}
"""


@pytest.fixture(scope="module")
def broker(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Broker]:
    with rabbitmq(tmp_path_factory.mktemp("mq") / "node") as made:
        yield made


@pytest.fixture
def house(bare: Desk, broker: Broker) -> Desk:
    broker.call("DELETE", "users/tail-1")
    (bare.folder / "dialects").mkdir()
    shutil.copy(EXAMPLE, bare.folder / "dialects" / "broker.yaml")
    (bare.folder / "admin.secret").write_text("guest")
    (bare.folder / "admin.secret").chmod(0o600)
    ran = bare.run(
        "tenant",
        "add",
        "broker",
        broker.address,
        "--driver",
        "dialect",
        "--admin",
        "guest",
        "--token",
        "file:admin.secret",
        "--stage",
        "test",
    )
    assert ran.code == 0, ran.err
    bare.charter(CHARTER, "tail")
    return bare


def is_whole(house: Desk, broker: Broker, charter: str = "tail") -> None:
    """Just what is wanted stands there, a message can be read with the kept password and none be sent, and another run does nothing."""
    status, users = broker.call("GET", "users")
    assert (status, sorted(u["name"] for u in users)) == (200, ["guest", "tail-1"])  # type: ignore[attr-defined]
    path = max((house.folder / ".sigillum" / "keys").glob("*/current/tail-pw.json"), key=lambda p: p.lstat().st_mtime_ns)
    mine = ("tail-1", str(json.loads(path.read_text())["secret"]))
    broker.call(
        "POST",
        "exchanges/orders/amq.default/publish",
        {"properties": {}, "routing_key": "sigillum-trial", "payload": "a word", "payload_encoding": "string"},
    )
    got = broker.call(
        "POST", "queues/orders/sigillum-trial/get", {"count": 1, "ackmode": "ack_requeue_false", "encoding": "auto"}, mine
    )
    assert got[1][0]["payload"] == "a word"  # type: ignore[index]
    sent = broker.call(
        "POST",
        "exchanges/orders/amq.default/publish",
        {"properties": {}, "routing_key": "x", "payload": "", "payload_encoding": "string"},
        mine,
    )
    assert sent[0] in (400, 401, 403), sent
    assert house.run("rehearse", charter, "--format", "json").json["charters"][0]["steps"] == []


def test_a_charter_serves_on_a_real_broker(house: Desk, broker: Broker) -> None:
    assert len(EXAMPLE.read_text().splitlines()) < 90
    ran = house.run("dialect", "try", "broker", "--at", "trial", "--yes", "--format", "json")
    assert (ran.code, ran.json["safety"], ran.json["left"]) == (0, "name only", []), ran.out
    ran = house.run("enact", "tail", "--yes")
    assert (ran.code, ran.out.count("holds ")) == (0, 2), ran.out + ran.err
    is_whole(house, broker)
    with Both(house, "tail-pw", lambda secret: broker.call("GET", "whoami", user=("tail-1", secret))[0] == 200) as client:
        ran = house.run("rotate", "tail", "--gap", "--yes")
    assert (client.refused, "the new tail-pw where its consumers read it" in ran.out) == ([], True), ran.out + ran.err
    ran = house.run("retire", "tail", "--because", "over", "--yes")
    assert (ran.code, broker.call("GET", "users/tail-1")[0], "Nothing is left" in ran.out) == (0, 404, True), ran.out + ran.err


def test_killed_at_every_boundary_it_goes_on(house: Desk, broker: Broker, forked: Fork) -> None:
    names = boundaries(house, forked, ["enact", "tail", "--yes"])
    assert len(names) >= 10
    for number, name in enumerate(names):
        assert house.run("retire", f"tail-{number - 1}" if number else "tail", "--because", "again", "--yes").code == 0
        house.charter(CHARTER.replace("charter: tail", f"charter: tail-{number}"), f"tail-{number}")
        assert forked(house, ["enact", f"tail-{number}", "--yes"], kill_at(name))[1] == 9, name
        ran = house.run("enact", f"tail-{number}", "--yes")
        assert ran.code == 0, f"{name}: {ran.out}{ran.err}"
        is_whole(house, broker, f"tail-{number}")
