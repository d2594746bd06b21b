"""A tenant in memory behind the port, a ledger in memory, and the real executor between them."""

from __future__ import annotations

import base64
import dataclasses
import itertools
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any, cast

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import HouseRules
from sigillum.core.comparing.compare import Comparison, compare, proofs_digest, tenants_of
from sigillum.core.deciding.world import World, again
from sigillum.core.facets.seen import Choices, Expected
from sigillum.core.kinds.access import Scope
from sigillum.core.kinds.changes import Change, Doing, End, Entry, Make, after
from sigillum.core.kinds.identities import CLIENT
from sigillum.core.kinds.kind import Fact, Kind, Query, Record, answers
from sigillum.core.kinds.profile import Operation, Profile
from sigillum.core.kinds.registry import KINDS
from sigillum.core.kinds.snapshot import MOST_ROUNDS, Snapshot
from sigillum.core.records import chain, history
from sigillum.core.records.chain import Head
from sigillum.core.records.folding import fold
from sigillum.core.records.history import History
from sigillum.core.records.steps import Outline, Prove, Step
from sigillum.core.values.canonical import external_id, thumbprint
from sigillum.core.values.errors import RefusedError
from sigillum.core.values.marks import Mark
from sigillum.core.values.secret import Secret
from sigillum.core.values.worlds import Observed
from sigillum.ledger.port import Fresh
from sigillum.tenants.port import Reply, Result
from sigillum.workflows.enacting.carrying.journal import LedgerJournal
from sigillum.workflows.enacting.carrying.ports import AgainError, Patience, Ports
from sigillum.workflows.enacting.carrying.run import Became, Carrying, StepResult

NOW = datetime(2027, 3, 1, 12, 0, tzinfo=UTC)
ROLES = {
    "reader": (("stream.read", "looks"),),
    "writer": (("stream.append", "changes-data"), ("stream.read", "looks")),
    "keeper": (("stream.delete", "changes-data"), ("stream.append", "changes-data"), ("stream.read", "looks")),
}
TEAMS = ("crew", "ring")
PLACES = ("root", "root/a", "root/a/one", "root/b")
CARRIES = {name: frozenset(kind.fields) for name, kind in KINDS.items()}
PROFILE = Profile(
    name="away",
    issuer="https://away.example",
    decisions="https://away.example/d",
    work="https://away.example/w",
    external_id_unique=True,
    born_inactive=True,
    secret_delivery="sealed",
    keys_per_principal=4,
    arrival_seconds=0,
    credential_seconds=180 * 86400,
    carries=CARRIES,
    powers=frozenset({"look", "accounts", "teams", "places", "roles", "grants", "credentials"}),
    operations={
        p: Operation(p, c, "POST", "/{place}", "store" if p == "stream.delete" else "") for r in ROLES.values() for p, c in r
    },
)
SCOPES = tuple(
    Scope(n, "", "looks", a, k, w)
    for n, a, k, w in (
        ("mail.send", ("on-behalf", "alone"), "box", False),
        ("mail.read", ("alone",), "", False),
        ("me.read", ("on-behalf",), "", True),
    )
)


def thing(kind: str, identity: str, version: str = "", mark: str = "", progress: str = "", **fields: Any) -> Record[Any]:
    """A resource as a tenant shows it."""
    return Record(KINDS[kind], identity, KINDS[kind].type(**fields), version, mark, progress)


def usual() -> dict[str, list[Record[Any]]]:
    """What stands in a tenant at the beginning."""
    return {
        "role": [thing("role", f"r-{n}", name=n, permissions=p) for n, p in ROLES.items()],
        "place": [
            thing("place", f"p-{p}", path=p, test=p.endswith("one"), type="box" if p.endswith("one") else "") for p in PLACES
        ],
        "team": [thing("team", f"t-{n}", name=n) for n in TEAMS],
        "api": [thing("api", "a-mail", name="mail", scopes=SCOPES)],
        "rule": [
            thing("rule", f"s-{n}", name=n, everyone=w, targets=t, demands=("second-factor",), narrowable=n != "fixed")
            for n, w, t in (("default", True, ()), ("people", False, ("t-crew",)), ("fixed", True, ()))
        ],
        "licence": [
            thing("licence", f"l-{n}", name=n, type=k, total=1, mailbox=n == "seat")
            for n, k in (("seat", "per-user"), ("space", "capacity"))
        ],
        "account": [],
        "grant": [],
        "credential": [],
        "client": [],
        "principal": [],
        "consent": [],
        "trust": [],
        "delegation": [],
        "local-account": [],
        "workload": [],
        "machine-group": [],
        "machine": [],
    }


