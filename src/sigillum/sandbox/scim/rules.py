"""What a tenant checks when something is written: references, limits, keys, and the values it adds itself."""

from __future__ import annotations

import base64
import binascii
import re
import secrets
from datetime import timedelta
from typing import Any

from sigillum.sandbox.deciding import cluster, trusts
from sigillum.sandbox.http.errors import ScimProblem
from sigillum.sandbox.oauth.keys import certificate_of, thumbprint, usable
from sigillum.sandbox.worlds.clock import moment_of, stamp
from sigillum.sandbox.worlds.world import CLUSTER, HOLDS_ITEMS, Admin, Tenant, hash_of

from . import delegations, directory, saas
from .attributes import ACCOUNT, TEAM, Kind
from .schema_identities import NEVER
from .schemas import KINDS

Json = dict[str, Any]
MADE_HERE = ("api-token", "shared-secret")  # secrets that the tenant makes
_PATH = re.compile(r"[A-Za-z0-9][\w.-]*(/[A-Za-z0-9][\w.-]*)*\Z")


def demand(tenant: Tenant, admin: Admin, kind: Kind) -> None:
    """Raises ScimProblem 403 where the administrator lacks the power to write this type."""
    if kind.power not in admin.powers:
        raise ScimProblem(403, f"{admin.name} lacks the power '{kind.power}'")


def _invalid(detail: str) -> ScimProblem:
    return ScimProblem(400, detail, "invalidValue")


def _resolve(tenant: Tenant, data: Json, name: str, types: tuple[str, ...]) -> None:
    """Check that a reference leads somewhere; what it displays is worked out when it is shown."""
    link = data.get(name) or {}
    value = link.get("value") or str(link.get("$ref", "")).rsplit("/", 1)[-1]
    found = next((t for t in types if tenant.store.current(KINDS[t], value) is not None), None)
    if found is None:
        raise _invalid(f"{name}: there is no {' or '.join(types)} with the id {value!r}")
    data[name] = {"value": value, "$ref": f"{tenant.scim}/{KINDS[found].endpoint}/{value}"}
    if len(types) > 1 and (name == "principal" or found == "User"):
        data[name]["type"] = found


def on_create(tenant: Tenant, kind: Kind, data: Json, admin: Admin | None = None) -> None:
    """Check and complete a new resource. Raises ScimProblem."""
    for first in tenant.described.get("preconditions", []):
        if not first.get("met") and (not first.get("types") or kind.name in first["types"]):
            raise ScimProblem(403, f"{first['what']} is needed first")
    if kind.name == "User":
        saas.on_account(tenant, data)
        saas.check_account(tenant, None, data)
    elif kind.name == "SignInRule":
        data.setdefault("enabled", True)
        saas.check_rule(tenant, data)
    elif kind.name == "Group":
        _members(tenant, data, {})
    elif kind.name == "Place":
        _place(tenant, data)
    elif kind.name == "Role":
        data["custom"] = True
    elif kind.name == "Grant":
        _resolve(tenant, data, "principal", ("User", "Group", "ServicePrincipal"))
        _resolve(tenant, data, "role", ("Role",))
        _resolve(tenant, data, "place", ("Place", "User"))
        _window(data)
        saas.on_grant(tenant, data)
        _grantable(tenant, data)
    elif kind.name == "Credential":
        _credential(tenant, data)
    elif kind.name == "Delegation":
        _resolve(tenant, data, "principal", ("User", "Client"))
        delegations.on_delegation(tenant, data)
        delegations.once(tenant, data)
    elif kind.name == "Trust":
        _resolve(tenant, data, "principal", ("User",))
        trusts.on_trust(tenant, data)
    elif kind.name == "Machine":
        _attached(tenant, data)
    elif kind.name in CLUSTER:
        cluster.on_create(tenant, kind.name, data)
    else:
        if kind.name == "Consent":
            _resolve(tenant, data, "principal", ("ServicePrincipal",))
        directory.on_create(tenant, admin, kind.name, data)


