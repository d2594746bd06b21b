"""The kit for drivers: ours pass it, and one that is broken on purpose in a point fails in that point."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import pytest

from conftest import Away, Sandbox
from sigillum import testing
from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.changes import End, Make
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Fact, Kind, Query
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.canonical import PUBLIC_MEMBERS
from sigillum.core.values.errors import SigillumError
from sigillum.core.values.secret import Secret
from sigillum.core.values.times import whole_second
from sigillum.keys.material import make_key
from sigillum.protocols.http import Http
from sigillum.reading.document import parse
from sigillum.reading.models import validate
from sigillum.tenants.by_hand.lines import Answer, Line
from sigillum.tenants.dialect.driver import DialectTenant
from sigillum.tenants.dialect.model import DialectFile
from sigillum.tenants.port import Address, Link, Reply, Result, Tenant
from sigillum.tenants.registry import connect
from tenants.test_dialect import HOSTILE, TASTES, text_of

PUBLIC = {n: v for n, v in make_key("ES256").items() if n in PUBLIC_MEMBERS}
LOOK = {
    "pierhead": "/v1/hands",
    "lock": "/api/users",
    "wharf": "/crew",
    "ferry": "/crew",
    "berth": "/services",
    "cellar": "/readers",
    "skerry": "/houses",
    "quay": "/yards",
}


class Described:
    """A small service, and the driver dialect."""

    driver: type[DialectTenant] = DialectTenant

    def __init__(self, name: str) -> None:
        make, self.admin, self.words = TASTES[name]
        self.name, self.service, self.said = name, make(), list[str]()
        self.places = (self.words["trial"],)
        self.dialect = validate(DialectFile, parse(text_of(name), "x.yaml"))

    @property
    def port(self) -> int:
        return urlsplit(self.service.address).port or 0

    def connect(self) -> Tenant:
        return self.through(self.port, 15)

    def through(self, port: int, seconds: float = 1) -> Tenant:
        address = self.service.address.replace(str(self.port), str(port))
        return self.driver(
            Address(self.name, address, admin=self.admin, driver="dialect"),
            Link(Secret(self.service.key), Path(), pause=lambda seconds, why: None),
            self.dialect,
            Http(origins=[address], log=self.said.append, timeout_seconds=seconds),
        )

    def changes(self) -> int:
        return int(self.service.changes)

    def fate(self, what: str) -> None:
        self.service.fates = [what]

    def hide(self, kind: Kind[Any]) -> None:
        self.service.hidden = LOOK[self.name]

    def account(self, name: str) -> Mapping[str, Any]:
        return {"name": name, "display": "Kit", "active": True, **({"area": "north"} if "area" in self.words else {})}

    def others(self, account: str) -> list[tuple[Kind[Any], Mapping[str, Any]]]:
        until = whole_second(datetime.now(UTC)).replace(hour=0, minute=0, second=0) + timedelta(days=3)
        kind = self.words["kind"].partition(",")[0]
        proof: dict[str, Any] = (
            {"password": Secret("a-password-4712")}
            if kind == "password"
            else {"public_key": PUBLIC}
            if kind == "key-pair"
            else {}
        )
        place = {"place": self.words["place"], "place_id": self.words.get("place_id", self.words["place"])}
        return [
            (
                CREDENTIAL,
                {
                    "principal": account,
                    "carrier": "account",
                    "type": kind,
                    "name": "pass",
                    "until": until,
                    "active": True,
                    **proof,
                },
            ),
            (
                GRANT,
                {
                    "principal": account,
                    "carrier": "account",
                    "role": "looker",
                    "role_id": "looker",
                    **place,
                    "where": (),
                    "reason": "x",
                },
            ),
        ]

    def secrets(self) -> list[str]:
        return [self.service.key, "a-password-4712"]


class Open:
    """A tenant of the sandbox, and the driver open."""

    def __init__(self, away: Away) -> None:
        self.away, self.said, self.lost = away, list[str](), 0
        self.places = ("brindlemoor/sensing-test",)

    @property
    def port(self) -> int:
        return urlsplit(self.away.address).port or 0

    def connect(self) -> Tenant:
        return self.through(self.port, 15)

    def through(self, port: int, seconds: float = 1) -> Tenant:
        return connect(
            Address(self.away.name, self.away.address.replace(str(self.port), str(port)), admin="ada.rusk"),
            Link(Secret(self.away.tokens["ada.rusk"]), Path(), seconds, log=self.said.append),
        )

    def changes(self) -> int:
        return sum(1 for line in self.said if line.split(" ")[0] in ("POST", "PATCH", "DELETE", "PUT") and "-> 2" in line)

    def fate(self, what: str) -> None:
        order = {"kind": "status", "status": 503} if what == "busy" else {"kind": what}
        self.away.sandbox.faults(*({**order, "path": self.away.name, "method": m, "count": 1} for m in ("POST",)))

    def hide(self, kind: Kind[Any]) -> None:
        self.away.sandbox.faults(
            {"kind": "status", "status": 403, "path": f"{self.away.name}/scim/v2/Users", "method": "GET", "count": 99}
        )

    def account(self, name: str) -> Mapping[str, Any]:
        return {"name": name, "display": "Kit", "active": True}

    def others(self, account: str) -> list[tuple[Kind[Any], Mapping[str, Any]]]:
        until = whole_second(datetime.now(UTC)) + timedelta(days=3)
        return [
            (
                CREDENTIAL,
                {
                    "principal": account,
                    "carrier": "account",
                    "type": "api-token",
                    "name": "pass",
                    "until": until,
                    "active": False,
                    "limits": (),
                },
            )
        ]

    def secrets(self) -> list[str]:
        return [self.away.tokens["ada.rusk"]]


class ByPeople:
    """A tenant without an interface, and the driver by-hand: a person who does what the work sheet says."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.said, self.lines = folder, list[str](), list[Line]()
        today = datetime.now(UTC).date()
        for name, columns in (
            ("accounts", "id,name,display,active"),
            ("credentials", "id,principal,name,kind,until,active"),
            ("grants", "id,principal,role,place"),
            ("places", "id,path,kind"),
            ("roles", "id,name,permissions"),
        ):
            (folder / "facts" / "depot").mkdir(parents=True, exist_ok=True)
            (folder / "facts" / "depot" / f"{name}.csv").write_text(f"# source: typed in\n# date: {today}\n{columns}\n")

    def connect(self) -> Tenant:
        return connect(
            Address("depot", "https://depot.example", admin="ines.vole", driver="by-hand"),
            Link(Secret("admin-token-12"), self.folder, log=self.said.append, confirm=self.confirm),
        )

    def confirm(self, line: Line) -> Answer:
        self.lines.append(line)
        self.said.append(repr(line))
        return Answer(
            "ines.vole",
            f"id-{len(self.lines)}" if line.wants_id else "",
            Secret("typed-secret-99") if line.wants_secret else None,
            yes=True,
            whose=line.whose,
        )

    def changes(self) -> int:
        return len(self.lines)

    def fate(self, what: str) -> None:
        raise testing.NotHereError("a person answers, or has not answered yet")

    def hide(self, kind: Kind[Any]) -> None:
        (self.folder / "facts" / "depot" / f"{kind.name}s.csv").unlink()

    def account(self, name: str) -> Mapping[str, Any]:
        return {"name": name, "display": "Kit", "active": True}

    def others(self, account: str) -> list[tuple[Kind[Any], Mapping[str, Any]]]:
        until = whole_second(datetime.now(UTC)) + timedelta(days=3)
        return [
            (
                CREDENTIAL,
                {
                    "principal": account,
                    "carrier": "account",
                    "type": "password",
                    "name": "pass",
                    "until": until,
                    "active": True,
                    "password": Secret("a-password-4712"),
                },
            ),
            (GRANT, {"principal": account, "carrier": "account", "role": "looker", "place": "yard", "where": ()}),
        ]

    def secrets(self) -> list[str]:
        return ["admin-token-12", "a-password-4712"]


