"""All facets, a line each: when one concerns a charter. Only this knows them; rare ones are loaded where needed."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from importlib import import_module
from typing import TYPE_CHECKING, NamedTuple

from sigillum.core.charter import rules
from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import HouseRules
from sigillum.core.values.errors import Mistake
from sigillum.core.values.marks import Mark

if TYPE_CHECKING:  # checking loads no facet
    from sigillum.core.facets.facet import Facet

HERE = "sigillum.core.facets"


class Line(NamedTuple):
    """One facet: its name, whether a charter asks for it, its module (its name, where none is given).

    `checked`: it is a folder, and `check` in it says what can be said without a tenant, so that checking loads no more.
    """

    name: str
    asked: Callable[[Charter], object]
    module: str = ""
    checked: bool = False

    @property
    def home(self) -> str:
        """Its package or module, of which nobody outside knows but the registry."""
        return self.module or f"{HERE}.{self.name.replace('-', '_')}"

    def check(self, charter: Charter, house: HouseRules, tenants: list[str]) -> Iterable[Mistake]:
        """What can be said against its section."""
        if self.checked:
            found: Iterable[Mistake] = import_module(f"{self.home}.check").check(charter, house, tenants)
            return found
        return self.load().check(charter, house, tenants) if self.module else ()

    def load(self) -> Facet:
        found: Facet = import_module(f"{self.home}.facet" if self.checked else self.home).FACET
        return found


LINES: list[Line] = [
    Line("account", lambda c: True, checked=True),
    Line("client", lambda c: c.is_client or c.identity.redirects or c.identity.audience != "tenant", checked=True),
    Line("role", lambda c: c.roles),
    Line("service", lambda c: c.services),
    Line("cost", lambda c: c.services or c.licence or c.signing is not None),
    Line("membership", lambda c: True),  # an account that is in no team, and can do nothing, is told by it
    Line("licence", lambda c: c.licence),
    Line("permission", lambda c: c.permissions or c.is_client, checked=True),
    Line("signing", lambda c: c.signing is not None),
    Line("grant", lambda c: True, checked=True),
    Line(
        "trust", lambda c: not c.is_team, checked=True
    ),  # what lets somebody become it, or gives it power, is always looked at
    Line("workload", lambda c: c.workload is not None, checked=True),
    Line("delegation", lambda c: c.delegation is not None or not c.is_team, checked=True),
    Line("credential", lambda c: True, checked=True),
    Line("sign-in", lambda c: c.sign_in is not None or any(w.is_a.typed for w in c.credentials), checked=True),
]


def facets_of(charter: Charter, begun: Iterable[str] = ()) -> list[Facet]:
    """The facets that concern a charter, or of which something was `begun` once, each after those that give what it takes."""
    known = frozenset(begun)
    return in_order([line.load() for line in LINES if line.name in known or line.asked(charter)])


def in_order(facets: list[Facet]) -> list[Facet]:
    """Each after those that give what it takes, otherwise as they stand. Raises ValueError for a circle."""
    left, out = list(facets), []
    while left:
        ready = next((f for f in left if not any(f.takes & o.gives for o in left if o is not f)), None)
        if ready is None:
            raise ValueError("facets take from each other in a circle")
        left.remove(ready)
        out.append(ready)
    return out


def check(charter: Charter, house: HouseRules, tenants: Iterable[str]) -> list[Mistake]:
    """Everything that can be said against a charter from its own text and the workspace."""
    known = list(tenants)
    return [
        *rules.check(charter, house, known),
        *(m for line in LINES if line.asked(charter) for m in line.check(charter, house, known)),
    ]


def waits_for(charter: Charter) -> set[str]:
    """The identities whose charters go first."""
    return {name for line in LINES if line.asked(charter) for name in line.load().waits_for(charter)}


def words(mark: Mark) -> str:
    """A mark for reading."""
    line = next((line for line in LINES if line.name == mark.facet), None)
    return line.load().words(mark) if line is not None else f"the {mark.facet}"