def on_update(tenant: Tenant, kind: Kind, identity: str, data: Json, before: Json) -> None:
    if kind.name == "TenantProfile" and data.get("inForce"):
        raise ScimProblem(403, "The profile in force is kept by the tenant itself")
    if kind.name == "Delegation":
        delegations.on_delegation(tenant, data)
    if kind.name == "Machine":
        _attached(tenant, data)
    elif kind.name in CLUSTER:
        cluster.on_update(tenant, kind.name, identity, data, before)
    elif kind.name == "Group":
        _members(tenant, data, before)
    elif kind.name == "Place":
        _switched_on(tenant, data, before)
    elif kind.name == "Role" and before.get("custom"):
        data["custom"] = True
    elif kind.name == "Client":
        directory.check_client(tenant, data)
    elif kind.name == "SignInRule":
        saas.check_rule(tenant, data)
    elif kind.name == "Licence":
        saas.check_licence(tenant, data)
    elif kind.name == "User":
        saas.check_account(tenant, identity, data)
    elif kind.name == "Credential":
        ends = moment_of(data["validUntil"]).year < 9999
        if data.pop("expires", ends) != ends:
            if data.get("kind") != "password" or not ends:
                raise ScimProblem(400, "expires: only of a password it can be switched off", "mutability")
            data["validUntil"] = NEVER
    data |= {name: before[name] for name in ("thumbprint", "clientId", "consentedBy") if name in before}  # the tenant's own


def _attached(tenant: Tenant, data: Json) -> None:
    if data.get("principal"):
        _resolve(tenant, data, "principal", ("User",))


def _switched_on(tenant: Tenant, data: Json, before: Json) -> None:
    """Note since when each service is on."""
    known = {s["value"]: s for s in before.get("services", [])}
    fresh = {"since": stamp(tenant.clock.now())}
    services = {s["value"]: known.get(s["value"], {"value": s["value"], **fresh}) for s in data.get("services", [])}
    if services:
        data["services"] = list(services.values())


def _grantable(tenant: Tenant, data: Json) -> None:
    """Where and for how long the role may be granted. Raises ScimProblem."""
    role = tenant.store.current(KINDS["Role"], data["role"]["value"]) or {}
    place = tenant.store.current(KINDS["Place"], data["place"]["value"])
    kind = place.get("kind") if place is not None else "principal"
    if role.get("grantableAt") and kind not in role["grantableAt"]:
        raise _invalid(f"role: {role['name']} cannot be granted at a {kind}")
    if "validFrom" not in data and "validUntil" not in data:
        return
    if role.get("breadth") == "broad" and not tenant.described.get("windows_on_broad", True):
        raise _invalid("validUntil: a broad role takes no window here")
    team = tenant.store.current(KINDS["Group"], data["principal"]["value"]) or {}
    if (team.get(TEAM) or {}).get("everyone") and not tenant.described.get("windows_on_everyone", True):
        raise _invalid("validUntil: a grant to everyone takes no window here")


def _members(tenant: Tenant, data: Json, before: Json) -> None:
    for member in data.get("members", []):
        value = member.get("value") or str(member.get("$ref", "")).rsplit("/", 1)[-1]
        found = next((t for t in ("User", "Group") if tenant.store.current(KINDS[t], value) is not None), None)
        if found is None:
            raise _invalid(f"members: there is no User or Group with the id {value!r}")
        member |= {"value": value, "type": found, "$ref": f"{tenant.scim}/{KINDS[found].endpoint}/{value}"}
    about, now = dict(before.get(TEAM) or {}), stamp(tenant.clock.now())
    known = {j["value"]: j["since"] for j in about.get("joined", [])}
    were = {m["value"] for m in before.get("members", [])}
    joined = [
        {"value": m["value"], "since": known.get(m["value"], now)}
        for m in data.get("members", [])
        if m["value"] in known or m["value"] not in were
    ]
    kept = {k: v for k, v in (data.get(TEAM) or {}).items() if k != "joined"}
    kept |= {"everyone": True} if about.get("everyone") else {}
    kept |= {"joined": joined} if joined else {}
    data.pop(TEAM, None)
    if kept:
        data[TEAM] = kept
    data["schemas"] = [s for s in data["schemas"] if s != TEAM] + ([TEAM] if kept else [])


def _place(tenant: Tenant, data: Json) -> None:
    path = data["path"]
    if not _PATH.match(path):
        raise _invalid("path: segments of letters, digits, dot, dash and underscore, with slashes between")
    parent = path.rpartition("/")[0]
    if parent and not any(d["path"] == parent for _, d in tenant.store.by("Place", "path", parent)):
        raise _invalid(f"path: there is no place {parent}")
    if data.get("kind") in HOLDS_ITEMS:
        tenant.streams.setdefault(path, [])
    _switched_on(tenant, data, {})