@pytest.fixture(params=[*TASTES, "open", "by-hand"])
def party(request: pytest.FixtureRequest) -> Iterator[testing.Party]:
    if request.param == "by-hand":
        yield ByPeople(request.getfixturevalue("tmp_path"))
        return
    if request.param == "open":
        sandbox: Sandbox = request.getfixturevalue("sandbox")
        yield Open(request.getfixturevalue("away"))
        sandbox.faults()
        return
    made = Described(request.param)
    yield made
    made.service.stop()


@pytest.mark.parametrize("check", testing.CHECKS, ids=lambda check: str(check.__name__))
def test_a_driver_of_ours_conforms(party: testing.Party, check: Callable[[testing.Party], None]) -> None:
    testing.conforms(check, party)


def test_hostile_values_stay_values_with_every_driver(party: testing.Party) -> None:
    """Whatever an account is called: it is made just so and found again, or nothing is made; nobody else is touched."""
    tenant = party.connect()
    other = testing.made(party, tenant, "kit-0", "mark-0")
    for number, value in enumerate(HOSTILE):
        reply = tenant.make(Make(ACCOUNT, {**party.account(value), "display": value}), tenant.profile.marked(f"mark-{number}"))
        if reply.result is Result.DONE:
            assert reply.record is not None
            assert tenant.end(End(ACCOUNT, reply.record.id)).result is Result.DONE, value
        else:
            assert reply.result in (Result.REFUSED, Result.EXISTS), (value, reply)
        for act in (
            lambda v=value: testing.ask(tenant, ACCOUNT, "name", v),
            lambda v=value: testing.ask(tenant, CREDENTIAL, "principal", v),
            lambda v=value: tenant.end(End(ACCOUNT, v)),
        ):
            with suppress(SigillumError):
                answered = act()
                assert not isinstance(answered, Reply) or answered.result is not Result.DONE, value
    assert tenant.read(ACCOUNT, other.id) is not None


