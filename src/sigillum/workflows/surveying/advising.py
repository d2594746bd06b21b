"""What the services that an integration needs take as sign-in: read from its tenant, with the day of each fact."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from sigillum.core.kinds.access import ROLE
from sigillum.core.kinds.kind import Query
from sigillum.workflows.desk.office import Office


class Accepted(NamedTuple):
    """Kinds of sign-in that all of them take; None: nothing is narrowed. `by`: what says so, in words."""

    kinds: tuple[str, ...] | None
    by: tuple[str, ...]


def accepted(office: Office, tenant_name: str, roles: Iterable[str]) -> Accepted:
    """What is narrowed by the permissions of these roles. Raises UnreachableError."""
    tenant, kinds, by = office.tenants.reach(tenant_name), list[set[str]](), list[str]()
    queries = [Query(ROLE, "name", role) for role in roles]
    for fact in tenant.facts(queries).values():
        for permission in [p for r in fact.records for p, _ in r.body.permissions]:
            rule = tenant.profile.operations.get(permission)
            if rule is not None and rule.takes:
                kinds.append(set(rule.takes))
                when = f", as of {rule.checked}" if rule.checked else ", on a day that it does not say"
                by.append(f"{tenant_name} says that {permission} is used with {', '.join(rule.takes)}{when}")
    if not kinds:
        return Accepted(None, ())
    return Accepted(tuple(sorted(set.intersection(*kinds))), tuple(dict.fromkeys(by)))