class Chain:
    """The ledger's port in memory."""

    stream, writable = "ws", True

    def __init__(self) -> None:
        self.kept: list[chain.LedgerEntry] = []

    def head(self) -> Head:
        return Head("ws", len(self.kept), "")

    def append(self, entries: Sequence[Fresh], expected_head: Head | None = None) -> Head:
        for fresh in entries:
            self.kept.append(
                chain.LedgerEntry("ws", len(self.kept) + 1, "", "", "", "", fresh.kind, fresh.charter, dict(fresh.body))
            )
        return self.head()

    def entries(self, charter: str = "", newest: int = 0, kind: str = "") -> Iterator[chain.LedgerEntry]:
        yield from self.kept


class There:
    def __init__(self, there: bool) -> None:
        self.exists = lambda: there


@dataclass
class Kept:
    """The keeping port in memory: what is held, by its thumbprint."""

    held: dict[tuple[str, int], str]
    ledger: Chain
    told: list[str]

    def path(self, credential: str, generation: int) -> Any:
        return There((credential, generation) in self.held)

    def keep_key(self, credential: str, generation: int, algorithm: str, where: str) -> dict[str, Any]:
        key = {"kty": "OKP", "crv": "Ed25519", "x": f"{credential}{generation}"}
        self.held[credential, generation] = thumbprint(key)
        self._tell("key", credential, generation)
        return key

    def keep_secret(
        self, credential: str, generation: int, secret: Secret, about: Mapping[str, Any], where: str = "file"
    ) -> None:
        self.held[credential, generation] = "secret"
        self._tell("secret", credential, generation, about)

    def keep_password(
        self, credential: str, generation: int, chosen: Secret | None, about: Mapping[str, Any], where: str
    ) -> None:
        self.held[credential, generation] = "secret"
        self._tell("chosen password" if chosen is not None else "password", credential, generation, about)

    def certify(self, credential: str, generation: int, subject: str, start: datetime, until: datetime, der: str) -> str:
        self._tell(f"certificate for {subject}", credential, generation)
        return der or base64.b64encode(f"certificate of {credential} {generation}".encode()).decode()

    def complete(self, credential: str, generation: int, about: Mapping[str, Any]) -> None:
        self._tell("completed", credential, generation, about)

    def _tell(self, what: str, credential: str, generation: int, about: Mapping[str, Any] | None = None) -> None:
        """What was kept, and after which entry of the ledger: what is kept late is kept too late."""
        self.told.append(f"{what} {credential} #{generation} {dict(about or {})} after {len(self.ledger.kept)} entries")

    def secret(self, credential: str, generation: int) -> Secret:
        assert self.held[credential, generation] == "secret"
        return Secret("kept")


