"""What the ledger says of one charter: things made, under way, ended; folded from its entries."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from sigillum.core.kinds.identities import ACCOUNT, PRINCIPAL, TEAM
from sigillum.core.kinds.kind import Kind
from sigillum.core.values.marks import Mark

INTENT, OUTCOME, KEPT, ADOPTED, FOUND, PROVED, KNOWN, RENAMED, LENT, BEFORE, FELT = (
    "intent",
    "outcome",
    "kept",
    "adopted",
    "found",
    "proved",
    "known",
    "renamed",
    "lent",
    "before",
    "felt",
)
REQUESTED, RECEIVED, HANDED, CONNECTED, CONFIRMED = "requested", "received", "handed-over", "connected", "confirmed"
ENDED_AS_ASKED = "ended-as-asked"  # it was asked for, and the tenant does not show it any more
EXPIRED = "expired"  # the state of a request that nobody answered in time
ASKED_AGAIN = "asked-again"  # by a person's word: what was refused or withdrawn is to be asked once more
NOTED = "request-noted"  # that somebody else's request was refused here, or is withdrawn or replaced
RECALLED, CLOSED = "recalled", "closed"
ROTATING, STAGED = "rotating", "staged"  # a rotation begins; a stage of it is reached
UNDERTAKING, NUMBER = "undertaking", "number"  # in an entry's body: the sort that it begins or closes, and which one
SUSPENDED, REINSTATED = "suspended", "reinstated"  # a suspension begins; somebody wants it back
PROLONGED = "suspended-again"  # somebody asked for it once more: with another reason or a later end, or since it was on again
USED = "used-since"  # that a tenant told that what was handed over was used
PROFILED = "profile-written"  # how a workload gets in by a trust, for a program elsewhere
OPENED = "sheet-opened"  # by a signed receipt: what was handed over has arrived
GIVEN_AWAY = "given-away"  # what was handed over is kept here no more
RETIRING, GIVEN_BACK, RETIRED, REVIVED = "retiring", "given-back", "retired", "revived"
ROTATION, SUSPENSION = "rotation", "suspension"  # the names of these sorts
TOLD = "told"  # what somebody else was asked for, and told
UNSURE = "unsure"  # it stands there, and whether our lost write or another hand made it is not known
DOCUMENT = "document"  # in an intent's body: how the document will look in which it is written
IN_PLACE_OF = "in_place_of"  # among the terms of a credential: the generation that ended by its making
BRIDGE = "bridge"  # in a mark's key: of that credential a further registration, with a later end
UNREAD = "unread"  # in an intent's body: digests of the fields that this tenant never shows, by their names
HOLDS = "holds"  # who uses a generation of a credential, by the charter when it was enacted
COPY = "copy"  # in an entry of what is kept: which copy of the workspace keeps it
MET = "met"  # where a tenant is, by its address and issuer: the ids of this ledger are ids of that one
SEEN = "seen"  # what was made was read back
OURS = "said-ours"  # by a person's word it was us who ended it, or switched it off
WAS = "was"  # in an entry of that: what was in doubt
SWITCHES = "switches"  # in an intent's body: "on", where it switches something on


class Verb(StrEnum):
    """What an attempt is to do."""

    MAKE = "make"
    CHANGE = "change"
    ADD = "add"
    TAKE = "take"
    END = "end"
    FETCH = "fetch"


class AttemptOutcome(StrEnum):
    """What became of an attempt."""

    MADE = "made"
    CHANGED = "changed"
    ENDED = "ended"
    LOST = "lost"
    REFUSED = "refused"
    SPENT = "spent"


class State(StrEnum):
    """Where a generation stands; spent: its externalId was used elsewhere, and nothing of ours came of it."""

    OPEN = "open"
    MADE = "made"
    ENDED = "ended"
    SPENT = "spent"


PRINCIPALS = frozenset(k.name for k in (ACCOUNT, TEAM, PRINCIPAL))


@dataclass(slots=True)
class Generation:
    """One making of a thing: begun with an intent, made when an outcome says so. `value`: it is an entry of a list of `id`."""

    mark: Mark
    number: int
    kind: str = ""
    external_id: str = ""
    terms: Mapping[str, Any] = field(default_factory=dict)
    begun_at: str = ""  # tenant's time of the first intent
    made_at: str = ""  # tenant's time of the outcome
    id: str = ""
    value: str = ""
    state: State = State.OPEN
    kept: str = ""  # thumbprint of the key, or "secret", once it is kept
    holders: frozenset[str] = frozenset()  # every consumer that the charter ever named for it
    kept_by: str = ""  # by which copy of the workspace
    unanswered: bool = False  # a creation was sent whose answer is not known
    foreseen: tuple[str, ...] = ()  # how its document was to look, after each of our writes
    sent_at: str = ""  # tenant's time of the last intent to make it
    lost_at: str = ""  # and of the last one whose answer was lost: it may still arrive
    ending: bool = False  # its end was sent, and what came of that is not known
    ended_at: str = ""  # tenant's time of the outcome that ended it
    on_at: str = ""  # tenant's time at which we switched it on last, or made it so; empty: never
    on_in: int = 0  # the entry of our last answered intent that switched it on
    off_in: int = 0  # and of the last that switched it off
    off_asked_in: int = 0  # the entry of the last intent to switch it off, answered or not
    adopted: bool = False  # another hand made it, and it is ours since
    made_by: str = ""  # who made it for us, asked by a request
    bears: str = ""  # the mark that it has, if it was made for that request and for nothing else
    given_away: bool = False  # it was handed over, and is not kept here since
    left: Mapping[str, str] = field(default_factory=dict)  # its version and time of change after our last write
    left_at: str = ""  # tenant's time of that write
    unread: Mapping[str, str] = field(default_factory=dict)  # digests of what was sent last and is never shown there
    seen: bool = False  # the tenant showed it once: if it does not any more, it is gone
    said_in: int = 0  # the entry by which a person said that it was we who switched it off

    @property
    def elsewhere(self) -> bool:
        """May what it proves itself with be somewhere else, and not here?"""
        return self.adopted or self.given_away

    @property
    def perhaps_off(self) -> bool:
        """Was our last "off" sent, and is it not known what came of that?"""
        return self.off_asked_in > max(self.off_in, self.on_in)

    @property
    def said_ours(self) -> bool:
        """Is it off by our own hand, by the word of a person?"""
        return self.said_in > self.on_in

    @property
    def live(self) -> bool:
        """Was it begun, and has it not ended?"""
        return self.state in (State.OPEN, State.MADE)


@dataclass(slots=True)
class Hold:
    """An open suspension of ours. `began`: the sequence of its entry; `found_off`: it was off before."""

    key: str
    began: int
    because: str
    until: str
    found_off: bool


@dataclass(slots=True)
class Turn:
    """An open rotation: the generation that leaves, the one that comes, and whether consumers have that already."""

    key: str
    old: int
    new: int
    given: bool = False


@dataclass(slots=True)
class History:
    """All generations of a charter's things, and what was proved when."""

    charter: str = ""
    ledger: bool = True  # False: there is no ledger here, so nothing is known of who made what
    generations: dict[Mark, list[Generation]] = field(default_factory=dict)
    turns: dict[Mark, Turn] = field(default_factory=dict)  # open rotations
    holds: dict[Mark, Hold] = field(default_factory=dict)  # open suspensions
    asked: dict[Mark, tuple[int, str, Mapping[str, Any]]] = field(default_factory=dict)  # generation, request, its terms
    retiring: str = ""  # why it is being retired, or was
    retired_at: str = ""  # tenant's time at which all of it had ended; empty: not retired
    changed_at: int = 0  # sequence of the last change
    proved_at: int = 0
    proofs_digest: str = ""
    proofs_held: bool = False
    before: Mapping[str, Any] = field(default_factory=dict)  # what held before a change, until all held once
    before_why: Mapping[str, str] = field(default_factory=dict)  # and what was said to that
    profiles: dict[tuple[str, str], tuple[str, str]] = field(default_factory=dict)  # trust, file: the trust's id, when written

    def latest(self, mark: Mark) -> Generation | None:
        """The newest generation, whatever became of it."""
        found = self.generations.get(mark)
        return found[-1] if found else None

    def terms(self, mark: Mark, number: int) -> Mapping[str, Any]:
        """With which terms a generation was begun, or somebody was asked for it: they stay, so that no window moves."""
        made = next((g for g in self.generations.get(mark, ()) if g.number == number), None)
        generation, _, terms = self.asked.get(mark, (0, "", {}))
        return made.terms if made is not None and made.terms else terms if generation == number else {}

    def of(self, facet: str, tenant: str) -> Iterator[Generation]:
        """The newest generation of everything that a facet asked for in a tenant."""
        for mark, all_ in list(self.generations.items()):
            if (mark.facet, mark.tenant) == (facet, tenant):
                yield all_[-1]

    def facets(self) -> frozenset[str]:
        """The facets of which something was ever begun."""
        return frozenset(mark.facet for mark in self.generations)

    def find(self, kind: Kind[Any], tenant: str, **key: str) -> Generation | None:
        """The newest generation of a kind in a tenant whose natural key has these values."""
        return next(
            (
                self.serving(mark)
                for mark, all_ in self.generations.items()
                if mark.tenant == tenant
                and all_[-1].kind == kind.name
                and not all_[-1].value
                and all(mark.get(n) == v for n, v in key.items())
            ),
            None,
        )

    def serving(self, mark: Mark) -> Generation | None:
        """The generation that is in use: the newest, or the old one of a rotation whose new one was not given yet."""
        turn = self.turns.get(mark)
        if turn is None or turn.given:
            return self.latest(mark)
        return next((g for g in self.generations[mark] if g.number == turn.old), None)

    def principal_id(self, tenant: str) -> str:
        """The id of the principal that was made in a tenant, empty where there is none."""
        return next(
            (
                all_[-1].id
                for mark, all_ in self.generations.items()
                if mark.tenant == tenant and all_[-1].kind in PRINCIPALS and all_[-1].id and not all_[-1].value
            ),
            "",
        )

    def tenants(self) -> list[str]:
        """The tenants where something of this charter was begun and has not ended."""
        return list(dict.fromkeys(mark.tenant for mark, all_ in self.generations.items() if all_[-1].live))

    def owns(self, facet: str, tenant: str, identity: str, external_id: str) -> Generation | None:
        """The generation that a thing is, by id or by the externalId of an open intent; the newest, where several had it."""
        for mark, all_ in self.generations.items():
            for generation in reversed(all_) if (mark.facet, mark.tenant) == (facet, tenant) else ():
                if generation.id == identity or (not generation.id and external_id and generation.external_id == external_id):
                    return generation
        return None
