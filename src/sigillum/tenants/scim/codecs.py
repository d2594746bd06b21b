"""One codec a kind: our words and SCIM's, side by side."""

from __future__ import annotations

from typing import Any

from sigillum.core.kinds import access, delegating, identities, machines, signing, trusting, workloads
from sigillum.core.kinds.kind import Part
from sigillum.core.values.secret import Secret

from .codec import OWN, Codec, Form, Wire, carried_by, link, named, same
from .readers import (
    ABOUT,
    ANSWERS,
    GROUP,
    PROFILE,
    TEAM,
    USER,
    account_of,
    api_of,
    client_of,
    consent_of,
    credential_of,
    delegation_of,
    grant_of,
    licence_of,
    local_of,
    machine_of,
    machines_of,
    place_of,
    principal_of,
    role_of,
    rule_of,
    team_of,
    trust_of,
    workload_of,
)
from .words import Json


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


CODECS: dict[str, Codec] = {
    c.kind.name: c
    for c in (
        Codec(
            identities.ACCOUNT,
            USER,
            account_of,
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
            team_of,
            {**named((("name", "displayName"),)), **same(*ANSWERS, "reach", prefix=f"{TEAM}:")},
            {"name": "displayName", "member": "members.value"},
            "/Groups",
            TEAM,
        ),
        Codec(
            identities.CLIENT,
            OWN + "Client",
            client_of,
            {**same("name", "redirects", "audience", "confidential", *ANSWERS), "requests": ("requests", _requests)},
            {"name": "name", "client_id": "clientId"},
        ),
        Codec(
            identities.PRINCIPAL,
            OWN + "ServicePrincipal",
            principal_of,
            named((("client_id", "clientId"), ("display", "displayName"), ("active", "active"))),
            {"client_id": "clientId", "display": "displayName"},
        ),
        Codec(access.PLACE, OWN + "Place", place_of, {}, {"path": "path"}),
        Codec(
            access.ROLE,
            OWN + "Role",
            role_of,
            {**same("name", "display"), "permissions": ("permissions", _permissions)},
            {"name": "name"},
            more=lambda part: {"breadth": "curated"},
        ),
        Codec(
            access.GRANT,
            OWN + "Grant",
            grant_of,
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
        Codec(access.API, OWN + "Api", api_of, {}, {"name": "name"}),
        Codec(
            access.CONSENT,
            OWN + "Consent",
            consent_of,
            {"principal": ("principal", link("principal")), **same("api", "scope", "acts", "only")},
            {"principal": "principal.value"},
        ),
        Codec(
            signing.RULE,
            OWN + "SignInRule",
            rule_of,
            {
                **named(
                    (
                        ("name", "name"),
                        ("enabled", "enabled"),
                        ("applies_to", "appliesTo"),
                        ("networks", "networks"),
                        ("blocks", "blocks"),
                        ("demands", "demands"),
                        ("everyone", "everyone"),
                    )
                ),
                "targets": ("targets", _targets),
            },
            {"name": "name"},
            beside={"accepted_by": "acceptedBy"},
        ),
        Codec(
            trusting.TRUST,
            OWN + "Trust",
            trust_of,
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
            delegation_of,
            {"principal": ("principal", carried_by), **same("domain", "people", "scopes")},
            {"principal": "principal.value"},
        ),
        Codec(
            workloads.LOCAL,
            OWN + "LocalAccount",
            local_of,
            same("name", "compartment"),
            {"name": "name", "links": "links.value"},
        ),
        Codec(workloads.WORKLOAD, OWN + "Workload", workload_of, {}, {"name": "name"}),
        Codec(workloads.GROUP, OWN + "MachineGroup", machines_of, same("identities"), {"name": "name"}),
        Codec(
            machines.MACHINE,
            OWN + "Machine",
            machine_of,
            {"principal": ("principal", link("account"))},
            {"name": "name", "principal": "principal.value"},
        ),
        Codec(signing.LICENCE, OWN + "Licence", licence_of, {}, {"name": "name"}),
        Codec(
            signing.CREDENTIAL,
            OWN + "Credential",
            credential_of,
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
