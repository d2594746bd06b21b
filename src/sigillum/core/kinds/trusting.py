"""Trusts: whose tokens from outside may act as a principal."""

from __future__ import annotations

import json
from typing import Any, NamedTuple

from sigillum.core.federation.conditions import ONE_OF, OPS, Condition
from sigillum.core.federation.trusts import DISCOVERY
from sigillum.core.federation.trusts import Trust as Terms
from sigillum.core.values.canonical import canonical

from .kind import Kind


class Trust(NamedTuple):
    """One trust as a tenant shows it. `when`: each condition as canonical JSON; `acts_as`: the claim that has to be the name of
    the account, as JSON; nothing: whoever matches. `keys`: discovery, or the pinned set as JSON.
    """

    principal: str = ""
    name: str = ""
    issuer: str = ""
    audience: str = ""
    keys: str = ""
    subject: str = ""
    when: tuple[str, ...] = ()
    acts_as: str = ""
    principal_name: str = ""

    @property
    def terms(self) -> Terms:
        """What it demands. Raises ValueError for a condition that is none of ours."""
        try:
            acts_as = tuple(map(str, json.loads(self.acts_as))) if self.acts_as else ()
            return Terms(
                self.name,
                self.issuer,
                self.audience,
                self.keys or DISCOVERY,
                self.subject,
                tuple(map(condition_of, self.when)),
                acts_as,
            )
        except (ValueError, TypeError, KeyError) as problem:
            raise ValueError("its conditions are none that are known here") from problem


def text_of(condition: Condition) -> str:
    """A condition as a tenant keeps it."""
    value = list(condition.value) if condition.op == ONE_OF else condition.value
    why = {"inside_name": condition.inside_name} if condition.inside_name else {}
    return canonical({"claim": list(condition.claim), condition.op: value, **why}).decode()


def condition_of(text: str) -> Condition:
    """Raises ValueError, KeyError, TypeError where it is none."""
    found: dict[str, Any] = json.loads(text)
    ops = [n for n in found if n not in ("claim", "inside_name")]
    if len(ops) != 1 or ops[0] not in OPS:
        raise ValueError("a condition has just one test")
    op = ops[0]
    return Condition(
        tuple(map(str, found["claim"])), op, tuple(found[op]) if op == ONE_OF else found[op], str(found.get("inside_name", ""))
    )


TRUST = Kind(
    "trust", Trust, key=("principal", "name"), power="trusts", finders=("principal", "name", "all"), write_only=("carrier",)
)
