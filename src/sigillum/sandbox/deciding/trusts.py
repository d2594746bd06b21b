"""Trusts in outside issuers: what one may be, and whether a token's claims match it."""

from __future__ import annotations

import json
from typing import Any

from sigillum.sandbox.http.errors import ScimProblem
from sigillum.sandbox.http.texts import loads
from sigillum.sandbox.worlds.world import Tenant

Json = dict[str, Any]
MOST_WHOLE = 2**53
OPERATIONS = {"equals", "one_of", "has", "starts", "present"}


def on_trust(tenant: Tenant, data: Json) -> None:
    """Check and complete a new trust. Raises ScimProblem."""
    for text in data.get("conditions", []):
        try:
            condition = loads(text.encode())
            names = set(condition) - {"claim", "inside_name"}
            if not isinstance(condition["claim"], list) or not condition["claim"] or len(names) != 1 or not names <= OPERATIONS:
                raise ValueError(text)
        except (ValueError, TypeError, KeyError) as problem:
            raise ScimProblem(400, "conditions: a claim and one test are needed", "invalidValue") from problem
    if not data.get("issuer") or not data.get("audience"):
        raise ScimProblem(400, "issuer and audience are needed", "invalidValue")
    if any(
        d["name"] == data["name"] and d["principal"]["value"] == data["principal"]["value"]
        for _, d in tenant.store.all_current("Trust")
    ):
        raise ScimProblem(409, "name: this principal has a trust of that name", "uniqueness")


def _scalar(value: Any) -> Any:
    """A scalar together with its type, so that 1, "1" and true are three; None for anything else."""
    if isinstance(value, (bool, str)):
        return type(value).__name__, value
    return ("int", value) if isinstance(value, int) and abs(value) < MOST_WHOLE else None


def holds(condition: Json, claims: Json) -> bool:
    """One condition of a trust."""
    value: Any = claims
    for name in condition["claim"]:
        value = value.get(name) if isinstance(value, dict) else None
    if value is None or isinstance(value, dict):
        return False
    if "has" in condition:
        wanted = _scalar(condition["has"])
        return isinstance(value, list) and wanted is not None and any(_scalar(v) == wanted for v in value)
    if condition.get("present") is True:
        return True
    if isinstance(value, list):
        return False
    if "starts" in condition:
        first = condition["starts"]
        return isinstance(value, str) and len(value) > len(first) and value[: len(first)] == first
    all_ = condition["one_of"] if "one_of" in condition else [condition.get("equals")]
    return _scalar(value) is not None and _scalar(value) in [_scalar(w) for w in all_]


def matches(trust: Json, claims: Json, account: str) -> bool:
    """Does a genuine token of this issuer match?"""
    wanted = [{"claim": ["iss"], "equals": trust["issuer"]}, *(json.loads(t) for t in trust.get("conditions", []))]
    if trust.get("subject"):
        wanted.append({"claim": ["sub"], "equals": trust["subject"]})
    if trust.get("actsAs"):
        wanted.append({"claim": json.loads(trust["actsAs"]), "equals": account})
    audience = claims.get("aud")
    one = audience[0] if isinstance(audience, list) and len(audience) == 1 else audience
    return one == trust["audience"] and isinstance(one, str) and all(holds(c, claims) for c in wanted)
