"""The registry: a facet can be plugged in and out, of which `test_house` holds that nobody outside knows any."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterator
from typing import Any

import pytest

from core.fake import Fake
from core.test_compare import charter, enacted
from core.test_compare import team as team_charter
from sigillum.core.charter.charter import Charter, ProofWant, RoleWant, ServiceWant
from sigillum.core.charter.rules import HouseRules
from sigillum.core.comparing.hands import Hand, assign
from sigillum.core.facets.registry import LINES, Line, check, facets_of, in_order, words
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.registry import KINDS
from sigillum.core.records.letters import document, read
from sigillum.core.records.requests import doing_of, numbered, request_of
from sigillum.core.records.steps import Ask
from sigillum.tenants.scim.codec import Wire
from sigillum.tenants.scim.codecs import CODECS


@pytest.fixture
def toy() -> Iterator[None]:
    LINES.append(Line("toy", lambda c: "toy" in c.more, "core.toy"))
    yield
    LINES.pop()


def with_toy(name: str) -> Charter:
    return dataclasses.replace(charter(), more={"toy": name})


def test_plug_in(toy: None) -> None:
    assert [m.code for m in check(with_toy(""), HouseRules(), ["away"])] == ["toy-empty"]
    fake = Fake()
    outline = fake.compare(with_toy("bear"))
    step = next(s for s in outline.steps if s.facet == "toy")
    assert [s.facet for s in outline.steps].index("account") < outline.steps.index(step)
    asked = next(
        s
        for s in assign(outline, {"away": [Hand("ada", frozenset({"accounts", "grants", "credentials"}))]}).steps
        if s.facet == "toy"
    )
    assert isinstance(asked.action, Ask)
    assert asked.doing is not None
    sent = numbered(request_of(asked, asked.doing, "https://t.example", "wind"), 1, "2099-01-01T00:00:00Z")
    (request,) = read(document([sent]), "file")
    assert doing_of(request) == asked.doing
    fake.enact(with_toy("bear"))
    assert "bear" in [t.value("name") for t in fake.things["team"]]
    assert words(next(m for m in fake.history().generations if m.facet == "toy")) == "the toy bear"
    assert fake.compare(with_toy("bear")).changes == ()  # what --strict asks for
    fake.enact(charter())  # the section is gone, and what was begun once still concerns it
    assert "bear" not in [t.value("name") for t in fake.things["team"]]


PLAIN: list[Any] = [
    charter(),
    charter(roles=(RoleWant("looker", "Looks", ("stream.read",)),), services=(ServiceWant("store", "root/a"),)),
    charter(proofs=(ProofWant(True, "stream.read", "root/a"),)),
    team_charter(reach=("root/a",)),
    charter((), ()),
    charter(credentials=()),
]
# of the facets that always look: when a charter asks them for nothing
SILENT: dict[str, Callable[[Charter], object]] = {
    "membership": lambda c: c.grants and not c.member_of and not c.members,
    "grant": lambda c: not c.grants and not c.credentials,
    "credential": lambda c: not c.credentials,
}


@pytest.mark.parametrize("name", [line.name for line in LINES if line.name != "account"])  # every charter has an identity
def test_plug_out(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Charters that do not ask for a facet give the same outlines without it, to the byte."""
    line = next(li for li in LINES if li.name == name)
    wanted = [c for c in PLAIN if (SILENT[name](c) if name in SILENT else not line.asked(c))]
    assert wanted
    whole = [repr(Fake().compare(c)) for c in wanted]
    monkeypatch.setattr("sigillum.core.facets.registry.LINES", [li for li in LINES if li.name != name])
    assert [repr(Fake().compare(c)) for c in wanted] == whole


def test_facets_come_after_those_that_give_what_they_take() -> None:
    names = [f.name for f in facets_of(charter(), [line.name for line in LINES])]
    assert sorted(names) == sorted(line.name for line in LINES)
    for first, then in (
        ("account", "membership"),
        ("role", "grant"),
        ("service", "grant"),
        ("client", "permission"),
        ("role", "credential"),
    ):
        assert names.index(first) < names.index(then)
    one = facets_of(charter())[0]
    with pytest.raises(ValueError, match="circle"):
        in_order(
            [
                dataclasses.replace(one, name=n, gives=frozenset((a,)), takes=frozenset((b,)))
                for n, a, b in (("x", int, str), ("y", str, int))
            ]
        )


def test_every_kind_has_its_codec_and_every_finder_its_filter() -> None:
    assert CODECS.keys() == KINDS.keys()
    for name, codec in CODECS.items():
        assert codec.kind is KINDS[name]
        record = codec.record({"id": "x", "meta": {"version": "1"}})
        assert (record.id, record.version, type(record.body)) == ("x", "1", codec.kind.type)
        assert set(codec.sent) <= {*codec.kind.fields, *codec.kind.write_only, *codec.kind.shown_as}
        for field in codec.kind.finders | {"id", "mark"}:
            assert isinstance(codec.filter(Query(codec.kind, field, "v")), str)
        everything = Wire("", {}, frozenset([codec.extension] if codec.extension else []))
        assert codec.carried(everything) == frozenset(codec.kind.fields)


def test_enacting_twice_is_the_same_as_once() -> None:
    fake = Fake()
    enacted(fake, charter())
    before = len(fake.requests)
    assert enacted(fake, charter()) == []
    assert len(fake.requests) == before
