"""What the facets share: the view they compare in, and where one wanted thing stands."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any, Literal, NamedTuple

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import Rules
from sigillum.core.kinds.facts import Fact, Query, Snapshot, Thing
from sigillum.core.records.history import Generation, Undertakings
from sigillum.core.records.steps import Adopt, Await, Draft, Ref, Step, StepKind
from sigillum.core.values.canonical import external_id
from sigillum.core.values.times import parse_instant

UNKNOWN_ARRIVAL_SECONDS = 600  # patience with a tenant that does not say how long changes take
ARRIVAL_SLACK_SECONDS = 5
BOUND = ("grant", "permission")  # facets whose things hang on the principal; a credential hangs on who proves itself


@dataclass(slots=True)
class View:
    """Everything a comparison may look at, and the draft that it adds to."""

    charter: Charter
    state: Undertakings
    snapshot: Snapshot
    rules: Rules
    workspace_uid: str
    charter_uid: str
    held: Mapping[tuple[str, int], str]  # credential, generation -> thumbprint of the key kept here, or "secret"
    adopt: bool = False
    end_extra: bool = False
    lent: frozenset[str] = frozenset()  # externalIds of the grants of loans
    owners: Mapping[str, str] | None = None  # id of a thing -> charter or loan that made it; None: not looked up
    is_charter: Callable[[str], bool] = lambda name: False  # does the workspace have a charter of this name?
    asks_owners: bool = False  # something was seen whose owner would be worth naming
    ready_step: str = ""  # what must be done before the principal can be used
    services: list[tuple[str, str, str]] = field(default_factory=list)  # service, place, step that switches it on
    draft: Draft = field(default_factory=Draft)
    principal: str | Ref | None = None
    client: str | Ref | None = None  # of a client: the registration's own id, on which its credentials hang
    client_id: str | Ref | None = None  # and the client id, which it presents
    requested_step: str = ""  # what must be done before permissions can be consented
    suffix: str = ""  # of names in the ledger, away from home
    home: View | None = None  # away from home: the comparison in the home tenant
    guests: list[View] = field(default_factory=list)  # at home: the comparisons in other tenants
    whole: Charter | None = None  # the charter with what it asks for in every tenant

    def external_id(self, facet: str, name: str, generation: int) -> str:
        return external_id(self.workspace_uid, self.charter_uid, facet, name + self.suffix, generation)

    @property
    def bearer(self) -> str | Ref | None:
        """On what credentials hang: the account, or a client's registration."""
        return self.client if self.charter.is_client else self.principal

    @property
    def registered(self) -> bool:
        """Is it a client of a tenant that only registers them dynamically (RFC 7591)?"""
        return self.charter.is_client and "client" not in self.snapshot.profile.kinds

    def step_of(self, value: str | Ref | None) -> tuple[str, ...]:
        """The step that will yield a value, where one has to."""
        return (value.step,) if isinstance(value, Ref) else ()

    def add(self, step: Step) -> str:
        self.draft.steps.append(step)
        return step.id

    @property
    def principal_step(self) -> tuple[str, ...]:
        """The step that makes the principal, or waits for it, where there is one."""
        return (*self.step_of(self.principal), *((self.ready_step,) if self.ready_step else ()))

    def owner_of(self, identity: str) -> str:
        """Which charter or loan made a thing, as far as the ledger knows; notes that it was asked."""
        self.asks_owners = True
        return (self.owners or {}).get(identity, "")

    @property
    def arrival_seconds(self) -> int:
        announced = self.snapshot.profile.arrival_seconds
        return (UNKNOWN_ARRIVAL_SECONDS if announced is None else announced) + ARRIVAL_SLACK_SECONDS


def slow_step(view: View, facet: str, name: str, thing: Thing, number: int, about: str) -> str:
    """Something that the tenant accepted and has not finished: wait for it. The step's id, or nothing to wait for."""
    if thing.get("progress") != "accepted":
        return ""
    return view.add(Step(
        f"finish-{facet}-{name}", StepKind.WAIT, view.snapshot.tenant, facet, name, f"until the tenant has made {about}",
        Await(thing.kind, thing.id, 0, finished=True), number, why="the tenant accepted it, and finishes it later"))


State = Literal["none", "present", "open", "recent", "gone"]


