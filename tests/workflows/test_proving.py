"""Proofs in process: no proof can harm, and what a tenant gives is used only as far as it has to be."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path
from typing import Any, cast

import pytest

from core.fake import thing
from sigillum.core.values.errors import RefusedError
from sigillum.tenants.port import Proof, Tenant
from sigillum.workflows.proving.causes import explained
from sigillum.workflows.proving.prove import prove
from workflows.memory import CHARTER, Memory, house

JON = "jon@brindlemoor.example"
PEOPLE = """\
delegation:
  domain: brindlemoor.example
  people: [jon@brindlemoor.example]
  scopes:
    - {scope: stream.read, because: looks}
    - {scope: stream.append, because: writes}
"""
FOR_PEOPLE = """\
  - {can: stream.read, on_behalf_of: jon@brindlemoor.example, at: root/a}
  - {can: stream.append, on_behalf_of: jon@brindlemoor.example, at: root/a/one}
"""


def test_a_proof_of_acting_for_people_makes_no_call_that_changes_something(tmp_path: Path) -> None:
    """Not even at a test object: it would be changed in the name of somebody who was not asked."""
    our = house(tmp_path, Memory())
    charter = our.charter(CHARTER.replace("grants:", PEOPLE + "grants:") + FOR_PEOPLE)
    our.away.things["account"].append(thing("account", JON, name=JON))
    our.away.grant("reader", "root/a", JON)
    our.enact(charter)
    our.away.calls.clear()
    our.away.signed_in.clear()
    with our.office() as office:
        report = prove(office, charter)
    assert [(p.person, p.scope) for p in our.away.signed_in if p.person] == [
        (JON, "stream.read"),
        (JON, "stream.append"),
    ]
    assert {p for who, p, _ in our.away.calls if "@" in who} == {"stream.read"}
    assert [r.said for r in report.results if r.proof.person] == [
        "allowed",
        "a token was given; a call would change something, and was not made",
    ]


TRUSTS = """\
trusts:
  - {name: valley, issuer: 'https://valley.example', audience: away, keys: discovery, subject: '4712'}
"""
BY_TRUST = """\
  - {can: sign-in, trust: valley, outside: '4712'}
  - {cannot: sign-in, trust: valley, outside: '4713'}
"""


def test_a_trust_that_is_gone_or_says_something_else_lets_nobody_in(tmp_path: Path) -> None:
    """It is read where it exists, and not in the charter, which says what is wished."""
    our = house(tmp_path, Memory())
    charter = our.charter(CHARTER.replace("grants:", TRUSTS + "grants:") + BY_TRUST)
    our.enact(charter)

    def held() -> list[bool | None]:
        with our.office() as office:
            return [r.held for r in prove(office, charter).results if r.proof.sign_in is not None]

    [trust] = our.away.things["trust"]
    assert held() == [True, True]
    our.away.put(trust, subject="4713")
    assert held() == [False, False]
    our.away.put(trust, subject="4712", audience="elsewhere")
    our.away.things["trust"] = []
    assert held() == [False, True]
    our.away.blind = frozenset({"trust"})
    assert held() == [None, None]


@pytest.mark.parametrize(
    ("who", "credential", "told"),
    [
        ({"active": False}, {}, "; the tenant shows gauge as off"),
        (None, {}, "; the tenant shows no such account any more"),
        ({}, None, "; the tenant shows no such credential any more"),
        ({}, {"until": -60}, "; it expired at "),
        ({}, {"until": 60}, "; the tenant shows the account and the credential as valid"),
        ({}, {"start": 60}, "; it is valid only from "),
        ({}, {"start": -60}, "; the tenant shows the account and the credential as valid"),
        ({}, {"active": False}, "; the tenant shows it as off"),
        ({}, {"until": -60, "active": False}, "; it expired at "),
        ("hidden", {}, ""),
        ({}, "hidden", ""),
    ],
)
def test_a_refused_sign_in_says_what_the_tenant_shows_of_it(who: Any, credential: Any, told: str) -> None:
    """What expired is said before what is off; of what may not be looked at, nothing is."""
    hidden = frozenset(k for k, given in (("account", who), ("credential", credential)) if given == "hidden")
    tenant = Memory(blind=hidden)
    for kind, identity, given in (("account", "a1", who), ("credential", "c1", credential)):
        tenant.things[kind] = []
        if isinstance(given, dict):
            fields: dict[str, Any] = {"name": "gauge" if kind == "account" else "key", "active": True, **given}
            for edge in fields.keys() & {"until", "start"}:
                fields[edge] = tenant.now + timedelta(seconds=fields[edge])
            tenant.things[kind].append(thing(kind, identity, **fields))
    with pytest.raises(RefusedError) as refused, explained(cast("Tenant", tenant), Proof("a1", credential="c1"), "gauge"):
        raise RefusedError("no")
    assert refused.value.what.partition("no")[2].startswith(told)
    assert bool(refused.value.what.partition("no")[2]) is bool(told)
