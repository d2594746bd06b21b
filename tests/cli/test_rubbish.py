"""Rubbish in every file and answer that is read: told with a code of ours, never a traceback, a fault of ours, or a signal."""

from __future__ import annotations

import contextlib
import copy
import json
import random
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

import pytest
import urllib3

from cli.test_by_hand import ANSWERS, depot, keyed  # noqa: F401
from cli.test_handover import done, sealed  # noqa: F401
from cli.test_identities import ENACT, pair, settle
from conftest import CHARTER, Away, Desk, Sandbox
from core.fake import NOW
from sigillum.cli.sandboxes import usual_world
from sigillum.core.deciding.values import Question
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.profile import Operation, Profile
from sigillum.core.kinds.registry import KINDS
from sigillum.core.values.canonical import public_half
from sigillum.core.values.errors import FileError, SigillumError
from sigillum.core.values.secret import Secret
from sigillum.keys import signed
from sigillum.keys.ledgerkey import LedgerKey
from sigillum.keys.material import make_key
from sigillum.protocols.http import Http
from sigillum.reading.document import parse
from sigillum.tenants.port import Address, Proof, SignedIn
from sigillum.tenants.scim.answers import refused
from sigillum.tenants.scim.driver import OpenTenant
from sigillum.tenants.scim.registration import Kept, Registrar
from tenants.test_strangers import server

DEEP: Any = None
for _ in range(400):
    DEEP = [DEEP]
JUNK: list[Any] = [
    None,
    True,
    0,
    -1,
    2**70,
    1.5,
    1e308,
    float("nan"),
    "",
    " ",
    "²",
    "\x1b[31mred",
    "\u202eabc",
    "-",
    "@",
    "a/../b",
    "x" * 5000,
    "2027-13-99",
    "2027-03-01T00:00:00",
    "9999-12-31T23:59:59Z",
    "0001-01-01T00:00:00+14:00",
    "P99999999Y",
    "99999999999d",
    "http://[::1",
    "file:/dev/null",
    "env:",
    [],
    {},
    ["x"],
    [None],
    [[]],
    {"x": {"y": []}},
    {"value": 5},
    DEEP,
]
CODES = {0, 1, 2, 3, 4, 5, 6, 7, 8}


def spoil(data: Any, chance: random.Random) -> Any:
    """The same with rubbish in one place: a value replaced, dropped, doubled, or a key that nobody knows."""
    data = copy.deepcopy(data)
    spots: list[tuple[Any, Any]] = []

    def walk(node: Any) -> None:
        for key in list(node) if isinstance(node, dict) else range(len(node)) if isinstance(node, list) else ():
            spots.append((node, key))
            walk(node[key])

    walk(data)
    if not spots or chance.random() < 0.03:
        return chance.choice(JUNK)
    node, key = chance.choice(spots)
    what = chance.random()
    if what < 0.75:
        node[key] = chance.choice(JUNK)
    elif what < 0.9:
        del node[key]
    elif isinstance(node, list):
        node.append(node[key])
    else:
        node[chance.choice(["", "x", "\x00", "id", "$ref"])] = chance.choice(JUNK)
    return data


def raw(text: str, chance: random.Random) -> bytes:
    """Rubbish in the text itself."""
    data = bytearray(text.encode())
    at = chance.randrange(len(data) + 1)
    return bytes(
        chance.choice(
            [
                data[:at],
                data[:at] + b"\xff\xfe" + data[at:],
                data[:at] + b"[" * 50_000,
                data[:at] + b"\x00" + data[at:],
                b"[" * 50_000,
                b'{"a":' * 20_000,
                data[:at] + b"\t- : ]" + data[at:],
                data[:at] + "²".encode() + data[at + 1 :],
                b"- " * 20_000,
                data + data,
                b"",
                b"\xef\xbb\xbf" + data,
                b"&a [*a]",
            ]
        )
    )


def versions(text: str, data: Any, chance: random.Random, count: int) -> Iterator[bytes]:
    for _ in range(count):
        yield (
            raw(text, chance)
            if chance.random() < 0.25
            else json.dumps(spoil(data, chance), ensure_ascii=chance.random() < 0.5).encode("utf-8", "replace")
        )


