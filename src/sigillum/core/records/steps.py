"""Steps: the changes that enacting would make, in order, and what speaks against them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from types import MappingProxyType
from typing import Any, NamedTuple

from sigillum.core.values.errors import Mistake


class StepKind(StrEnum):
    """What a step does, in the word that is shown."""

    KEEP = "keep"
    MAKE = "make"
    CHANGE = "change"
    END = "end"
    WAIT = "wait"
    PROVE = "prove"
    ASK = "ask"


class Ref(NamedTuple):
    """A value that an earlier step will yield."""

    step: str
    attribute: str


class KeepKey(NamedTuple):
    """Make a private key here and keep it."""

    credential: str
    generation: int
    algorithm: str


class KeepSecret(NamedTuple):
    """Make a password here and keep it, or keep the one that `source` refers to."""

    credential: str
    generation: int
    source: str = ""


class Kept(NamedTuple):
    """A secret that is kept here; it is read when the request is sent, and stands in no step."""

    credential: str
    generation: int


class Adopt(NamedTuple):
    """Write into the ledger that a thing is ours: taken over, or `found` by the externalId of our own intent."""

    thing: str
    id: str
    found: bool = False


class Create(NamedTuple):
    """One creation. `terms` is what the intent remembers of windows, so that they are never renewed."""

    thing: str
    external_id: str
    fields: Mapping[str, Any]
    terms: Mapping[str, Any] = MappingProxyType({})


class Change(NamedTuple):
    """Set fields of one thing. `about`: what is written beside a credential's key before it is switched on.

    `mark`: `made` or `ended`, where the change itself is to be undone one day, or undoes one.
    """

    thing: str
    id: str | Ref
    fields: Mapping[str, Any]
    version: str = ""
    about: Mapping[str, Any] = MappingProxyType({})
    mark: str = ""


class End(NamedTuple):
    """Remove one thing."""

    thing: str
    id: str | Ref


class AddTo(NamedTuple):
    """Put one value into a list of a thing: a member into a team, a service on a place."""

    thing: str
    id: str | Ref
    attribute: str
    value: str | Ref
    about: Mapping[str, Any] = MappingProxyType({})  # what stands beside the value


class TakeFrom(NamedTuple):
    """Take one value out of a list of a thing."""

    thing: str
    id: str
    attribute: str
    value: str


class Catch(NamedTuple):
    """Fetch a secret that only the tenant can make, straight into its keeping place."""

    credential: str
    generation: int
    id: str | Ref
    about: Mapping[str, Any] = MappingProxyType({})  # what is written beside it


class Await(NamedTuple):
    """Wait until look-ups show a thing, for so many seconds at most.

    With `attribute` until `value` is in that list of it; `finished`: until the tenant has made it to its end.
    """

    thing: str
    id: str
    seconds: int
    attribute: str = ""
    value: str = ""
    finished: bool = False


@dataclass(frozen=True, slots=True)
class Prove:
    """Try the charter's proofs."""

    count: int


class Ask(NamedTuple):
    """Something that only a person can do; `action` is what another administrator is asked for, `to` who holds the power."""

    request: str
    action: Any = None
    to: str = ""
    contact: str = ""
    about: str = ""  # what it is about, without whom it is asked of


Action = KeepKey | KeepSecret | Adopt | Create | Change | End | AddTo | TakeFrom | Catch | Await | Prove | Ask


@dataclass(frozen=True, slots=True)
class Step:
    """One change. `needs` names the steps that must be done before; `power` the administrator's power it takes."""

    id: str
    kind: StepKind
    tenant: str
    facet: str
    name: str
    about: str
    action: Action
    generation: int = 1
    needs: tuple[str, ...] = ()
    power: str = ""
    why: str = ""
    before: Mapping[str, Any] = field(default_factory=dict)
    after: Mapping[str, Any] = field(default_factory=dict)
    by: str = ""  # the administrator who acts, where it is not the usual one


class Collision(NamedTuple):
    """A thing of the wanted name that Sigillum did not make, side by side with what is wanted."""

    facet: str
    name: str
    id: str
    rows: tuple[tuple[str, Any, Any], ...]  # attribute, wanted, existing
    matches: bool


class Note(NamedTuple):
    """Something worth knowing: a stable code and a sentence; `warning` where it may go wrong."""

    code: str
    text: str
    warning: bool = True


@dataclass(frozen=True, slots=True)
class Outline:
    """What enacting a charter would do now. Nothing of it is stored."""

    charter: str
    steps: tuple[Step, ...] = ()
    notes: tuple[Note, ...] = ()
    mistakes: tuple[Mistake, ...] = ()
    collisions: tuple[Collision, ...] = ()

    @property
    def blocked(self) -> bool:
        """Must a person decide or mend something before anything is enacted?"""
        return bool(self.mistakes) or any(not c.matches for c in self.collisions) or bool(
            self.collisions and self.changes)

    @property
    def changes(self) -> tuple[Step, ...]:
        """The steps that change something, here or there."""
        return tuple(s for s in self.steps if s.kind not in (StepKind.PROVE, StepKind.WAIT))


@dataclass(slots=True)
class Draft:
    """An outline in the making: facets add to it."""

    steps: list[Step] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)
    mistakes: list[Mistake] = field(default_factory=list)
    collisions: list[Collision] = field(default_factory=list)

    def note(self, code: str, text: str, *, warning: bool = True) -> None:
        self.notes.append(Note(code, text, warning))