# --- broken on purpose: what is changed, and the check that has to notice ----------------------------------------------------
class Broken(DialectTenant):
    def facts(self, queries: Any) -> dict[Query[Any], Fact[Any]]:
        return {q: self.fact_of(q, f) for q, f in super().facts(queries).items()}

    def fact_of(self, query: Query[Any], fact: Fact[Any]) -> Fact[Any]:
        return fact


class TakesHiddenForAbsent(Broken):
    def fact_of(self, query: Query[Any], fact: Fact[Any]) -> Fact[Any]:
        return Fact() if fact.unknown else fact


class TakesAbsentForUnknown(Broken):
    def fact_of(self, query: Query[Any], fact: Fact[Any]) -> Fact[Any]:
        return fact if fact.records else Fact(unknown="who knows")


class ForgetsTheMark(Broken):
    def make(self, make: Any, mark: str) -> Reply:
        return super().make(make, "")


class MakesAgainByItself(Broken):
    def make(self, make: Any, mark: str) -> Reply:
        reply = super().make(make, mark)
        return super().make(make, mark) if reply.result is Result.LOST else reply


class TakesLostForRefused(Broken):
    def make(self, make: Any, mark: str) -> Reply:
        reply = super().make(make, mark)
        return reply._replace(result=Result.REFUSED) if reply.result is Result.LOST else reply


class TakesBusyForDone(Broken):
    def make(self, make: Any, mark: str) -> Reply:
        reply = super().make(make, mark)
        return reply._replace(result=Result.DONE) if reply.result is Result.BUSY else reply


class TakesTakenForDone(Broken):
    def make(self, make: Any, mark: str) -> Reply:
        reply = super().make(make, mark)
        return reply._replace(result=Result.DONE) if reply.result is Result.EXISTS else reply


class EndsByTwoRequests(Broken):
    def end(self, end: Any) -> Reply:
        if end.kind is ACCOUNT:
            from sigillum.core.kinds.changes import Change

            self.change(Change(ACCOUNT, str(end.id), {"active": False}))
        return super().end(end)


class ShowsWhatIsGone(Broken):
    def read(self, kind: Any, identity: str) -> Any:
        from sigillum.core.kinds.kind import Record

        return super().read(kind, identity) or Record(kind, identity, kind.type())


class SendsAnotherName(Broken):
    def make(self, make: Any, mark: str) -> Reply:
        return super().make(make._replace(part={**make.part, "display": "Other"}) if make.kind is ACCOUNT else make, mark)


class EndsTheFirst(Broken):
    def end(self, end: Any) -> Reply:
        everybody: Query[Any] = Query(ACCOUNT, "all")
        first = super().facts([everybody])[everybody].first
        return super().end(end._replace(id=first.id) if first is not None and end.kind is ACCOUNT else end)


class TellsTheToken(Broken):
    def make(self, make: Any, mark: str) -> Reply:
        return super().make(make, mark)._replace(detail=f"with {self._link.token.reveal()}")


@pytest.mark.parametrize(
    ("driver", "check"),
    [
        (TakesHiddenForAbsent, testing.check_hidden_is_unknown),
        (TakesAbsentForUnknown, testing.check_absent_is_known),
        (ShowsWhatIsGone, testing.check_absent_is_known),
        (ForgetsTheMark, testing.check_what_was_made_is_shown),
        (ForgetsTheMark, testing.check_a_lost_answer_is_found_again),
        (MakesAgainByItself, testing.check_a_lost_answer_is_found_again),
        (TakesLostForRefused, testing.check_what_never_arrived_is_made_again),
        (TakesBusyForDone, testing.check_busy_is_told),
        (TakesTakenForDone, testing.check_a_taken_name_is_told),
        (EndsByTwoRequests, testing.check_one_request_a_change),
        (ShowsWhatIsGone, testing.check_what_is_gone_is_told),
        (SendsAnotherName, testing.check_what_was_made_is_shown),
        (EndsTheFirst, testing.check_values_stay_values),
        (TellsTheToken, testing.check_secrets_stand_nowhere),
    ],
)
def test_the_kit_is_not_tame(driver: type[DialectTenant], check: Callable[[testing.Party], None]) -> None:
    made = Described("pierhead")
    made.driver = driver
    try:
        with pytest.raises(AssertionError):
            check(made)
    finally:
        made.service.stop()


@pytest.mark.parametrize("check", testing.CHECKS, ids=lambda check: str(check.__name__))
def test_the_example_of_the_documentation_conforms(check: Callable[[testing.Party], None]) -> None:
    text = (Path(__file__).parents[2] / "docs" / "drivers.md").read_text()
    blocks = [b.partition("```")[0] for b in text.split("```python\n")[1:]]
    names: dict[str, Any] = {"__name__": "example"}
    for block in blocks:
        exec(compile(block, "docs/drivers.md", "exec"), names)
    names["test_a_shelf_conforms"](check)
