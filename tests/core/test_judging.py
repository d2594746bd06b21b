"""Judging: every answer against every expectation, and what a charter says that cannot be. Tables over values."""

from __future__ import annotations

import ast
import dataclasses
import shlex
from typing import Any

import pytest

from core.fake import PROFILE, thing
from core.test_compare import GRANT, KEY, TOKEN, charter
from sigillum.core.charter.charter import Charter, CredentialWant, GrantWant, Identity, ProofWant, ServiceWant, SignInTry
from sigillum.core.charter.rules import Consumer, HouseRules
from sigillum.core.charter.snippets import call_of, written
from sigillum.core.charter.wants import TrustWant
from sigillum.core.deciding.proofs import (
    Manner,
    Reading,
    Result,
    Trial,
    control_for,
    judge,
    links_of,
    manner_of,
    target_of,
    worst_of,
)
from sigillum.core.facets.registry import check
from sigillum.core.federation.subjects import Wrong
from sigillum.core.federation.trusts import Trust
from sigillum.core.kinds.profile import Operation
from sigillum.core.values.errors import Position

CAN, CANNOT = ProofWant(True, "stream.read", "root/a"), ProofWant(False, "stream.read", "root/a")
EXACTLY, LEAST = dataclasses.replace(CAN, count=2), dataclasses.replace(CAN, at_least=2)
WITH = dataclasses.replace(CAN, value={"mast": 4, "unit": "m"})
TWO = ({"mast": 4, "unit": "m"}, {"mast": 5})
TRIED, ASKED = Manner.TRIED, Manner.ASKED


@pytest.mark.parametrize(
    ("proof", "manner", "found", "held", "said"),
    [
        (CAN, TRIED, Trial(True), True, "allowed"),
        (CAN, TRIED, Trial(False, "403"), False, "403"),
        (CAN, TRIED, Trial(False), False, "it was refused"),
        (CAN, TRIED, Trial(None), None, "no answer that says either"),
        (CAN, TRIED, Trial(False, "401", unauthenticated=True), False, "401"),
        (CANNOT, TRIED, Trial(True), False, "it was allowed"),
        (CANNOT, TRIED, Trial(False), True, "refused"),
        (CANNOT, TRIED, Trial(None, "503"), None, "503"),
        (CANNOT, TRIED, Trial(False, "401", unauthenticated=True), None, "not shown: 401, which says nothing about the right"),
        (CANNOT, ASKED, Reading(False, "nothing is granted"), True, "nothing is granted"),
        (CAN, ASKED, Reading(None, "hidden"), None, "hidden"),
        (EXACTLY, TRIED, Trial(True, items=TWO), True, "2 counted"),
        (EXACTLY, TRIED, Trial(True, total=3, items=TWO), False, "3 counted"),
        (EXACTLY, TRIED, Trial(True), None, "holds nothing that can be counted"),
        (EXACTLY, ASKED, Trial(True), None, "nobody signed in as it"),
        (EXACTLY, ASKED, Reading(True), None, "nobody signed in as it"),
        (LEAST, TRIED, Trial(True, total=1), False, "1 counted"),
        (LEAST, TRIED, Trial(True, total=9, items=TWO, capped=True), True, "9 counted; the tenant capped the answer at 2 of 9"),
        (LEAST, TRIED, Trial(False, "403"), False, "403"),
        (WITH, TRIED, Trial(True, items=TWO), True, "found"),
        (WITH, TRIED, Trial(True, items=(*TWO[1:], "no object", {"mast": 4})), False, "not found"),
        (WITH, TRIED, Trial(True, total=9, items=TWO[1:], capped=True), None, "not among what was shown; the tenant capped"),
    ],
)
def test_an_answer_against_an_expectation(proof: ProofWant, manner: Manner, found: Any, held: bool | None, said: str) -> None:
    result = judge(proof, manner, found)
    assert (result.held, result.manner) == (held, manner)
    assert said in result.said


