"""Our words and SCIM's: resource types, attributes, filters. The one place where both stand side by side."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, NamedTuple

from sigillum.core.kinds.facts import Operation, Precondition, Profile, Query, Thing
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import plain
from sigillum.core.values.times import format_instant, parse_instant
from sigillum.protocols.scim import PATCH_OP, quoted

Json = dict[str, Any]
OWN = "urn:sigillum:scim:1.0:"
USER_SCHEMA = "urn:ietf:params:scim:schemas:core:2.0:User"
ABOUT, TEAM = OWN + "ServiceAccount", OWN + "Team"
SCHEMAS = {"account": USER_SCHEMA, "team": "urn:ietf:params:scim:schemas:core:2.0:Group", "place": OWN + "Place",
           "role": OWN + "Role", "grant": OWN + "Grant", "credential": OWN + "Credential",
           "client": OWN + "Client", "principal": OWN + "ServicePrincipal", "api": OWN + "Api", "consent": OWN + "Consent",
           "rule": OWN + "SignInRule", "licence": OWN + "Licence",
           "profile": OWN + "TenantProfile"}
_KIND_OF = {schema.rpartition(":")[2]: kind for kind, schema in SCHEMAS.items()}
USUAL_ENDPOINTS = {"account": "/Users", "team": "/Groups"}
TEAM_FIELDS = ("purpose", "owner", "deputy", "stage")
ABOUT_FIELDS = ("kind", *TEAM_FIELDS, "location", "organisation", "subject", "area")
WEB_ONLY = {"web_only": "webOnly", "mailbox": "mailbox"}
RULE_FIELDS = {"name": "name", "enabled": "enabled", "applies_to": "appliesTo", "networks": "networks"}
CLIENT_FIELDS = ("name", "redirects", "audience", "confidential", *TEAM_FIELDS)
CONSENT_FIELDS = ("api", "scope", "acts", "only")

_FILTERS: dict[tuple[str, str], Callable[[str], str]] = {
    ("account", "name"): lambda v: f"userName eq {quoted(v)}",
    ("team", "name"): lambda v: f"displayName eq {quoted(v)}",
    ("team", "member"): lambda v: f"members.value eq {quoted(v)}",
    ("team", "everyone"): lambda v: f"{TEAM}:everyone eq true",
    ("role", "name"): lambda v: f"name eq {quoted(v)}",
    ("role", "all"): lambda v: "",
    ("place", "path"): lambda v: f"path eq {quoted(v)}",
    ("place", "under"): lambda v: f"path sw {quoted(v + '/')}" if v else "",
    ("place", "all"): lambda v: "",
    ("client", "name"): lambda v: f"name eq {quoted(v)}",
    ("client", "client_id"): lambda v: f"clientId eq {quoted(v)}",
    ("principal", "client_id"): lambda v: f"clientId eq {quoted(v)}",
    ("principal", "display"): lambda v: f"displayName eq {quoted(v)}",
    ("api", "name"): lambda v: f"name eq {quoted(v)}",
    ("api", "all"): lambda v: "",
    ("rule", "all"): lambda v: "", ("rule", "name"): lambda v: f"name eq {quoted(v)}",
    ("licence", "all"): lambda v: "", ("licence", "name"): lambda v: f"name eq {quoted(v)}",
    ("account", "all"): lambda v: "", ("team", "all"): lambda v: "",
    ("consent", "principal"): lambda v: f"principal.value eq {quoted(v)}",
    ("account", "subject"): lambda v: f"{ABOUT}:subject eq {quoted(v)}",
    ("credential", "name"): lambda v: f"name eq {quoted(v)}",
    ("credential", "thumbprint"): lambda v: f"thumbprint eq {quoted(v)}",
    ("grant", "principal"): lambda v: f"principal.value eq {quoted(v)}",
    ("credential", "principal"): lambda v: f"principal.value eq {quoted(v)}",
}


def filter_of(query: Query) -> str:
    """The SCIM filter of a query; empty: all there are."""
    if query.field in ("id", "external_id"):
        return f"{'id' if query.field == 'id' else 'externalId'} eq {quoted(query.value)}"
    return _FILTERS[query.kind, query.field](query.value)


def answers(query: Query, thing: Thing) -> bool:
    """Is the thing an answer to the query? User names ignore case (RFC 7643 §4.1.1), the rest does not."""
    value = query.value
    if query.field == "id":
        return thing.id == value
    if query.field == "external_id":
        return thing.external_id == value
    if query.field == "all":
        return True
    if query.field == "everyone":
        return thing.get("everyone") is True
    if query.field == "member":
        return value in thing.get("members")
    if query.field == "under":
        path = str(thing.get("path"))
        return path.rpartition("/")[0] == value
    have = thing.get(query.field)
    if query.kind in ("account", "team"):
        return str(have).lower() == value.lower()
    return bool(have == value)


class Wire(NamedTuple):
    """Where resources stand at one tenant: its base address, and the endpoint of each of our kinds."""

    base: str
    endpoints: Mapping[str, str]
    about: bool
    team: bool = False

    def link(self, kind: str, identity: str) -> Json:
        return {"value": identity, "$ref": f"{self.base}{self.endpoints.get(kind, '')}/{identity}"}


def body_of(wire: Wire, kind: str, external_id: str, fields: Mapping[str, Any]) -> Json:
    """The SCIM body of a creation."""
    body: Json = {"schemas": [SCHEMAS[kind]], "externalId": external_id}
    if kind == "account":
        body |= {"userName": fields["name"], "displayName": fields["display"], "active": fields.get("active", True)}
        about = {n: fields[n] for n in ABOUT_FIELDS if fields.get(n)}
        about |= {theirs: True for ours, theirs in WEB_ONLY.items() if fields.get(ours)}
        if wire.about and about:
            body["schemas"].append(ABOUT)
            body[ABOUT] = about
    elif kind == "team":
        body["displayName"] = fields["name"]
        about = {n: fields[n] for n in (*TEAM_FIELDS, "reach") if fields.get(n)}
        if wire.team and about:
            body["schemas"].append(TEAM)
            body[TEAM] = {n: list(v) if n == "reach" else v for n, v in about.items()}
    elif kind == "role":
        body |= {"name": fields["name"], "display": fields["display"], "breadth": "curated",
                 "permissions": _permissions(fields["permissions"])}
    elif kind == "grant":
        body |= {"principal": wire.link(fields.get("carrier") or "account", fields["principal"]),
                 "role": wire.link("role", fields["role_id"]),
                 "place": wire.link("account" if fields["place"].startswith("@") else "place", fields["place_id"])}
        body |= _given({"reason": fields.get("reason"), "validFrom": fields.get("from"),
                        "validUntil": fields.get("until"),
                        "labels": [{"name": n, "value": v} for n, values in fields.get("where") or () for v in values]})
    elif kind == "client":
        body |= _given({n: _json(fields.get(n)) for n in CLIENT_FIELDS}) | {"requests": _requests(fields["requests"])}
    elif kind == "principal":
        body |= {"clientId": fields["client_id"], "displayName": fields["display"], "active": fields["active"]}
    elif kind == "rule":
        body |= _given({theirs: _json(fields.get(ours)) for ours, theirs in RULE_FIELDS.items()})
        body["targets"] = [wire.link("account", fields["target"])]
    elif kind == "consent":
        body |= {"principal": wire.link("principal", fields["principal"])}
        body |= _given({n: _json(fields.get(n)) for n in CONSENT_FIELDS})
    elif kind == "credential":
        body |= {"principal": wire.link(fields.get("carrier") or "account", fields["principal"]), "name": fields["name"],
                 "kind": fields["kind"], "active": fields["active"]}
        body |= _given({"publicKey": fields.get("public_key"), "validUntil": fields.get("until"),
                        "limits": fields.get("limits")})
        if isinstance(fields.get("password"), Secret):  # revealed here and nowhere before
            body |= {"password": fields["password"].reveal(), "mustChange": False, "mailed": False}
    return body


def _permissions(permissions: Any) -> list[Json]:
    return [{"value": p, "class": c} for p, c in permissions]


def _requests(asked: Any) -> list[Json]:
    return [{"api": api, "scope": scope, "acts": acts} for api, scope, acts in asked]


def _json(value: Any) -> Any:
    return list(value) if isinstance(value, tuple) else value


def _given(values: Json) -> Json:
    return {name: value for name, value in values.items() if value}


_CHANGES = {"account": {"name": "userName", "display": "displayName", "active": "active",
                        **{n: f"{ABOUT}:{n}" for n in ABOUT_FIELDS},
                        "methods": f"{ABOUT}:methods", **{n: f"{ABOUT}:{t}" for n, t in WEB_ONLY.items()}},
            "team": {"name": "displayName", "reach": f"{TEAM}:reach", **{n: f"{TEAM}:{n}" for n in TEAM_FIELDS}},
            "role": {"display": "display", "permissions": "permissions"},
            "client": {n: n for n in ("name", "redirects", "requests", *TEAM_FIELDS)},
            "rule": RULE_FIELDS, "grant": {"reason": "reason"}, "credential": {"active": "active"}}


def changes_of(kind: str, fields: Mapping[str, Any]) -> Json:
    """SCIM attribute paths and their new values; empty text removes an attribute."""
    names = _CHANGES[kind]
    forms: dict[str, Callable[[Any], Any]] = {"permissions": _permissions, "requests": _requests,
                                               "reach": list, "redirects": list, "networks": list,
                                               "methods": list}
    return {names[name]: (forms.get(name, lambda v: v)(value) if value not in ("", ()) else None)
            for name, value in fields.items()}


def listed(attribute: str, value: str, *, add: bool, about: Mapping[str, Any] | None = None) -> Json:
    """The PATCH message that puts a value into a list of values, or takes it out (RFC 7644 §3.5.2.1, §3.5.2.2)."""
    operation: Json = {"op": "add", "path": attribute, "value": [{"value": value, **(about or {})}]} if add else \
        {"op": "remove", "path": f"{attribute}[value eq {quoted(value)}]"}
    return {"schemas": [PATCH_OP], "Operations": [operation]}


def _text(value: Any) -> str:
    return plain(value) if isinstance(value, str) else ""


def _instant(value: Any) -> str | None:
    try:
        return format_instant(parse_instant(value)) if isinstance(value, str) else None
    except ValueError:
        return None


def _part(resource: Json, name: str, sub: str) -> str:
    inner = resource.get(name)
    return _text(inner.get(sub)) if isinstance(inner, dict) else ""


def _list(value: Any) -> list[Json]:
    return [v for v in value if isinstance(v, dict)] if isinstance(value, list) else []


def _texts(value: Any) -> tuple[str, ...]:
    return tuple(_text(v) for v in value if isinstance(v, str)) if isinstance(value, list) else ()


def _extension(resource: Json, urn: str) -> Json:
    inner = resource.get(urn)
    return inner if isinstance(inner, dict) else {}


def _labels(resource: Json) -> tuple[tuple[str, str], ...]:
    return tuple((_text(v.get("name")), _text(v.get("value"))) for v in _list(resource.get("labels")))


def _where(labels: tuple[tuple[str, str], ...]) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """A label rule: each name with its values, in order."""
    names = sorted({n for n, _ in labels})
    return tuple((name, tuple(sorted(v for n, v in labels if n == name))) for name in names)


_FIELDS: dict[str, Callable[[Json], Json]] = {
    "account": lambda r: {
        "name": _text(r.get("userName")), "display": _text(r.get("displayName")), "active": r.get("active", True),
        **{n: _part(r, ABOUT, n) for n in (*ABOUT_FIELDS, "progress")},
        **{ours: _extension(r, ABOUT).get(theirs) is True for ours, theirs in WEB_ONLY.items()},
        "second_factor": _part(r, ABOUT, "secondFactor"), "methods": _texts(_extension(r, ABOUT).get("methods"))},
    "team": lambda r: {
        "name": _text(r.get("displayName")), "display": _text(r.get("displayName")), "active": True,
        **{n: _part(r, TEAM, n) for n in TEAM_FIELDS},
        "members": tuple(_text(m.get("value")) for m in _list(r.get("members"))),
        "joined": tuple((_text(j.get("value")), _instant(j.get("since"))) for j in _list(_extension(r, TEAM).get("joined"))),
        "reach": _texts(_extension(r, TEAM).get("reach")), "everyone": _extension(r, TEAM).get("everyone") is True},
    "role": lambda r: {
        "name": _text(r.get("name")), "display": _text(r.get("display")), "breadth": _text(r.get("breadth")),
        "permissions": tuple((_text(p.get("value")), _text(p.get("class"))) for p in _list(r.get("permissions"))),
        "grantable_at": _texts(r.get("grantableAt")), "custom": r.get("custom") is True},
    "place": lambda r: {"path": _text(r.get("path")), "kind": _text(r.get("kind")),
                        "display": _text(r.get("display")), "test": r.get("testObject") is True,
                        "location": _text(r.get("location")), "labels": _labels(r),
                        "made": _instant(_part(r, "meta", "created")),
                        "services": tuple((_text(s.get("value")), _instant(s.get("since"))) for s in _list(r.get("services")))},
    "grant": lambda r: {
        "principal": _part(r, "principal", "value"), "role": _part(r, "role", "display"),
        "place": "@" + _part(r, "place", "value") if _part(r, "place", "type") == "User" else _part(r, "place", "display"),
        "place_name": _part(r, "place", "display"), "principal_name": _part(r, "principal", "display"),
        "where": _where(_labels(r)), "from": _instant(r.get("validFrom")), "until": _instant(r.get("validUntil")),
        "reason": _text(r.get("reason")), "progress": _text(r.get("progress")), "made": _instant(_part(r, "meta", "created"))},
    "client": lambda r: {
        "name": _text(r.get("name")), "client_id": _text(r.get("clientId")), "audience": _text(r.get("audience")),
        "confidential": r.get("confidential") is not False, "redirects": _texts(r.get("redirects")),
        "requests": tuple(sorted((_text(a.get("api")), _text(a.get("scope")), _text(a.get("acts")))
                                 for a in _list(r.get("requests")))),
        **{n: _text(r.get(n)) for n in TEAM_FIELDS}},
    "principal": lambda r: {
        "name": _text(r.get("displayName")) or _text(r.get("clientId")), "display": _text(r.get("displayName")),
        "client_id": _text(r.get("clientId")), "active": r.get("active") is not False, "kind": "client"},
    "api": lambda r: {
        "name": _text(r.get("name")), "display": _text(r.get("display")),
        "scopes": tuple({**{n: _text(s.get(n)) for n in ("value", "display", "class")}, "acts": _texts(s.get("acts")),
                         "narrowed_to": _text(s.get("narrowedTo")), "always": s.get("always") is True}
                        for s in _list(r.get("scopes")))},
    "consent": lambda r: {
        "principal": _part(r, "principal", "value"), "principal_name": _part(r, "principal", "display"),
        **{n: _text(r.get(n)) for n in ("api", "scope", "acts")}, "only": tuple(sorted(_texts(r.get("only")))),
        "by": _text(r.get("consentedBy")), "made": _instant(_part(r, "meta", "created"))},
    "rule": lambda r: {
        "name": _text(r.get("name")), "enabled": r.get("enabled") is not False, "everyone": r.get("everyone") is True,
        "targets": tuple(_text(t.get("value")) for t in _list(r.get("targets"))),
        "narrowable": r.get("narrowable") is not False,
        "exempt": tuple((_text(e.get("value")), _text(e.get("acceptedBy")), _text(e.get("why")), _text(e.get("review")))
                        for e in _list(r.get("exempt"))), "blocks": r.get("blocks") is True,
        "applies_to": _text(r.get("appliesTo")) or "any", "demands": _texts(r.get("demands")),
        "networks": _texts(r.get("networks"))},
    "licence": lambda r: {
        "name": _text(r.get("name")), "kind": _text(r.get("kind")), "total": _whole(r.get("total")) or 0,
        "mailbox": r.get("mailbox") is True, "holders": tuple(_text(h.get("value")) for h in _list(r.get("holders")))},
    "credential": lambda r: {
        "principal": _part(r, "principal", "value"), "name": _text(r.get("name")), "kind": _text(r.get("kind")),
        "thumbprint": _text(r.get("thumbprint")), "until": _instant(r.get("validUntil")),
        "from": _instant(r.get("validFrom")), "active": r.get("active") is True, "public_key": r.get("publicKey"),
        "limits": _texts(r.get("limits")), "must_change": r.get("mustChange") is True, "mailed": r.get("mailed") is True,
        "expires": r.get("expires") is True if isinstance(r.get("expires"), bool) else None},
}


def thing_of(kind: str, resource: Json) -> Thing:
    """A SCIM resource in our words; text is made safe to show, ids and versions are kept verbatim."""
    meta = resource.get("meta")
    version = meta.get("version") if isinstance(meta, dict) else ""
    return Thing(kind, str(resource.get("id", "")), _FIELDS[kind](resource), str(version or ""),
                 str(resource.get("externalId") or ""))


def _whole(value: Any) -> int | None:
    return value if isinstance(value, int) and not isinstance(value, bool) and value >= 0 else None


def profile_of(resource: Json | None, wire: Wire, issuer: str) -> Profile:
    """A TenantProfile in our words; without one, what the resource types alone tell."""
    kinds = frozenset([*wire.endpoints, *(["account-about"] if wire.about else []), *(["team-about"] if wire.team else [])])
    if resource is None:
        return Profile(issuer=issuer, kinds=kinds)
    limits = resource.get("limits") if isinstance(resource.get("limits"), dict) else {}
    administrator = resource.get("administrator") if isinstance(resource.get("administrator"), dict) else {}
    assert isinstance(limits, dict)
    assert isinstance(administrator, dict)
    operations = {}
    for entry in _list(resource.get("permissions")):
        name = _text(entry.get("value"))
        operations[name] = Operation(name, _text(entry.get("class")), _text(entry.get("method")),
                                     _text(entry.get("template")), _text(entry.get("service")),
                                     entry.get("located") is True, _texts(entry.get("needs")), _text(entry.get("api")))
    unique, inactive = resource.get("externalIdUnique"), resource.get("bornInactive")
    return Profile(
        name=_text(resource.get("name")), title=_text(resource.get("title")), stage=_text(resource.get("stage")),
        issuer=issuer or str(resource.get("issuer") or ""), decisions=str(resource.get("decisions") or ""),
        work=str(resource.get("work") or ""), external_id_unique=unique if isinstance(unique, bool) else None,
        born_inactive=inactive if isinstance(inactive, bool) else None,
        secret_delivery=_text(resource.get("secretDelivery")), assertion_seconds=_whole(limits.get("assertionSeconds")),
        token_seconds=_whole(limits.get("tokenSeconds")), keys_per_principal=_whole(limits.get("keysPerPrincipal")),
        credential_seconds=_whole(limits.get("credentialSeconds")),
        arrival_seconds=_whole(limits.get("arrivalSeconds")), answer_items=_whole(limits.get("answerItems")),
        felt_seconds=_whole(limits.get("feltSeconds")), windows_on_broad=resource.get("windowsOnBroad") is not False,
        preconditions=tuple(Precondition(
            _text(p.get("what")), tuple(_KIND_OF[t] for t in _texts(p.get("types")) if t in _KIND_OF), p.get("met") is True,
            _text(p.get("about"))) for p in _list(resource.get("preconditions"))),
        accounts_live_in=_text(resource.get("accountsLiveIn")), accounts_drafted=resource.get("accountsDrafted") is True,
        limits_compulsory=resource.get("limitsCompulsory") is True, credential_kinds=_texts(resource.get("credentialKinds")),
        windows_on_everyone=resource.get("windowsOnEveryone") is not False, organisations=_texts(resource.get("organisations")),
        operations=operations, administrator=_text(administrator.get("name")),
        powers=frozenset(_text(p) for p in administrator.get("powers") or ()) if administrator else None, kinds=kinds)