class Standing(NamedTuple):
    """Where a wanted thing stands.

    none: never begun · open: begun, nothing known of it · present: ours, and seen · recent: made, and look-ups
    may not show it yet · gone: made once, and no longer there (or its externalId cannot be used again).
    """

    state: State
    generation: Generation | None = None
    thing: Thing | None = None

    @property
    def number(self) -> int:
        """The generation to work on."""
        if self.generation is None:
            return 1
        return self.generation.number + (1 if self.state == "gone" else 0)

    def why(self, usual: str) -> str:
        """Why it is made: begun earlier without an answer that was caught, or the `usual` reason."""
        lost = self.state == "open" and self.generation is not None and self.generation.unanswered
        return "begun earlier, and the answer was not caught" if lost else usual


def stand(view: View, facet: str, name: str, things: Iterable[Thing]) -> Standing:
    """Find out where the newest generation of a wanted thing stands among the things that were seen."""
    generation = view.state.latest(facet, name)
    if generation is None:
        return Standing("none")
    if generation.state in ("ended", "spent"):
        return Standing("gone", generation)
    mine = next((t for t in things if t.id == generation.id or (
        not generation.id and generation.external_id and t.external_id == generation.external_id)), None)
    if mine is not None:
        if not generation.id:
            view.add(Step(
                f"found-{facet}-{name}", StepKind.KEEP, view.snapshot.tenant, facet, name,
                f"in the ledger that the {facet} {name if facet != 'account' else mine.get('name')} was made",
                Adopt(mine.kind, mine.id, found=True), generation.number,
                why="it was begun earlier, and the answer was not caught"))
        return Standing("present", generation, mine)
    if not generation.id:
        return Standing("open", generation)
    made = generation.made_at or generation.begun_at
    if (isinstance(view.principal, Ref) and facet in BOUND) or (isinstance(view.bearer, Ref) and facet == "credential"):
        return Standing("gone", generation)  # what hung on the principal before went with it
    if made and view.snapshot.now < parse_instant(made) + timedelta(seconds=view.arrival_seconds):
        return Standing("recent", generation)
    return Standing("gone", generation)


def await_step(view: View, facet: str, name: str, thing: str, standing: Standing, about: str) -> Step:
    """Wait for something that was made and is not seen yet."""
    assert standing.generation is not None
    return Step(
        f"wait-{facet}-{name}", StepKind.WAIT, view.snapshot.tenant, facet, name,
        f"until the tenant shows {about}", Await(thing, standing.generation.id, view.arrival_seconds),
        standing.generation.number, why="it was made, and look-ups do not show it yet")


def existing(view: View, kind: str) -> Fact:
    """What the principal has of a kind. One that is still to be made has nothing; an unknown one, nothing known."""
    if kind not in view.snapshot.profile.kinds and not (kind == "credential" and view.registered):
        return Fact(unknown=f"it has no resource type for a {kind}")
    carrier = view.bearer if kind == "credential" else view.principal
    if carrier is None:
        return Fact(unknown="its principal is not known")
    return view.snapshot.fact(kind, "principal", carrier) if isinstance(carrier, str) else Fact()


_IDENTIFIERS = (("account", "id", "the principal id of the account"), ("team", "id", "the principal id of the team"),
                ("principal", "id", "the principal id of the client"), ("principal", "client_id", "the client id of"),
                ("client", "id", "the registration id of the client"))


def by_identifier(view: View, value: str) -> Iterator[Query]:
    """Where a name is wanted and none is known: is it an identifier of somebody?"""
    yield from (Query(kind, field, value) for kind, field, _ in _IDENTIFIERS if kind in view.snapshot.profile.kinds)


def identified(view: View, value: str) -> str:
    """What was written instead of a name, and what to write; nothing where it is no identifier that is known."""
    for kind, name, words in _IDENTIFIERS:
        found = view.snapshot.fact(kind, name, value).first
        if found is not None:
            return f"that is {words} {found.get('name')}: a charter names accounts and teams, write {found.get('name')}"
    return ""


def unknown(view: View, fact: Fact, about: str) -> None:
    """Say that nothing can be concluded; no step follows from it."""
    view.draft.note("unknown", f"{about} cannot be looked up at {view.snapshot.tenant}: {fact.unknown}; "
                    "nothing is made where it may exist already")


def differing(wanted: Mapping[str, Any], thing: Thing) -> dict[str, tuple[Any, Any]]:
    """Fields whose existing value is not the wanted one: (existing, wanted)."""
    out = {}
    for name, value in wanted.items():
        have = thing.get(name)
        if isinstance(value, tuple) and isinstance(have, tuple):
            have, value = tuple(sorted(have)), tuple(sorted(value))
        if (have or None) != (value or None):
            out[name] = (have, value)
    return out
