"""What a tenant says of itself: its TenantProfile, as a resource."""

from __future__ import annotations

from typing import Any

from sigillum.sandbox.worlds.world import Tenant

from .schemas import KINDS

Json = dict[str, Any]


LIMITS = {
    "assertion_seconds": "assertionSeconds",
    "token_seconds": "tokenSeconds",
    "keys_per_principal": "keysPerPrincipal",
    "credential_seconds": "credentialSeconds",
    "arrival_seconds": "arrivalSeconds",
    "answer_items": "answerItems",
    "felt_seconds": "feltSeconds",
}
AS_DESCRIBED = {
    "acting": "acting",
    "signing": "signing",
    "addresses": "addresses",
    "directory": "directory",
    "accounts_live_in": "accountsLiveIn",
    "credential_kinds": "credentialKinds",
    "assertion_algorithms": "assertionAlgorithms",
    "preconditions": "preconditions",
    "windows_on_broad": "windowsOnBroad",
    "windows_on_everyone": "windowsOnEveryone",
}
WHERE_SET = {  # shown where the world file says more than nothing
    "accounts_drafted": "accountsDrafted",
    "limits_compulsory": "limitsCompulsory",
    "ended_count": "endedCount",
    "repeated_keys": "repeatedKeys",
    "locations": "locations",
}
OF_PERMISSION = ("service", "located", "needs", "api", "licence", "takes", "checked")


def profile_of(tenant: Tenant) -> Json:
    """The TenantProfile resource of a tenant, made from its world file."""
    described = tenant.described
    prices = [{{"free_in": "freeIn"}.get(n, n): v for n, v in p.items()} for p in described.get("prices", ())]
    return {
        "schemas": [KINDS["TenantProfile"].schema.id],
        "name": tenant.name,
        "inForce": True,
        "title": described.get("title", tenant.name),
        "stage": described.get("stage", "test"),
        "issuer": tenant.issuer,
        "decisions": tenant.base + "/access/v1/evaluation",
        "work": tenant.work,
        **({"store": f"{tenant.work}/secrets"} if any("/secrets/" in p["call"] for p in tenant.permissions.values()) else {}),
        **({"signer": tenant.base + "/sign"} if described.get("signing") else {}),
        "externalIdUnique": tenant.store.unique_external_ids,
        "bornInactive": bool(described.get("born_inactive", True)),
        "secretDelivery": described.get("secret_delivery", "sealed"),
        "lastUsed": described.get("last_used", "second"),
        "limits": {word: tenant.limit(name) for name, word in LIMITS.items()},
        "permissions": [
            {
                "value": name,
                "class": p.get("class", "looks"),
                "method": p["call"].split(" ")[0],
                "template": p["call"].split(" ", 1)[1],
                **{k: p[k] for k in OF_PERMISSION if k in p},
            }
            for name, p in tenant.permissions.items()
        ],
        **({"prices": prices} if prices else {}),
        **({"organisations": tenant.organisations} if tenant.organisations else {}),
        **{word: described[name] for name, word in AS_DESCRIBED.items() if name in described},
        **{word: described[name] for name, word in WHERE_SET.items() if described.get(name)},
    }
