"""One codec a kind: our words and SCIM's, side by side."""

from __future__ import annotations

from typing import Any

from sigillum.core.kinds import access, delegating, identities, machines, signing, trusting, workloads
from sigillum.core.kinds.kind import Part
from sigillum.core.values.secret import Secret

from .codec import OWN, Codec, Form, Wire, carried_by, link, named, same
from .words import Json, created, inner, instant, many, part, text, texts, whole

USER = "urn:ietf:params:scim:schemas:core:2.0:User"
GROUP = "urn:ietf:params:scim:schemas:core:2.0:Group"
ABOUT, TEAM = OWN + "ServiceAccount", OWN + "Team"
PROFILE = OWN + "TenantProfile"
ANSWERS = ("purpose", "owner", "deputy", "stage")


def _labels(resource: Json) -> tuple[tuple[str, str], ...]:
    return tuple((text(v.get("name")), text(v.get("value"))) for v in many(resource.get("labels")))


def _where(labels: tuple[tuple[str, str], ...]) -> access.Where:
    """A label rule: each name with its values, in order."""
    return tuple((name, tuple(sorted(v for n, v in labels if n == name))) for name in sorted({n for n, _ in labels}))


def _account(r: Json) -> identities.Account:
    about = inner(r, ABOUT)
    return identities.Account(
        text(r.get("userName")),
        text(r.get("displayName")),
        r.get("active") is not False,
        text(about.get("kind")),
        **{n: text(about.get(n)) for n in (*ANSWERS, "location", "organisation", "subject", "area")},
        web_only=about.get("webOnly") is True,
        mailbox=about.get("mailbox") is True,
        second_factor=text(about.get("secondFactor")),
        methods=texts(about.get("methods")),
        address=_address(r),
    )


def _address(r: Json) -> str:
    """The primary one, or the only one (RFC 7643 §2.4)."""
    all_ = many(r.get("emails"))
    return text(next((a.get("value") for a in all_ if a.get("primary") is True or len(all_) == 1), ""))


def _team(r: Json) -> identities.Team:
    about = inner(r, TEAM)
    return identities.Team(
        text(r.get("displayName")),
        tuple(text(m.get("value")) for m in many(r.get("members"))),
        tuple((text(j.get("value")), instant(j.get("since"))) for j in many(about.get("joined"))),
        texts(about.get("reach")),
        about.get("everyone") is True,
        **{n: text(about.get(n)) for n in ANSWERS},
    )


def _client(r: Json) -> identities.Client:
    requests = sorted((text(a.get("api")), text(a.get("scope")), text(a.get("acts"))) for a in many(r.get("requests")))
    return identities.Client(
        text(r.get("name")),
        text(r.get("clientId")),
        text(r.get("audience")),
        r.get("confidential") is not False,
        texts(r.get("redirects")),
        tuple(requests),
        **{n: text(r.get(n)) for n in ANSWERS},
    )


def _principal(r: Json) -> identities.Principal:
    return identities.Principal(text(r.get("clientId")), text(r.get("displayName")), r.get("active") is not False)


def _place(r: Json) -> access.Place:
    services = tuple((text(s.get("value")), instant(s.get("since"))) for s in many(r.get("services")))
    return access.Place(
        text(r.get("path")),
        text(r.get("kind")),
        text(r.get("display")),
        r.get("testObject") is True,
        text(r.get("location")),
        _labels(r),
        created(r),
        services,
        text(r.get("billing")),
    )


def _role(r: Json) -> access.Role:
    permissions = tuple((text(p.get("value")), text(p.get("class"))) for p in many(r.get("permissions")))
    return access.Role(
        text(r.get("name")),
        text(r.get("display")),
        text(r.get("breadth")),
        permissions,
        texts(r.get("grantableAt")),
        r.get("custom") is True,
    )


def _grant(r: Json) -> access.Grant:
    spot = part(r, "place", "value")
    at = f"@{spot}" if part(r, "place", "type") == "User" else part(r, "place", "display")
    return access.Grant(
        part(r, "principal", "value"),
        part(r, "role", "display"),
        at,
        instant(r.get("validFrom")),
        instant(r.get("validUntil")),
        _where(_labels(r)),
        text(r.get("reason")),
        created(r),
        part(r, "role", "value"),
        spot,
        part(r, "place", "display"),
        part(r, "principal", "display"),
    )


def _api(r: Json) -> access.Api:
    return access.Api(
        text(r.get("name")),
        text(r.get("display")),
        tuple(
            access.Scope(
                text(s.get("value")),
                text(s.get("display")),
                text(s.get("class")),
                texts(s.get("acts")),
                text(s.get("narrowedTo")),
                s.get("always") is True,
            )
            for s in many(r.get("scopes"))
        ),
    )


