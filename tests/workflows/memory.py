"""A tenant in memory that signs in, decides and does, behind the real port; and a real workspace with its ledger before it."""

from __future__ import annotations

import dataclasses
import itertools
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from core.fake import PROFILE, usual
from sigillum.core.charter.charter import Charter
from sigillum.core.deciding.gathering import world_of
from sigillum.core.deciding.proofs import Trial
from sigillum.core.deciding.values import Question
from sigillum.core.kinds.access import Grant
from sigillum.core.kinds.changes import Change, Doing, End, Entry, Facts, Make, after
from sigillum.core.kinds.kind import Fact, Kind, Query, Record, answers
from sigillum.core.kinds.profile import Operation, Profile
from sigillum.core.kinds.registry import KINDS
from sigillum.core.values.canonical import public_half, thumbprint
from sigillum.core.values.errors import RefusedError
from sigillum.core.values.secret import Secret
from sigillum.core.values.times import ClockReading
from sigillum.keeping.port import Vault
from sigillum.tenants import registry
from sigillum.tenants.port import Address, Proof, Reply, Result, SignedIn
from sigillum.tenants.registry import Driver
from sigillum.workflows.desk.office import Office
from sigillum.workflows.desk.settings import Settings
from sigillum.workflows.enacting.enact import EnactChoices, Enacted, enact
from sigillum.workflows.writing.begin import init

ADDRESS = Address("away", "memory:away", "test", "ada.rusk", "memory", follow_its_clock=True)
OWNER = "mara.teel@brindlemoor.example"
USUAL = dataclasses.replace(PROFILE, last_used="second", token_seconds=600, powers=None)
CHARTER = """\
charter: gauge
tenant: away
purpose: Reads the gauges
owner: mara.teel@brindlemoor.example
identity: {kind: service-account, name: gauge}
grants:
  - {role: writer, at: root/a, because: writes}
credentials:
  - {name: key, kind: key-pair, lasts: 90d, consumers: [mast]}
proofs:
  - {can: stream.read, at: root/a}
"""


