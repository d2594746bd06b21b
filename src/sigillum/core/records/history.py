"""What the ledger says of one charter: things made, under way, ended; folded from its entries."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from sigillum.core.records.chain import Entry

INTENT, OUTCOME, KEPT, ADOPTED, FOUND, PROVED, KNOWN, RENAMED, LENT, BEFORE, FELT = (
    "intent", "outcome", "kept", "adopted", "found", "proved", "known", "renamed", "lent", "before", "felt")
REQUESTED, ANSWERED, RECEIVED, HANDED, CONNECTED = "requested", "answered", "received", "handed-over", "connected"
CONFIRMED = "confirmed"
AWAY = " in tenant "  # stands in the names of things that a charter has in another tenant than home
MADE, CHANGED, ENDED, LOST, REFUSED, SPENT = "made", "changed", "ended", "lost", "refused", "spent"


@dataclass(slots=True)
class Generation:
    """One making of a thing: begun with an intent, made when an outcome says so."""

    facet: str
    name: str
    number: int
    external_id: str = ""
    terms: Mapping[str, Any] = field(default_factory=dict)
    begun_at: str = ""  # tenant's time of the first intent
    made_at: str = ""  # tenant's time of the outcome
    id: str = ""
    state: str = "open"  # open, made, ended, spent
    kept: str = ""  # thumbprint of the key, or "secret", once it is kept
    unanswered: bool = False  # a creation was sent whose answer is not known
    tenant: str = ""
    ended_at: str = ""  # tenant's time of the outcome that ended it


@dataclass(slots=True)
class Undertakings:
    """All generations of a charter's things, and what was proved when."""

    charter: str = ""
    ledger: bool = True  # False: there is no ledger here, so nothing is known of who made what
    generations: dict[tuple[str, str], list[Generation]] = field(default_factory=dict)
    changed_at: int = 0  # sequence of the last change
    proved_at: int = 0
    proofs_digest: str = ""
    proofs_held: bool = False
    before: Mapping[str, Any] = field(default_factory=dict)  # what held before a change, until all held once

    def latest(self, facet: str, name: str) -> Generation | None:
        """The newest generation, whatever became of it."""
        found = self.generations.get((facet, name))
        return found[-1] if found else None

    def principal_id(self) -> str:
        """The id of the principal that was made, empty where there is none: an account, or a client's service principal."""
        found = (self.latest(facet, name) for facet, name in (("account", "identity"), ("client", "principal")))
        return next((g.id for g in found if g is not None and g.id), "")

    def away(self) -> list[str]:
        """The tenants beside home where something of this charter was begun and has not ended."""
        return list(dict.fromkeys(name.partition(AWAY)[2] for (_, name), all_ in self.generations.items()
                                  if AWAY in name and all_[-1].state in ("open", "made")))

    def part(self, suffix: str) -> Undertakings:
        """What is known of one tenant's things; those of other tenants than home bear a suffix in the ledger."""
        if not suffix and not any(AWAY in name for _, name in self.generations):
            return self
        inside = {(facet, name.removesuffix(suffix) if suffix else name): [
            replace(g, name=g.name.removesuffix(suffix) if suffix else g.name) for g in all_]
            for (facet, name), all_ in self.generations.items() if (name.endswith(suffix) if suffix else AWAY not in name)}
        return replace(self, generations=inside)

    def owns(self, kind_facet: str, identity: str, external_id: str) -> Generation | None:
        """The generation that a thing is, by id or by the externalId of an open intent."""
        for (facet, _), all_ in self.generations.items():
            for generation in all_ if facet == kind_facet else ():
                if generation.id == identity or (
                        not generation.id and external_id and generation.external_id == external_id):
                    return generation
        return None


def fold(entries: Iterable[Entry], charter: str = "") -> Undertakings:
    """Read a charter's entries, in order, into what they amount to."""
    state = Undertakings(charter)
    by_attempt: dict[int, tuple[Generation, str]] = {}
    for entry in entries:
        body = entry.body
        if entry.kind == INTENT:
            generation = _generation(state, body)
            by_attempt[entry.sequence] = (generation, str(body["operation"]))
            generation.tenant = generation.tenant or str(body.get("tenant", ""))
            if body["operation"] == "create":
                if not generation.external_id:
                    generation.external_id = str(body["external_id"])
                    generation.terms, generation.begun_at = dict(body.get("terms", {})), str(body["tenant_time"])
                generation.unanswered = True
            state.changed_at = entry.sequence
        elif entry.kind == OUTCOME:
            _outcome(by_attempt.get(int(body["attempt"])), body)
        elif entry.kind == KEPT:
            _generation(state, body).kept = str(body["what"])
        elif entry.kind in (ADOPTED, FOUND):
            taken = _generation(state, body)
            taken.tenant = taken.tenant or str(body.get("tenant", ""))
            taken.id, taken.state, taken.unanswered = str(body["id"]), "made", False
        elif entry.kind == BEFORE:
            state.before = dict(body["held"])
        elif entry.kind == PROVED:
            state.before = {} if body["held"] else state.before
            state.proved_at, state.proofs_held = entry.sequence, bool(body["held"])
            state.proofs_digest = str(body["proofs"])
    return state


def _generation(state: Undertakings, body: Mapping[str, Any]) -> Generation:
    all_ = state.generations.setdefault((str(body["facet"]), str(body["name"])), [])
    number = int(body["generation"])
    found = next((g for g in all_ if g.number == number), None)
    if found is None:
        found = Generation(str(body["facet"]), str(body["name"]), number)
        all_.append(found)
        all_.sort(key=lambda g: g.number)
    return found


def _outcome(attempt: tuple[Generation, str] | None, body: Mapping[str, Any]) -> None:
    if attempt is None:
        return
    generation, operation = attempt
    result = body["result"]
    if operation == "create" and result != LOST:
        generation.unanswered = False
    if result == MADE:
        generation.id, generation.state, generation.made_at = str(body["id"]), "made", str(body["tenant_time"])
    elif result == ENDED:
        generation.state, generation.ended_at = "ended", str(body["tenant_time"])
    elif result == SPENT:
        generation.state = "spent"