def _consent(r: Json) -> access.Consent:
    return access.Consent(
        part(r, "principal", "value"),
        text(r.get("api")),
        text(r.get("scope")),
        text(r.get("acts")),
        tuple(sorted(texts(r.get("only")))),
        text(r.get("consentedBy")),
        created(r),
        part(r, "principal", "display"),
    )


def _rule(r: Json) -> signing.SignInRule:
    exempt = tuple(
        signing.Exemption(text(e.get("value")), text(e.get("acceptedBy")), text(e.get("why")), text(e.get("review")))
        for e in many(r.get("exempt"))
    )
    return signing.SignInRule(
        text(r.get("name")),
        r.get("enabled") is not False,
        r.get("everyone") is True,
        tuple(text(t.get("value")) for t in many(r.get("targets"))),
        r.get("narrowable") is not False,
        exempt,
        r.get("blocks") is True,
        text(r.get("appliesTo")) or "any",
        texts(r.get("demands")),
        texts(r.get("networks")),
    )


def _trust(r: Json) -> trusting.Trust:
    return trusting.Trust(
        part(r, "principal", "value"),
        text(r.get("name")),
        text(r.get("issuer")),
        text(r.get("audience")),
        text(r.get("keys")),
        text(r.get("subject")),
        texts(r.get("conditions")),
        text(r.get("actsAs")),
        part(r, "principal", "display"),
    )


def _delegation(r: Json) -> delegating.Delegation:
    return delegating.Delegation(
        part(r, "principal", "value"),
        text(r.get("domain")),
        texts(r.get("people")),
        texts(r.get("scopes")),
        instant(r.get("lastUsedAt")),
        part(r, "principal", "display"),
    )


def _local(r: Json) -> workloads.LocalAccount:
    links = tuple((text(one.get("value")), text(one.get("issuer"))) for one in many(r.get("links")))
    return workloads.LocalAccount(
        text(r.get("name")), text(r.get("compartment")), text(r.get("uid")), text(r.get("subject")), links
    )


def _workload(r: Json) -> workloads.Workload:
    return workloads.Workload(
        text(r.get("name")),
        text(r.get("compartment")),
        text(r.get("account")),
        texts(r.get("groups")),
        tuple(text(one.get("runsAs")) for one in many(r.get("instances"))),
        instant(r.get("startedAt")),
    )


def _machines(r: Json) -> workloads.MachineGroup:
    return workloads.MachineGroup(text(r.get("name")), text(r.get("identities")), r.get("madeLater") is True)


def _machine(r: Json) -> machines.Machine:
    return machines.Machine(
        text(r.get("name")),
        part(r, "principal", "value"),
        part(r, "principal", "display"),
        text(r.get("standsAt")),
        text(r.get("size")),
    )


def _licence(r: Json) -> signing.Licence:
    return signing.Licence(
        text(r.get("name")),
        text(r.get("kind")),
        whole(r.get("total")) or 0,
        r.get("mailbox") is True,
        tuple(text(h.get("value")) for h in many(r.get("holders"))),
    )


def _credential(r: Json) -> signing.Credential:
    expires, until = r.get("expires"), instant(r.get("validUntil"))
    return signing.Credential(
        part(r, "principal", "value"),
        text(r.get("name")),
        text(r.get("kind")),
        text(r.get("thumbprint")),
        until if until is not None and until.year < NEVER_YEAR else None,
        instant(r.get("validFrom")),
        r.get("active") is True,
        texts(r.get("limits")),
        r.get("mustChange") is True,
        r.get("mailed") is True,
        expires if isinstance(expires, bool) else None,
        instant(r.get("lastUsedAt")),
        text(r.get("lastUsedFrom")),
        tuple(sorted((n, text(v)) for n, v in inner(r, "publicKey").items())),
    )


# --- forms of what is sent ------------------------------------------------------------------------------------------
def _permissions(value: Any, part: Part, wire: Wire) -> list[Json]:
    return [{"value": p, "class": c} for p, c in value]


def _requests(value: Any, part: Part, wire: Wire) -> list[Json]:
    return [{"api": api, "scope": scope, "acts": acts} for api, scope, acts in value]


def _rules(value: Any, part: Part, wire: Wire) -> list[Json]:
    return [{"name": n, "value": v} for n, values in value for v in values]


def _targets(value: Any, part: Part, wire: Wire) -> list[Json]:
    return [wire.link("account", v) for v in value]


def _spot(value: Any, part: Part, wire: Wire) -> Json:
    return wire.link("account" if str(part.get("place", "")).startswith("@") else "place", value)


def _revealed(value: Any, part: Part, wire: Wire) -> Any:
    return value.reveal() if isinstance(value, Secret) else value  # here and nowhere before


def _der(value: Any, part: Part, wire: Wire) -> Any:
    return value["der"]


def _never_changed(part: Part) -> Json:
    """Of a password: nobody has to change it, and no mail carries it."""
    return {"mustChange": False, "mailed": False} if part.get("password") else {}


_WINDOW: dict[str, tuple[str, Form]] = named((("start", "validFrom"), ("until", "validUntil")))