@dataclass
class Memory:
    """One tenant: what stands in it, the tokens that it gave, and every request and call that reached it."""

    profile: Profile = USUAL
    things: dict[str, list[Record[Any]]] = field(default_factory=usual)
    ahead: timedelta = timedelta(0)  # of this machine's clock
    refusing: Callable[[Doing], bool] = lambda doing: False
    letting_in: Callable[[Proof], bool] = lambda proof: True
    tokens: dict[str, SignedIn] = field(default_factory=dict)
    blind: frozenset[str] = frozenset()  # kinds that nobody may look at
    deaf: bool = False  # it gives tokens, and takes none
    stamped: bool = True  # it shows versions, and times of changes
    requests: list[Doing] = field(default_factory=list)
    calls: list[tuple[str, str, str]] = field(default_factory=list)  # as whom, permission, place
    signed_in: list[Proof] = field(default_factory=list)
    numbers: Iterator[int] = field(default_factory=lambda: itertools.count(1))
    address: Address = ADDRESS
    known_seconds: float = 0.0
    token_endpoint: str = "https://away.example/token"

    @property
    def now(self) -> datetime:
        return datetime.now(UTC) + self.ahead

    @property
    def clock(self) -> ClockReading | None:
        seconds = self.ahead.total_seconds()
        return ClockReading(seconds, seconds)

    def say(self, text: str) -> None: ...

    # --- facts ----------------------------------------------------------------------------------------------------------
    def facts(self, queries: Iterable[Query[Any]]) -> dict[Query[Any], Fact[Any]]:
        return {q: self._fact(q) for q in queries}

    def _fact(self, query: Query[Any]) -> Fact[Any]:
        if query.kind.name in self.blind:
            return Fact(unknown="not for you")
        return Fact(tuple(r for r in self.things[query.kind.name] if answers(query, r)))

    def read(self, kind: Kind[Any], identity: str) -> Record[Any] | None:
        return next((r for r in self.things[kind.name] if r.id == identity), None)

    def put(self, record: Record[Any], **fields: Any) -> None:
        """Another hand changes a thing."""
        self.things[record.kind.name] = [r.with_(**fields) if r.id == record.id else r for r in self.things[record.kind.name]]

    # --- changes --------------------------------------------------------------------------------------------------------
    def _do(self, doing: Doing, identity: str, mark: str = "") -> Reply:
        self.requests.append(doing)
        if self.refusing(doing):
            return Reply(Result.REFUSED, detail="no", error=RefusedError("no", where="away", mend="another way"))
        there, old = self.things[doing.kind.name], self.read(doing.kind, identity)
        if old is None and not isinstance(doing, Make):
            return Reply(Result.MISSING)
        if isinstance(doing, Make) and any(r.mark == mark for r in there):
            return Reply(Result.EXISTS)
        new, number = after(old, doing, identity, mark), str(next(self.numbers))
        if isinstance(doing, Make) and new is not None:  # what the tenant chooses itself
            new = new.with_(**{n: f"{n}-{number}" for n in doing.kind.assigned if not new.value(n)})
        if new is not None and self.stamped:
            new = new._replace(version=number, modified=number)
        self.things[doing.kind.name] = [*(r for r in there if r.id != identity), *([new] if new is not None else [])]
        return Reply(Result.DONE, new)

    def make(self, make: Make, mark: str) -> Reply:
        return self._do(make, f"{make.kind.name[0]}{next(self.numbers)}", mark)

    def change(self, change: Change) -> Reply:
        return self._do(change, str(change.id))

    def enter(self, entry: Entry) -> Reply:
        return self._do(entry, str(entry.id))

    def end(self, end: End) -> Reply:
        return self._do(end, str(end.id))

    def fetch_secret(self, identity: str) -> Reply:
        return Reply(Result.DONE, secret=Secret(f"secret of {identity}"))

    # --- sign-ins -------------------------------------------------------------------------------------------------------
    def _live(self, record: Record[Any]) -> bool:
        body = record.body
        return bool(body.active) and (body.until is None or self.now < body.until)

    def sign_in(self, proof: Proof) -> SignedIn:
        self.signed_in.append(proof)
        if proof.key is None:
            raise RefusedError("only keys are taken here", where="away")
        mark = thumbprint(public_half(proof.key))
        used = next((r for r in self.things["credential"] if r.body.thumbprint == mark and self._live(r)), None)
        owner = next((r for r in self.things["account"] if used is not None and r.id == used.body.principal), None)
        if used is None or owner is None or not owner.body.active or not self.letting_in(proof):
            raise RefusedError("not let in", where="away")
        who = proof.person or owner.id
        if proof.person and not self._delegated(owner.id, proof):
            raise RefusedError("not delegated", where="away")
        self.put(used, used_at=self.now.replace(microsecond=0))
        token = f"token-{next(self.numbers)}"
        self.tokens[token] = SignedIn(Secret(token), who, who, credential=used.id, lives_seconds=self.profile.token_seconds)
        return self.tokens[token]

    def _delegated(self, holder: str, proof: Proof) -> bool:
        return any(
            r.body.principal == holder and proof.scope in r.body.scopes and proof.person in r.body.people
            for r in self.things["delegation"]
        )

    def taken(self, signed_in: SignedIn) -> bool | None:
        known = self.tokens.get(signed_in.token.reveal())
        if known is None or self.deaf:
            return False
        used = next((r for r in self.things["credential"] if r.id == known.credential), None)
        return used is not None and self._live(used)

    def as_administrator(self, principal: str) -> SignedIn:
        return SignedIn(Secret("admin"), principal, "the administrator")

    def token_for(self, proof: Proof, issuer: str) -> Secret:
        raise RefusedError("there is no other tenant", where="away")

    def _decided(self, principal: str, permission: str, place: str, credential: str = "") -> Trial:
        facts = Facts()
        for records in self.things.values():
            facts.add(records)
        decision = world_of(facts, self.profile, felt=False).decide(
            Question(principal, permission, place, self.now, credential)
        )
        return Trial(decision.allowed, "allowed" if decision.allowed else "refused")

    def grant(self, role: str, place: str, principal: str) -> None:
        """Another hand grants something."""
        self.things["grant"].append(
            Record(KINDS["grant"], f"g{next(self.numbers)}", Grant(principal, role, place, role_id=f"r-{role}"), "1")
        )

    def attempt(self, signed_in: SignedIn, operation: Operation, place: str) -> Trial:
        self.calls.append((signed_in.principal, operation.permission, place))
        if self.taken(signed_in) is False:
            return Trial(False, "401", unauthenticated=True)
        return self._decided(signed_in.principal, operation.permission, place, signed_in.credential)

    def ask(self, signed_in: SignedIn, permission: str, place: str, person: str = "") -> Trial:
        return self._decided(signed_in.principal, permission, place)

    def ask_sign_in(self, account: str, context: Mapping[str, Any]) -> Trial:
        return Trial(None)

    def ask_all(self, questions: Sequence[Question]) -> list[Trial]:
        return [self._decided(q.principal, q.permission, q.place, q.credential) for q in questions]

    def store(self, path: str) -> Vault | None:
        return None


@dataclass(eq=False)
class Unhurried(Settings):
    """Nobody waits: the tenant's clock goes on instead."""

    away: Memory = field(default_factory=Memory)

    def pause(self, seconds: float) -> None:
        self.away.ahead += timedelta(seconds=seconds)
        self.go_on()


@dataclass
class House:
    """A workspace in a folder; each use of it is opened anew, as a command does."""

    folder: Path
    away: Memory
    boundary: Callable[[str], None] = lambda name: None

    def office(self) -> Office:
        return Office.open(Unhurried(self.folder, boundary=self.boundary, away=self.away))

    def charter(self, text: str = CHARTER) -> Charter:
        name = text.split()[1]
        (self.folder / "charters" / f"{name}.yaml").write_text(text)
        with self.office() as office:
            return office.charters([name])[0]

    def enact(self, charter: Charter | None = None, choices: EnactChoices = EnactChoices()) -> Enacted:  # noqa: B008 - frozen
        with self.office() as office:
            done = enact(office, charter if charter is not None else self.charter(), choices)
        assert done.error is None, done.error
        return done


def house(folder: Path, away: Memory) -> House:
    """Make the workspace, and let it know the tenant."""
    init(folder, OWNER)
    registry.DRIVERS["memory"] = Driver(lambda address, link: away, token=False, origin=False)
    path = folder / "sigillum.yaml"
    entry = "tenants:\n  away: {address: 'memory:away', stage: test, admin: {name: ada.rusk}, driver: memory, clock: tenant}\n"
    consumers = "consumers:\n  mast: {used_every: 1m, picks_up: 1m}\n"
    path.write_text(path.read_text().replace("tenants: {}\n", consumers + entry))
    return House(folder, away)