LOOKS = Operation("stream.read", "looks", "GET", "/streams/{place}/rows")
CHANGES = Operation("stream.append", "changes-data", "POST", "/streams/{place}")
MANAGES = Operation("stream.grant", "manages", "PUT", "/streams/{place}/rights")


@pytest.mark.parametrize("operation", [None, LOOKS, CHANGES, MANAGES])
@pytest.mark.parametrize("test", [None, False, True])
@pytest.mark.parametrize("work", ["", "https://away.example/w"])
@pytest.mark.parametrize("decisions", ["", "https://away.example/d"])
def test_no_proof_can_harm(operation: Operation | None, test: bool | None, work: str, decisions: str) -> None:
    place = None if test is None else thing("place", "p", path="root/a", test=test)
    found = manner_of(CAN, operation, place, dataclasses.replace(PROFILE, work=work, decisions=decisions))
    safe = operation is LOOKS or (operation is CHANGES and test is True)
    assert found is (TRIED if safe and work else ASKED if decisions else Manner.NEITHER)


def test_what_is_read_names_is_followed_by_place_or_by_address() -> None:
    items = [{"next": "root/b"}, {"next": ["root/b", "root/c", 7, ""]}, {"other": "x"}, "text"]
    assert links_of(items, "next") == ["root/b", "root/c"]
    profile = dataclasses.replace(PROFILE, work="https://a.example/w/", operations={o.permission: o for o in (CHANGES, LOOKS)})
    for link, target in [
        ("root/b", (LOOKS, "root/b")),
        ("https://a.example/w/streams/root/b/rows", (LOOKS, "root/b")),
        ("/streams/root/b/rows", (LOOKS, "root/b")),
        ("/streams/root/b", None),  # that one changes data
        ("/streams/../rows", None),
        ("https://else.example/streams/root/b/rows", None),
    ]:
        assert target_of(profile, "stream.read", link) == target, link
    assert target_of(profile, "no.such", "root/b") is None


def result(proof: ProofWant, held: bool | None, manner: Manner = TRIED) -> Result:
    return judge(proof, manner, Trial(None if held is None else held is proof.allowed, "said"))


def test_the_worst_of_several_credentials_counts_and_is_named() -> None:
    for held, worst in (((True, None), None), ((None, False), False), ((True, True), True)):
        found = worst_of((f"key-{n}", result(CAN, h)) for n, h in enumerate(held))
        assert [(r.held, r.said.startswith("with key-")) for r in found] == [(worst, True)]
    assert [r.said for r in worst_of([("key-1", result(CAN, True))])] == ["said"]


def test_a_control_is_of_the_same_place_and_service_and_held_by_trying() -> None:
    refused = result(ProofWant(False, "stream.append", "root/a"), True)
    operations = {o.permission: o._replace(service="store") for o in (LOOKS, CHANGES)}
    good = result(CAN, True)
    others = [
        result(CAN, False),
        result(CAN, None),
        result(CANNOT, True),
        result(dataclasses.replace(CAN, at="root/b"), True),
        result(dataclasses.replace(CAN, person="mara"), True),
        result(CAN, True, ASKED),
    ]
    assert control_for(refused, [*others, good], operations) is good
    assert control_for(refused, others, operations) is None
    assert control_for(refused, [good], {**operations, "stream.read": LOOKS._replace(service="else")}) is None
    assert control_for(refused, [good], {}) is good


@pytest.mark.parametrize("operation", [LOOKS, CHANGES])
def test_a_call_is_written_as_it_is_run(operation: Operation) -> None:
    call = call_of("wind", "WIND_HEADER_FILE", "https://a.example/w/", operation, "root/a mast")
    assert call.url == f"https://a.example/w{operation.template.replace('{place}', 'root/a%20mast')}"
    assert bool(call.body) is (operation is CHANGES)
    words = shlex.split(written(call, "shell"))
    assert words[:5] == ["sigillum", "with", "wind", "--", "sh"]
    inner = shlex.split(words[-1])
    assert (inner[-1], f"@${call.header}" in inner, call.body in inner or not call.body) == (call.url, True, True)
    program = ast.parse(written(call, "python"))
    texts = {n.value for n in ast.walk(program) if isinstance(n, ast.Constant)}
    assert {call.url, call.method, call.header} <= texts
    assert (call.body.encode() in texts) is bool(call.body)
    with pytest.raises(KeyError):
        written(call, "tongues")


