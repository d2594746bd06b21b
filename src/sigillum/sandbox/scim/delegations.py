"""Delegations: what one may be."""

from __future__ import annotations

from typing import Any

from sigillum.sandbox.http.errors import ScimProblem
from sigillum.sandbox.worlds.world import Tenant

Json = dict[str, Any]


def on_delegation(tenant: Tenant, data: Json) -> None:
    """Check one that is made or changed. Raises ScimProblem."""
    if not data.get("domain") or not data.get("people") or not data.get("scopes"):
        raise ScimProblem(400, "domain, people and scopes are needed", "invalidValue")
    for scope in data["scopes"]:
        if scope not in tenant.permissions:
            raise ScimProblem(400, f"scopes: {scope} is unknown here", "invalidValue")


def once(tenant: Tenant, data: Json) -> None:
    """A holder has one in each domain. Raises ScimProblem."""
    if any(
        (d["principal"]["value"], d["domain"]) == (data["principal"]["value"], data["domain"])
        for _, d in tenant.store.all_current("Delegation")
    ):
        raise ScimProblem(409, "principal: it has a delegation in this domain", "uniqueness")


def lets(data: Json, person: str, teams: set[Any], scopes: list[str]) -> bool:
    """Does one let its holder act for this person, who is in these teams, with all of these scopes?"""
    names = {"all", person, *(f"team:{team}" for team in teams)}
    if not set(scopes) <= set(data["scopes"]) or not names.intersection(data["people"]):
        return False
    return bool(person.rpartition("@")[2] == data["domain"])
