"""A tenant's own profile, in our words."""

from __future__ import annotations

from sigillum.core.kinds.profile import Operation, Precondition, Price, Profile
from sigillum.core.values.text import plain

from .codec import Wire
from .codecs import CODECS, KIND_OF_TYPE
from .words import Json, inner, many, text, texts, whole


def _operation(entry: Json) -> Operation:
    get = entry.get
    return Operation(
        text(get("value")),
        text(get("class")),
        text(get("method")),
        text(get("template")),
        text(get("service")),
        get("located") is True,
        texts(get("needs")),
        licence=text(get("licence")),
        api=text(get("api")),
        takes=texts(get("takes")),
        checked=text(get("checked")),
    )


def _said(value: object) -> bool | None:
    return value if isinstance(value, bool) else None


def _precondition(said: Json) -> Precondition:
    kinds = tuple(KIND_OF_TYPE[t] for t in texts(said.get("types")) if t in KIND_OF_TYPE)
    return Precondition(text(said.get("what")), kinds, said.get("met") is True, text(said.get("about")))


def _price(said: Json) -> Price:
    of, price, size, checked = (text(said.get(n)) for n in ("of", "price", "size", "checked"))
    return Price(of, price, size, texts(said.get("freeIn")), checked)


def profile_of(resource: Json | None, wire: Wire, issuer: str) -> Profile:
    """A TenantProfile in our words; without one, what the resource types alone tell."""
    carries = {name: CODECS[name].carried(wire) for name in wire.endpoints if name in CODECS}
    if resource is None:
        return Profile(issuer=issuer, carries=carries, says_limits="profile" in wire.endpoints)
    get, limits, administrator = resource.get, inner(resource, "limits"), inner(resource, "administrator")
    operations = [_operation(e) for e in many(get("permissions"))]
    return Profile(
        name=text(get("name")),
        title=text(get("title")),
        stage=text(get("stage")),
        issuer=issuer or plain(get("issuer") or ""),
        decisions=plain(get("decisions") or ""),
        work=plain(get("work") or ""),
        store=plain(get("store") or ""),
        external_id_unique=_said(get("externalIdUnique")),
        born_inactive=_said(get("bornInactive")),
        secret_delivery=text(get("secretDelivery")),
        last_used=text(get("lastUsed")),
        assertion_seconds=whole(limits.get("assertionSeconds")),
        token_seconds=whole(limits.get("tokenSeconds")),
        keys_per_principal=whole(limits.get("keysPerPrincipal")),
        credential_seconds=whole(limits.get("credentialSeconds")),
        arrival_seconds=whole(limits.get("arrivalSeconds")),
        answer_items=whole(limits.get("answerItems")),
        felt_seconds=whole(limits.get("feltSeconds")),
        windows_on_broad=get("windowsOnBroad") is not False,
        windows_on_everyone=get("windowsOnEveryone") is not False,
        organisations=texts(get("organisations")),
        preconditions=tuple(map(_precondition, many(get("preconditions")))),
        accounts_live_in=text(get("accountsLiveIn")),
        accounts_drafted=get("accountsDrafted") is True,
        limits_compulsory=get("limitsCompulsory") is True,
        ended_count=get("endedCount") is True,
        repeated_keys=get("repeatedKeys") is True,
        prices=tuple(map(_price, many(get("prices")))),
        locations=texts(get("locations")),
        acting=text(get("acting")),
        signer=plain(get("signer") or ""),
        addresses=text(get("addresses")),
        directory=texts(get("directory")),
        signing=texts(get("signing")),
        credential_kinds=texts(get("credentialKinds")),
        assertion_algorithms=texts(get("assertionAlgorithms")),
        operations={o.permission: o for o in operations},
        administrator=text(administrator.get("name")),
        powers=frozenset(texts(administrator.get("powers"))) if administrator else None,
        carries=carries,
        says_limits=True,
    )