def well(ran: Any, what: object) -> None:
    assert ran.code in CODES and "fault of ours" not in ran.err and "Traceback" not in ran.err + ran.out, (ran, what)
    assert "\x1b[31m" not in ran.out + ran.err and "\u202e" not in ran.out + ran.err, (ran, what)


@pytest.fixture
def most(request: pytest.FixtureRequest) -> int:
    return 400 if request.config.getoption("--soak") else 24


def held(
    desk: Desk,
    path: Path,
    command: list[str],
    most: int,
    *,
    yaml: bool = True,
    seed: int = 0,
    sign: Callable[[Any], bytes] | None = None,
) -> None:
    """Run a command on rubbish in one file, and put the file back."""
    whole, chance = path.read_bytes(), random.Random(seed)
    text = whole.decode()
    data = parse(text, "x").data if yaml else json.loads(text)
    for content in versions(text, json.loads(json.dumps(data, default=str)), chance, most):
        if sign is not None and content[:1] == b"{" and chance.random() < 0.8:
            try:
                content = sign(json.loads(content))
            except (ValueError, RecursionError, TypeError):
                continue
        path.write_bytes(content)
        well(desk.run(*command), content[:3000])
    path.write_bytes(whole)


@pytest.mark.parametrize("file", ["charters/wind-ingest.yaml", "sigillum.yaml"])
def test_rubbish_in_what_an_administrator_writes(desk: Desk, file: str, most: int) -> None:
    for command in (["charter", "check", "wind-ingest"], ["rehearse", "wind-ingest"], ["handover", "wind-ingest"]):
        held(desk, desk.folder / file, command, most // 2)


@pytest.mark.parametrize("file", ["accounts.csv", "places.json", "grants.csv", "done.yaml"])
def test_rubbish_in_facts_and_answers(depot: Desk, file: str, most: int) -> None:  # noqa: F811
    answers = depot.folder / "done.yaml"
    answers.write_text(json.dumps(keyed(ANSWERS)))
    path = answers if file == "done.yaml" else depot.folder / "facts" / "depot" / file
    command = ["enact", "rope-stock", "--yes", "--answers", str(answers)] if file == "done.yaml" else ["rehearse", "rope-stock"]
    if file.endswith(".csv"):
        whole, chance = path.read_text(), random.Random(1)
        for _ in range(most):
            cells = whole.replace("\n", ",\n").split(",")
            cells[chance.randrange(len(cells))] = str(chance.choice(JUNK))[:300]
            path.write_bytes(raw(whole, chance) if chance.random() < 0.3 else ",".join(cells).encode())
            well(depot.run(*command), path.read_bytes()[:2000])
    else:
        held(depot, path, command, most)


def test_rubbish_in_a_list_and_its_template(desk: Desk, most: int) -> None:
    table, template = desk.folder / "stations.csv", desk.folder / "station.yaml"
    table.write_text("name,place\nnorth,brindlemoor/sensing-prod\nsouth,brindlemoor/sensing-test\n")
    template.write_text(CHARTER.replace("wind-ingest", "{name}").replace("brindlemoor/sensing-prod\n", "{place}\n"))
    command, chance = ["charter", "new", "--from-list", str(table), "--template", str(template)], random.Random(2)
    for _ in range(most):
        table.write_bytes(
            raw("name,place\nnorth,brindlemoor\n", chance)
            if chance.random() < 0.6
            else f"name,place\n{str(chance.choice(JUNK))[:200]},{str(chance.choice(JUNK))[:200]}\n".encode()
        )
        well(desk.run(*command), table.read_bytes()[:2000])
        for path in (desk.folder / "charters").glob("*.yaml"):
            path.unlink()
    table.write_text("name,place\nnorth,brindlemoor/sensing-prod\n")
    held(desk, template, command, most)


def test_rubbish_in_requests_and_receipts(bare: Desk, sandbox: Sandbox, most: int) -> None:
    roster, summit = pair(sandbox)
    settle(bare, roster, summit, consenting=False)
    assert bare.run(*ENACT).code == 6
    bare.know(roster, "again", "nils.brack")
    file, key = (
        min((bare.folder / "requests").iterdir()),
        LedgerKey.of(json.loads((bare.folder / ".sigillum" / "ledger-key.json").read_text()), "x"),
    )

    def sign(body: Any) -> bytes:
        return json.dumps(signed.sign({n: v for n, v in body.items() if n != "signature"}, key)).encode()

    held(bare, file, ["requests", "answer", str(file), "--yes"], most, yaml=False, sign=sign)
    assert bare.run("requests", "answer", str(file), "--yes").code == 0
    receipt = Path(str(file).replace(".json", ".receipt.json"))
    held(bare, receipt, ["requests", "done", "1", "--receipt", str(receipt)], most, yaml=False, sign=sign)
    held(bare, file, ["requests", "show", "1"], most, yaml=False)


def test_rubbish_in_sheets_and_keys(sealed: tuple[Desk, Path, Path, str], most: int, tmp_path: Path) -> None:  # noqa: F811
    desk, sheet, mine, sender = sealed
    words, chance, whole = (
        ["handover", "open", str(sheet), "--with-key", f"file:{mine}", "--from", sender],
        random.Random(3),
        sheet.read_text(),
    )
    for _ in range(most):
        sheet.write_bytes(raw(whole, chance))
        well(desk.run(*words), sheet.read_bytes()[:500])
    sheet.write_text(whole)
    held(desk, mine, words, most, yaml=False)
    held(
        desk,
        tmp_path / "mine.public.jwk",
        ["handover", "wind-ingest", "--seal-to", str(tmp_path / "mine.public.jwk"), "--out", str(tmp_path / "o")],
        most,
        yaml=False,
    )
    for path in (desk.folder / ".sigillum" / "keys").glob("*/*.json"):
        held(desk, path, ["prove", "wind-ingest"], most // 2, yaml=False)


def test_rubbish_in_a_world(tmp_path: Path, most: int) -> None:
    from sigillum.sandbox.app import House
    from sigillum.sandbox.worlds import check

    path, chance = tmp_path / "world.yaml", random.Random(4)
    text = usual_world().read_text()
    data = parse(text, "x").data
    for content in versions(text, json.loads(json.dumps(data, default=str)), chance, most):
        path.write_bytes(content)
        try:
            described = check.read(path)
            house = House(described, "http://127.0.0.1:1", "t")
            for name in described["tenants"]:
                house.open(name)
        except (FileError, ValueError, OSError):
            pass


@pytest.mark.parametrize(
    "command",
    [
        ("rehearse", "wind-ingest"),
        ("enact", "wind-ingest", "--yes", "--end"),
        ("explain", "wind-ingest", "--matrix"),
        ("tenant", "inspect", "summit"),
        ("prove", "wind-ingest"),
    ],
)
def test_rubbish_from_a_tenant(bare: Desk, away: Away, command: tuple[str, ...], most: int) -> None:
    pool, chance, origin, spoiling = (
        urllib3.PoolManager(),
        random.Random(5),
        away.address.partition("/" + away.name)[0],
        [False],
    )

    def answer(
        method: str, path: str, query: dict[str, list[str]], body: bytes, headers: Any
    ) -> tuple[int, Any, dict[str, str]]:
        wanted = {
            n: v for n, v in headers.items() if n.lower() not in ("host", "content-length", "accept-encoding", "connection")
        }
        told = pool.request(
            method,
            f"{origin}{path}{'?' + urlencode(query, doseq=True) if query else ''}",
            body=body or None,
            headers=wanted,
            retries=False,
        )
        found = {
            n: v
            for n, v in told.headers.items()
            if n.lower() in ("content-type", "date", "etag", "location", "www-authenticate")
        }
        if not spoiling[0] or chance.random() < 0.5 or not told.data:
            return told.status, told.data, found
        if chance.random() < 0.1:
            found |= {
                chance.choice(["Date", "Retry-After", "ETag", "Content-Type", "Age"]): chance.choice(
                    ["x", "9" * 30, "-1", "1e9", "Thu, 99 Foo 2027"]
                )
            }
        status = chance.choice([told.status] * 6 + [400, 401, 403, 404, 409, 412, 429, 500, 503, 202])
        data = (
            raw(told.data.decode(), chance)
            if chance.random() < 0.1
            else json.dumps(spoil(json.loads(told.data), chance)).encode()
        )
        return status, data, found

    with server(answer, heads=True) as base:
        bare.know(
            Away(away.name, away.address.replace(origin, base), away.tokens, away.sandbox), extra=f"    origins: ['{origin}']\n"
        )
        bare.charter()
        first = bare.run("enact", "wind-ingest", "--yes", "--no-prove")
        assert first.code == 0, first.out
        spoiling[0] = True
        for _ in range(most // 2):
            well(bare.run(*command, "--timeout", "2"), "")


def test_rubbish_from_an_authorization_server(most: int) -> None:
    chance, key = random.Random(6), make_key("Ed25519")

    def answer(method: str, path: str, query: Any, body: bytes) -> tuple[int, Any, dict[str, str]]:
        whole: Any = (
            {"issuer": base[0], **{f"{n}_endpoint": f"{base[0]}/{n}" for n in ("token", "introspection", "registration")}}
            if "well-known" in path
            else {"access_token": "a", "token_type": "Bearer", "expires_in": 60}
            if path == "/token"
            else {"active": True, "sub": "p-1"}
            if path == "/introspection"
            else {"decision": True, "context": {"reason": "so"}}
            if path == "/decide"
            else {"evaluations": [{"decision": True}, {"decision": False}]}
            if path == "/decides"
            else {"items": [{"next": "a/b"}], "total": 1, "capped": False}
            if path.startswith("/work")
            else {
                "client_id": "c-1",
                "client_secret": "s",
                "registration_access_token": "t",
                "registration_client_uri": f"{base[0]}/registered",
                "redirect_uris": [],
                "jwks": {"keys": [public_half(key)]},
            }
        )
        status = chance.choice([201 if path == "/registration" else 200] * 8 + [400, 401, 404, 429, 500])
        if chance.random() < 0.6:
            return (
                status,
                raw(json.dumps(whole), chance) if chance.random() < 0.2 else json.dumps(spoil(whole, chance)).encode(),
                {},
            )
        return status, whole, {}

    base = [""]
    with server(answer) as base[0]:
        for _ in range(most // 2):
            tenant = OpenTenant(Address("x", base[0]), Http(origins=[base[0]], timeout_seconds=2), Secret("t"))
            tenant.profile = Profile(issuer=base[0], decisions=f"{base[0]}/decide", work=f"{base[0]}/work")
            kept: list[Any] = [Kept({"client_id": "c-1", "registration_client_uri": f"{base[0]}/registered"})]
            registrar = Registrar(tenant.http, f"{base[0]}/registration", Secret("t"), lambda: kept, refused, kept.append)  # noqa: B023
            asked = [Question("p-1", "a.b", "a/b", NOW), Question("p-1", "a.c", "a/b", NOW)]
            for call in (
                lambda: tenant.sign_in(Proof("p-1", key, "Ed25519")),  # noqa: B023
                lambda: tenant.sign_in(Proof("p-1", secret=Secret("s"), client_id="c-1")),  # noqa: B023
                lambda: tenant.ask(SignedIn(Secret("t"), "p-1", ""), "a.b", "a/b"),  # noqa: B023
                lambda: tenant.ask_all(asked),  # noqa: B023
                lambda: tenant.attempt(SignedIn(Secret("t"), "p-1", ""), Operation("a.b", "looks", "GET", "/w/{place}"), "a/b"),  # noqa: B023
                lambda: registrar.register("m", {"name": "n"}),  # noqa: B023
                lambda: registrar.fact(Query(KINDS["client"], "id", "c-1")),  # noqa: B023
                lambda: registrar.fact(Query(KINDS["credential"], "principal", "c-1")),  # noqa: B023
                lambda: registrar.change("c-1", {"name": "m"}),  # noqa: B023
                lambda: registrar.end("c-1"),  # noqa: B023
            ):
                with contextlib.suppress(SigillumError):
                    call()