CLIENT = Identity("client", "wind", "Wind", audience="tenant")
HERE = Position("wind.yaml", 3, 1)


def trust(name: str = "valley", *wrong: Wrong, **more: str) -> TrustWant:
    return TrustWant(Trust(name, "https://v.example", "away", subject="s"), None, wrong, HERE, **more)


def sign_in(**more: Any) -> ProofWant:
    return ProofWant(False, "sign-in", "", sign_in=SignInTry(**more))


MISTAKES: list[tuple[Charter, str]] = [
    (charter(), ""),
    (charter(proofs=(CAN,)), ""),
    (dataclasses.replace(charter(), tenant="awai"), "tenant-unknown"),
    (dataclasses.replace(charter(), owner=""), "owner-missing"),
    (charter(grants=(GRANT._replace(tenant="nowhere"),)), "tenant-unknown"),
    (charter(services=(ServiceWant("store", "root/a", tenant="nowhere"),)), "tenant-unknown"),
    (charter((GrantWant("writer", "root/a", tenant="other"),), (), identity=CLIENT), "usable-in"),
    (charter(proofs=(dataclasses.replace(CAN, person="mara"),)), "client-only"),
    (charter(proofs=(dataclasses.replace(CAN, credential="mian"),)), "proof-credential"),
    (charter(proofs=(dataclasses.replace(CAN, during="writer"),)), "proof-window"),
    (charter(sign_ins=(sign_in(),), identity=CLIENT, credentials=()), "sign-in-account"),
    (charter(sign_ins=(sign_in(trust="vale", subject="s"),), trusts=(trust(),)), "proof-trust"),
    (charter(sign_ins=(sign_in(subject="s", wrong=(Wrong("account", "not a number", "write digits"),)),)), "trust-subject"),
    (charter(trusts=(trust(), trust())), "trust-twice"),
    (charter(trusts=(trust(tenant="nowhere"),)), "tenant-unknown"),
    (charter(trusts=(trust("valley", Wrong("account", "not a number", "write digits")),)), "subject"),
    (charter(credentials=(KEY._replace(keep_in="store:nowhere/x"),)), "tenant-unknown"),
    (charter(credentials=(KEY._replace(keep_in="store:other/x"), TOKEN._replace(keep_in="store:other/x"))), "keep-in-twice"),
    (charter(credentials=(KEY._replace(lasts_seconds=500 * 86_400),)), "life-house"),
    (charter(credentials=(KEY._replace(consumers=("pump",)),)), ""),
    (charter(credentials=(KEY._replace(consumers=("monthly",)),)), "quiet-long"),
    (charter(credentials=(KEY._replace(consumers=("undescribed",), renew_before_seconds=8 * 86_400),)), "quiet-long"),
    (charter(credentials=(CredentialWant("s", "shared-secret", 86_400, 3600),)), "client-only"),
    (charter((), (CredentialWant("t", "api-token", 86_400, 3600),), identity=CLIENT), "not-client"),
    (
        charter((), (CredentialWant("s", "shared-secret", 86_400, 3600),), identity=CLIENT._replace(confidential=False)),
        "public-client",
    ),
]


@pytest.mark.parametrize(("wrong", "code"), MISTAKES, ids=[f"{n}-{code}" for n, (_, code) in enumerate(MISTAKES)])
def test_what_a_charter_says_that_cannot_be_is_told_by_its_code(wrong: Charter, code: str) -> None:
    house = HouseRules(
        consumers={"pump": Consumer("pump", 600, 0), "monthly": Consumer("monthly", 31 * 86_400, "restart")}, named=("owner",)
    )
    found = check(wrong, house, ["away", "other"])
    assert {m.code for m in found} == ({code} if code else set())
    assert all(m.what for m in found)