@dataclass
class Away:
    """One tenant behind the port; it looks into the ledger when a request arrives: the intent has to be there."""

    fake: Fake
    name: str
    clock = None
    token_endpoint = ""

    @property
    def address(self) -> Any:
        return dataclasses.make_dataclass("Address", ["name"])(self.name)

    @property
    def profile(self) -> Profile:
        return self.fake.profile

    @property
    def things(self) -> dict[str, list[Record[Any]]]:
        return self.fake.at(self.name)

    def facts(self, queries: Iterable[Query[Any]]) -> dict[Query[Any], Fact[Any]]:
        return {q: self.fake.answer(q, self.name) for q in queries}

    def read(self, kind: Kind[Any], identity: str) -> Record[Any] | None:
        return next((r for r in self.things[kind.name] if r.id == identity), None)

    def _arrived(self, doing: Doing, verbs: tuple[str, ...]) -> str:
        """What the request should do to us next: arrive, be lost before or after; and that its intent was committed."""
        last = self.fake.ledger.kept[-1]
        assert (last.kind, last.body["verb"] in verbs, last.body["tenant"]) == (history.INTENT, True, self.name)
        assert last.body.get("thing") == doing.kind.name
        self.fake.requests.append(doing)
        return self.fake.fates.pop(0) if self.fake.fates else "arrives"

    def _do(self, doing: Doing, verbs: tuple[str, ...], identity: str, mark: str = "") -> Reply:
        fate, there = self._arrived(doing, verbs), self.things[doing.kind.name]
        if fate == "refused":
            return Reply(
                Result.REFUSED, detail="not like that", error=RefusedError("not like that", where=self.name, mend="another way")
            )
        if fate == "taken" and isinstance(doing, Make):  # somebody made one of that name meanwhile
            there.append(
                after(None, doing._replace(part={**doing.part, "display": "theirs"}), "x-theirs", "")  # type: ignore[arg-type]
            )
            return Reply(Result.EXISTS, detail="uniqueness")
        if fate in ("stale", "unsent", "missing", "exists"):
            return Reply(Result(fate), detail=fate, error=RefusedError(fate, where=self.name))
        if fate in ("busy", "lost-before"):
            return Reply(Result.BUSY if fate == "busy" else Result.LOST, detail=fate, wait_seconds=0)
        old = self.read(doing.kind, identity)
        if old is None and not isinstance(doing, Make):
            return Reply(Result.MISSING)
        if isinstance(doing, Change) and old is not None and old.version and doing.version != old.version:
            return Reply(Result.STALE, detail="another version")
        if isinstance(doing, Make) and any(r.mark == mark for r in there):
            return Reply(Result.EXISTS, detail="uniqueness")
        if isinstance(doing, Entry) and not doing.out:
            assert old is not None
            values = [v[0] if isinstance(v, tuple) else v for v in old.value(doing.field)]
            assert doing.value not in values or self.fake.losing, "added twice"
        new = after(old, doing, identity, mark)
        if fate == "altered" and new is not None and isinstance(doing, Make):
            new = new.with_(
                **{
                    "display"
                    if hasattr(new.body, "display")
                    else "reason"
                    if hasattr(new.body, "reason")
                    else "name": "altered there"
                }
            )
        if self.fake.stamped and isinstance(doing, Make) and new is not None:
            new = new._replace(version="1", modified=NOW.isoformat())
        if isinstance(doing, Make) and doing.kind is CLIENT and new is not None:
            new = new.with_(client_id=f"c-{next(self.fake.numbers)}")
        if isinstance(doing, Change) and new is not None:
            new = new._replace(version=new.version + "1")
        there[:] = [new if r.id == identity else r for r in there if r.id != identity or new is not None]  # type: ignore[misc]
        if isinstance(doing, Make):
            there[:] = [r for r in there if not doing.instead_of or r.mark != doing.instead_of]
            there.append(new)  # type: ignore[arg-type]
        return (
            Reply(Result.LOST, detail=fate) if fate == "lost-after" else Reply(Result.DONE, new, confirmed=self.fake.confirmed)
        )

    def make(self, make: Make, mark: str) -> Reply:
        return self._do(make, ("make",), f"{make.kind.name[0]}{next(self.fake.numbers)}", mark)

    def change(self, change: Change) -> Reply:
        return self._do(change, ("change",), str(change.id))

    def enter(self, entry: Entry) -> Reply:
        return self._do(entry, ("add", "take"), str(entry.id))

    def end(self, end: End) -> Reply:
        return self._do(end, ("end",), str(end.id))

    def fetch_secret(self, identity: str) -> Reply:
        if self.fake.fates and self.fake.fates[0].startswith("secret-"):
            fate = self.fake.fates.pop(0).removeprefix("secret-")
            return Reply(Result(fate), detail=fate, error=RefusedError(fate, where=self.name))
        return Reply(Result.DONE, secret=Secret("made there"))


class Silent:
    """Books that know nothing but which charters there are."""

    def __init__(self, charters: frozenset[str] = frozenset(), others: Mapping[str, Expected] | None = None) -> None:
        self.charters, self.others, self.joining = charters, others or {}, set[tuple[str, str]]()
        self.loans: dict[str, str] = {}

    def owner(self, tenant: str, kind: Any, identity: str) -> str:
        return ""

    def lent(self, mark: str) -> bool:
        return False

    def lends(self, tenant: str, identity: str) -> str:
        return self.loans.get(identity, "")

    def has_charter(self, name: str) -> bool:
        return name in self.charters

    def joins(self, tenant: str, identity: str, team: str) -> bool:
        return (identity, team) in self.joining

    def takes_in(self, tenant: str, team: str, member: str) -> bool:
        return (team, member) in self.joining

    def expected(self, tenant: str, identity: str) -> Expected | None:
        return self.others.get(identity)


