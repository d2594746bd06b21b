"""What happens behind somebody's back, for tests: another hand writes, the whole house goes back to how it was, and what the
tenant itself decides is told.
"""

from __future__ import annotations

import copy
from typing import Any

from sigillum.sandbox.deciding.decide import decide
from sigillum.sandbox.deciding.signin import may_sign_in
from sigillum.sandbox.deciding.trusts import matches
from sigillum.sandbox.scim.schemas import KINDS

from .world import Tenant

Json = dict[str, Any]
HERE = "127.0.0.1"
FIXED = ("clock", "store", "signing_key", "signers")


def remember(tenants: dict[str, Tenant]) -> Json:
    """All that may change of them, apart from what goes on."""
    return {
        name: (
            copy.deepcopy({n: v for n, v in vars(t).items() if n not in FIXED}),
            copy.deepcopy({n: v for n, v in vars(t.store).items() if n not in FIXED}),
        )
        for name, t in tenants.items()
    }


def recall(tenants: dict[str, Tenant], kept: Json) -> None:
    """As it was then; what was remembered can be recalled once more."""
    for name, (about, store) in kept.items():
        vars(tenants[name]).update(copy.deepcopy(about))
        vars(tenants[name].store).update(copy.deepcopy(store))


def then(kept: Json, tenant: str, kind: str) -> Json:
    """The resources of a type as they were when all was remembered."""
    return {i: r.data for i, r in kept[tenant][1]["records"][kind].items() if r.data is not None}


def put(tenant: Tenant, kind: str, identity: str, data: Json | None) -> str:
    """Another hand writes a resource as it wants; without an id a new one, without data it is gone. The id."""
    if not identity:
        assert data is not None
        return tenant.store.create(KINDS[kind], data).id
    if data is None:
        tenant.store.delete(KINDS[kind], identity)
    else:
        tenant.store.update(KINDS[kind], identity, data)
    return identity


def decided(tenant: Tenant, question: Json) -> bool:
    """What the tenant itself says to a question: may it, or would a token with these claims be let in as it?"""
    if "claims" in question:
        account = tenant.store.current(KINDS["User"], question["principal"]) or {}
        return any(
            d["principal"]["value"] == question["principal"]
            and d["issuer"] == question["claims"].get("iss")
            and matches(d, question["claims"], str(account.get("userName")))
            for _, d in tenant.store.all_current("Trust")
        )
    used = tenant.store.current(KINDS["Credential"], question.get("credential") or "") or {}
    if used.get("kind") == "password" and not may_sign_in(tenant, question["principal"], {"from": HERE}).allowed:
        return False
    asked = (question["principal"], question["permission"], question["place"])
    return decide(tenant, *asked, question.get("credential"), question.get("person")).allowed
