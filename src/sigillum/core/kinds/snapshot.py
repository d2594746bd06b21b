"""What is known of a tenant at one time, and asking for more of it in rounds."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from sigillum.core.values.worlds import Observed

from .changes import Facts
from .kind import Fact, K, Query
from .profile import Profile

NOT_ASKED: Fact[Any] = Fact(unknown="it was not asked")
MOST_ROUNDS = 20


@dataclass(slots=True)
class Snapshot:
    """Facts of one tenant with its own `now`; grows while rounds of queries are answered. A miss is noted by asking."""

    tenant: str
    now: datetime
    profile: Profile
    facts: dict[Query[Any], Fact[Any]] = field(default_factory=dict)
    likely: tuple[str, ...] = ()  # ids that will probably be asked about, once it is known of whom: they save a round
    misses: dict[Query[Any], None] = field(default_factory=dict)

    def ask(self, query: Query[K]) -> Fact[K]:
        """What is known of it. One that was never asked is unknown, and is asked in the next round."""
        found = self.facts.get(query) or self._among_all(query)
        if found is None:
            self.misses[query] = None
            return NOT_ASKED
        return found

    def _among_all(self, query: Query[K]) -> Fact[K] | None:
        """The one of a name, where all of its kind were shown."""
        whole = self.facts.get(Query(query.kind, "all")) if query.field == "name" else None
        if whole is None or not whole.known:
            return None
        return Fact(tuple(r for r in whole.records if r.says(name=query.value)))

    def asked(self) -> list[Query[Any]]:
        """The queries of this round, which begins anew."""
        misses, self.misses = list(self.misses), {}
        return misses

    def known(self) -> Facts[Observed]:
        """Everything that was shown, and what was not answered."""
        facts = Facts[Observed](hidden={q: f.unknown for q, f in self.facts.items() if not f.known})
        for fact in self.facts.values():
            facts.add(fact.records)
        return facts


def rounds(
    snapshot: Snapshot, look: Callable[[], object], answer: Callable[[Iterable[Query[Any]]], dict[Query[Any], Fact[Any]]]
) -> None:
    """Look, answer what was missed, and look again, until nothing is."""
    for _ in range(MOST_ROUNDS):
        look()
        asked = snapshot.asked()
        if not asked:
            return
        snapshot.facts.update(answer(asked))