def _window(data: Json) -> None:
    begin, end = data.get("validFrom"), data.get("validUntil")
    if begin and end and moment_of(begin) >= moment_of(end):
        raise _invalid("validUntil must lie after validFrom")


def _credential(tenant: Tenant, data: Json) -> None:
    _resolve(tenant, data, "principal", ("User", "Client"))
    saas.on_credential(tenant, data)
    now = tenant.clock.now()
    _window(data)
    longest = tenant.limit("credential_seconds")  # 0: as long as one likes
    days = tenant.described.get("passwords_last_days", 0) if data.get("kind") == "password" else 0
    if "validUntil" not in data and days and data.pop("expires", True):
        data["validUntil"] = stamp(now + timedelta(days=days))
    said = data.pop("expires", None)
    if "validUntil" not in data:
        data["validUntil"] = stamp(now + timedelta(seconds=longest)) if longest and said is not False else NEVER
    if said is not None and said != (moment_of(data["validUntil"]).year < 9999):
        raise _invalid("expires: it says something else than validUntil")
    if longest and moment_of(data["validUntil"]) > now + timedelta(seconds=longest + 60):
        raise _invalid(f"validUntil: a credential lives {longest} seconds at most here")
    if data.get("kind", "key-pair") == "key-pair":
        key = data.get("publicKey") or {}
        if tenant.described.get("checks_keys") and usable(key) is None:
            raise _invalid("publicKey: a public JWK (Ed25519, P-256 or RSA of 2048 bits or more) is needed")
        mark = thumbprint(key)
        if mark is not None:
            data["thumbprint"] = mark
        twin = next((d for _, d in tenant.store.all_current("Credential") if mark and d.get("thumbprint") == mark), None)
        if twin is not None and not (tenant.described.get("repeated_keys") and twin["principal"] == data["principal"]):
            raise ScimProblem(409, "publicKey: this key is registered already", "uniqueness")
    elif data["kind"] == "certificate":
        _certificate(tenant, data)
    elif data["kind"] == "password":
        saas.on_password(tenant, data)
    elif data["kind"] not in MADE_HERE:
        raise _invalid(f"kind: key-pair, {' or '.join(MADE_HERE)}")
    else:
        data.pop("publicKey", None)  # it has none
    live = [
        d
        for _, d in tenant.store.by("Credential", "principal.value", data["principal"]["value"])
        if moment_of(d["validUntil"]) > now or tenant.described.get("ended_count")
    ]
    if len(live) >= tenant.limit("keys_per_principal"):
        raise _invalid(f"a principal has {tenant.limit('keys_per_principal')} credentials at most here")
    born = not tenant.described.get("born_inactive", True)
    data["active"] = True if born else bool(data.get("active", False))


def _certificate(tenant: Tenant, data: Json) -> None:
    """A certificate registers its key, and ends with itself at the latest. Raises ScimProblem."""
    seen = certificate_of(str(data.get("certificate", "")))
    if seen is None:
        raise _invalid("certificate: base64 of an X.509 certificate over Ed25519, P-256 or RSA is needed, that signs no others")
    key, mark, over = seen
    if over <= tenant.clock.now():
        raise _invalid("certificate: it is over")
    if any(d.get("thumbprint") == mark for _, d in tenant.store.all_current("Credential")):
        raise ScimProblem(409, "certificate: it is registered already", "uniqueness")
    data |= {"publicKey": key, "thumbprint": mark, "validUntil": min(data["validUntil"], stamp(over))}


def after_create(tenant: Tenant, kind: Kind, identity: str, data: Json) -> None:
    """Begin a slow making; make the secret of a new token, which waits to be fetched once."""
    tenant.begin_slowly(kind.name, identity)
    if kind.name == "Credential" and data.get("kind") == "password":
        tenant.secrets[identity] = hash_of(data.pop("password"))
    if kind.name == "Credential" and data.get("kind") in MADE_HERE:
        secret = "stk-" + secrets.token_urlsafe(32)
        tenant.secrets[identity] = hash_of(secret)
        tenant.unread[identity] = secret