NEVER_YEAR = 9999  # an end in that year stands for none

CODECS: dict[str, Codec] = {
    c.kind.name: c
    for c in (
        Codec(
            identities.ACCOUNT,
            USER,
            _account,
            {
                **named((("name", "userName"), ("display", "displayName"), ("active", "active"))),
                **same(*ANSWERS, "location", "organisation", "subject", "area", "mailbox", "methods", prefix=f"{ABOUT}:"),
                **named((("type", "kind"), ("web_only", "webOnly")), f"{ABOUT}:"),
            },
            {"name": "userName", "subject": f"{ABOUT}:subject"},
            "/Users",
            ABOUT,
        ),
        Codec(
            identities.TEAM,
            GROUP,
            _team,
            {**named((("name", "displayName"),)), **same(*ANSWERS, "reach", prefix=f"{TEAM}:")},
            {"name": "displayName", "member": "members.value"},
            "/Groups",
            TEAM,
        ),
        Codec(
            identities.CLIENT,
            OWN + "Client",
            _client,
            {**same("name", "redirects", "audience", "confidential", *ANSWERS), "requests": ("requests", _requests)},
            {"name": "name", "client_id": "clientId"},
        ),
        Codec(
            identities.PRINCIPAL,
            OWN + "ServicePrincipal",
            _principal,
            named((("client_id", "clientId"), ("display", "displayName"), ("active", "active"))),
            {"client_id": "clientId", "display": "displayName"},
        ),
        Codec(access.PLACE, OWN + "Place", _place, {}, {"path": "path"}),
        Codec(
            access.ROLE,
            OWN + "Role",
            _role,
            {**same("name", "display"), "permissions": ("permissions", _permissions)},
            {"name": "name"},
            more=lambda part: {"breadth": "curated"},
        ),
        Codec(
            access.GRANT,
            OWN + "Grant",
            _grant,
            {
                "principal": ("principal", carried_by),
                "role_id": ("role", link("role")),
                "place_id": ("place", _spot),
                **same("reason"),
                **_WINDOW,
                "where": ("labels", _rules),
            },
            {"principal": "principal.value", "role": "role.display", "itself": "place.value"},
        ),
        Codec(access.API, OWN + "Api", _api, {}, {"name": "name"}),
        Codec(
            access.CONSENT,
            OWN + "Consent",
            _consent,
            {"principal": ("principal", link("principal")), **same("api", "scope", "acts", "only")},
            {"principal": "principal.value"},
        ),
        Codec(
            signing.RULE,
            OWN + "SignInRule",
            _rule,
            {
                **named((("name", "name"), ("enabled", "enabled"), ("applies_to", "appliesTo"), ("networks", "networks"))),
                "targets": ("targets", _targets),
            },
            {"name": "name"},
            beside={"accepted_by": "acceptedBy"},
        ),
        Codec(
            trusting.TRUST,
            OWN + "Trust",
            _trust,
            {
                "principal": ("principal", carried_by),
                **same("name", "issuer", "audience", "keys", "subject"),
                **named((("when", "conditions"), ("acts_as", "actsAs"))),
            },
            {"principal": "principal.value", "name": "name"},
        ),
        Codec(
            delegating.DELEGATION,
            OWN + "Delegation",
            _delegation,
            {"principal": ("principal", carried_by), **same("domain", "people", "scopes")},
            {"principal": "principal.value"},
        ),
        Codec(
            workloads.LOCAL, OWN + "LocalAccount", _local, same("name", "compartment"), {"name": "name", "links": "links.value"}
        ),
        Codec(workloads.WORKLOAD, OWN + "Workload", _workload, {}, {"name": "name"}),
        Codec(workloads.GROUP, OWN + "MachineGroup", _machines, same("identities"), {"name": "name"}),
        Codec(
            machines.MACHINE,
            OWN + "Machine",
            _machine,
            {"principal": ("principal", link("account"))},
            {"name": "name", "principal": "principal.value"},
        ),
        Codec(signing.LICENCE, OWN + "Licence", _licence, {}, {"name": "name"}),
        Codec(
            signing.CREDENTIAL,
            OWN + "Credential",
            _credential,
            {
                "principal": ("principal", carried_by),
                **same("name", "active", "limits"),
                **named((("type", "kind"), ("public_key", "publicKey"))),
                "certificate": ("certificate", _der),
                **_WINDOW,
                **same("expires"),
                "password": ("password", _revealed),
            },
            {"principal": "principal.value", "name": "name", "thumbprint": "thumbprint"},
            more=_never_changed,
        ),
    )
}
KIND_OF_SCHEMA = {c.schema: name for name, c in CODECS.items()} | {PROFILE: "profile"}
KIND_OF_TYPE = {c.schema.rpartition(":")[2]: name for name, c in CODECS.items()}
USUAL_ENDPOINTS = {name: c.endpoint for name, c in CODECS.items() if c.endpoint}