@dataclass
class Fake:
    """One charter's world: two tenants, a ledger, kept keys, and the executor."""

    profile: Profile = PROFILE
    now: datetime = NOW
    things: dict[str, list[Record[Any]]] = field(default_factory=usual)
    far: dict[str, list[Record[Any]]] = field(default_factory=usual)  # of the other tenant, which a charter may name
    ledger: Chain = field(default_factory=Chain)
    held: dict[tuple[str, int], str] = field(default_factory=dict)
    blind: frozenset[str] = frozenset()  # kinds that look-ups know nothing of
    hidden: set[str] = field(default_factory=set)  # ids that look-ups do not show yet
    numbers: Any = field(default_factory=lambda: itertools.count(1))
    fates: list[str] = field(default_factory=list)  # what becomes of the next requests
    losing: bool = False
    requests: list[Doing] = field(default_factory=list)
    refusing: bool = False  # proofs do not hold
    tried: list[Prove] = field(default_factory=list)
    charters: frozenset[str] = frozenset()
    others: dict[str, Expected] = field(default_factory=dict)  # what other charters say cannot be, by their principals
    stamped: bool = False  # what is made has a version and a time of change
    books: Silent = field(default_factory=Silent)
    kept_in: frozenset[str] = frozenset()  # where nothing is ended now
    results: list[StepResult] = field(default_factory=list)
    kept: list[str] = field(default_factory=list)  # what was kept, in words
    confirmed: str = ""  # by whom, where a person confirms what was done

    def silent(self) -> Silent:
        self.books.charters, self.books.others = self.charters, self.others
        return self.books

    def at(self, tenant: str) -> dict[str, list[Record[Any]]]:
        return self.far if tenant == "far" else self.things

    def answer(self, query: Query[Any], tenant: str = "away") -> Fact[Any]:
        if query.kind.name in self.blind:
            return Fact(unknown="not for you")
        return Fact(tuple(r for r in self.at(tenant)[query.kind.name] if r.id not in self.hidden and answers(query, r)))

    def history(self) -> History:
        return fold(self.ledger.kept, "uid")

    def compare(
        self,
        charter: Charter,
        rules: HouseRules | None = None,
        *,
        adopt: bool = False,
        end_extra: bool = False,
        switch_on: bool = False,
        lost: bool = False,
    ) -> Outline:
        known = self.history()
        snapshots = {name: Snapshot(name, self.now, self.profile) for name in tenants_of(charter, known, ("away", "far"))}
        comparison = Comparison(
            charter,
            known,
            snapshots,
            rules or HouseRules(because=frozenset()),
            self.held,
            self.silent(),
            Choices(adopt, end_extra, switch_on, self.kept_in, lost=lost),
        )
        for _ in range(MOST_ROUNDS):
            outline = compare(comparison)
            missed = {name: asked for name, s in snapshots.items() if (asked := s.asked())}
            if not missed:
                return outline
            for name, asked in missed.items():
                snapshots[name].facts.update({q: self.answer(q, name) for q in asked})
        raise AssertionError("it never stops asking")

    def enact(self, charter: Charter, *, adopt: bool = False, most: int = 1000, switch_on: bool = False) -> Outline:
        """Carry out the first `most` steps with the real executor."""
        outline = self.compare(charter, adopt=adopt, switch_on=switch_on)
        self.results = []

        def prove(step: Step) -> None:
            assert isinstance(step.action, Prove)
            self.tried.append(step.action)
            if self.refusing:
                if step.action.proofs is None:
                    self.ledger.append(
                        [Fresh(history.PROVED, "uid", {"held": False, "proofs": proofs_digest(charter), "results": []})]
                    )
                from sigillum.core.values.errors import UnprovedError

                raise UnprovedError("it does not hold")
            if step.action.proofs is None:
                self.ledger.append(
                    [Fresh(history.PROVED, "uid", {"held": True, "proofs": proofs_digest(charter), "results": []})]
                )

        try:
            Carrying(self.ports(prove, lambda step: None), self.history()).run(
                dataclasses.replace(outline, steps=outline.steps[:most]), self.results.append
            )
        except AgainError:
            return self.enact(charter, adopt=adopt, most=most, switch_on=switch_on)
        done, known = set[object](), {s.id for s in outline.steps}
        for result in self.results:  # none runs before what it needs
            assert result.state is Became.SKIPPED or all(n in done or n not in known for n in result.step.needs), result.step
            done |= {result.step.id} if result.state is Became.DONE else set()
        if not self.losing:
            assert all(r.state in (Became.DONE, Became.ASKED) for r in self.results) or self.refusing, self.results
        return outline

    def ports(self, prove: Callable[[Step], None], turn: Callable[[Step], None]) -> Ports:
        away: dict[str, Any] = {name: Away(self, name) for name in ("away", "far")}
        journal = LedgerJournal(self.ledger, "ws", "uid", lambda name: self.now)  # type: ignore[arg-type]
        return Ports(
            lambda name, by: away[name],
            journal,
            Kept(self.held, self.ledger, self.kept),
            Patience(60, 0, lambda s: None, lambda t: None),
            prove,
            lambda step, doing, waits: None,
            lambda reference: Secret("chosen"),
            turn,
        )

    def pass_(self, seconds: float) -> None:
        self.now += timedelta(seconds=seconds)


def otherwise(world: World[Any], **changed: Any) -> World[Observed]:
    """As if the tenant showed just that; `again` would call it a prediction."""
    return cast(World[Observed], again(world, **changed))


def ours(mark: Mark, generation: int = 1) -> str:
    return external_id("ws", "uid", mark.body(), generation)