def after_delete(tenant: Tenant, kind: Kind, identity: str, data: Json | None = None) -> None:
    """Grants, credentials and memberships go with their principal; a role or place in use stays."""
    if kind.name == "Credential":
        tenant.secrets.pop(identity, None)
        tenant.unread.pop(identity, None)
    directory.after_delete(tenant, kind.name, identity, data or {})
    if kind.name == "User":
        for found, _ in list(tenant.store.by("Grant", "place.value", identity)):
            tenant.store.delete(KINDS["Grant"], found)
        for found, machine in list(tenant.store.by("Machine", "principal.value", identity)):
            if (machine.get("principal") or {}).get("value") == identity:
                tenant.store.update(KINDS["Machine"], found, {n: v for n, v in machine.items() if n != "principal"})
    if kind.name in ("User", "Group"):
        for other in ("Grant", "Credential", "Trust", "Delegation"):
            for found, data in list(tenant.store.by(other, "principal.value", identity)):
                if data["principal"]["value"] == identity:
                    tenant.store.delete(KINDS[other], found)
                    after_delete(tenant, KINDS[other], found)
        for found, data in list(tenant.store.all_current("Group")):
            left = [m for m in data.get("members", []) if m["value"] != identity]
            if len(left) != len(data.get("members", [])):
                tenant.store.update(KINDS["Group"], found, {**data, "members": left})


def before_delete(tenant: Tenant, kind: Kind, identity: str) -> None:
    """Raises ScimProblem 409 where a grant still uses the role or place."""
    if kind.name == "TenantProfile" and (tenant.store.current(kind, identity) or {}).get("inForce"):
        raise ScimProblem(403, "The profile in force is kept by the tenant itself")
    name = {"Role": "role", "Place": "place"}.get(kind.name)
    if name and any(d[name]["value"] == identity for _, d in tenant.store.all_current("Grant")):
        raise ScimProblem(409, f"a grant still uses this {name}")


def computed(tenant: Tenant, admin: Admin | None, kind: Kind, identity: str, data: Json) -> Json:
    """`data` with what is worked out at the moment of showing."""
    store = tenant.store
    if kind.name == "Delegation":
        data = {**data, **{n: v for n, v in tenant.last_used(identity).items() if n == "lastUsedAt"}}
    if kind.name in ("Grant", "Credential", "Consent", "Trust", "Delegation", "Machine"):
        data = dict(data)
        for name, shown in (("principal", "displayName"), ("role", "name"), ("place", "path")):
            if name in data:
                kinds = {"principal": ("User", "Group", "ServicePrincipal", "Client"), "place": ("Place", "User")}.get(
                    name, ("Role",)
                )
                target = next((t for k in kinds if (t := store.current(KINDS[k], data[name]["value"]))), {})
                text = target.get("userName") or target.get(shown) or target.get("name")
                data[name] = {**data[name], **({"display": text} if text else {})}
    progress = tenant.progress(identity)
    if kind.name == "User" and progress:
        data = {
            **data,
            ACCOUNT: {**data.get(ACCOUNT, {}), "progress": progress},
            "schemas": list(dict.fromkeys([*data["schemas"], ACCOUNT])),
        }
    data = cluster.computed(tenant, kind.name, data)
    if kind.name == "MachineGroup" and progress:
        data = {**data, "progress": progress}
    if kind.name == "Credential":
        data["expires"] = moment_of(data["validUntil"]).year < 9999
        data |= tenant.last_used(identity)
    if kind.name == "Grant":
        data["state"] = state_of(tenant, data)
        if progress:
            data["progress"] = progress
    elif kind.name == "User":
        groups = [
            {"value": i, "$ref": f"{tenant.scim}/Groups/{i}", "display": g["displayName"], "type": "direct"}
            for i, g in store.all_current("Group")
            if any(m["value"] == identity for m in g.get("members", []))
        ]
        data = {**data, "groups": groups} if groups else data
    elif kind.name == "TenantProfile" and admin is not None:
        data = {**data, "administrator": {"name": admin.name, "powers": sorted(admin.powers)}}
    return data


def state_of(tenant: Tenant, data: Json) -> str:
    now = tenant.clock.now()
    if "validFrom" in data and now < moment_of(data["validFrom"]):
        return "waiting"
    return "ended" if "validUntil" in data and now >= moment_of(data["validUntil"]) else "in-force"


def public_key_of(sealing: Any) -> Json:
    """The public JWK that a secret shall be sealed to. Raises ScimProblem."""
    try:
        if not isinstance(sealing, dict) or "d" in sealing or sealing.get("kty") not in ("OKP", "EC"):
            raise ValueError
        base64.urlsafe_b64decode(str(sealing["x"]) + "==")
    except (ValueError, KeyError, binascii.Error) as problem:
        raise _invalid("sealTo: a public JWK (X25519 or P-256) is needed") from problem
    return sealing
