"""What a resource says, as a typed value of its kind: the side of a codec that reads."""

from __future__ import annotations

from sigillum.core.kinds import access, delegating, identities, machines, signing, trusting, workloads

from .codec import OWN
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


def account_of(r: Json) -> identities.Account:
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


def team_of(r: Json) -> identities.Team:
    about = inner(r, TEAM)
    return identities.Team(
        text(r.get("displayName")),
        tuple(text(m.get("value")) for m in many(r.get("members"))),
        tuple((text(j.get("value")), instant(j.get("since"))) for j in many(about.get("joined"))),
        texts(about.get("reach")),
        about.get("everyone") is True,
        **{n: text(about.get(n)) for n in ANSWERS},
    )


def client_of(r: Json) -> identities.Client:
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


def principal_of(r: Json) -> identities.Principal:
    return identities.Principal(text(r.get("clientId")), text(r.get("displayName")), r.get("active") is not False)


def place_of(r: Json) -> access.Place:
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


def role_of(r: Json) -> access.Role:
    permissions = tuple((text(p.get("value")), text(p.get("class"))) for p in many(r.get("permissions")))
    return access.Role(
        text(r.get("name")),
        text(r.get("display")),
        text(r.get("breadth")),
        permissions,
        texts(r.get("grantableAt")),
        r.get("custom") is True,
    )


def grant_of(r: Json) -> access.Grant:
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


def api_of(r: Json) -> access.Api:
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


def consent_of(r: Json) -> access.Consent:
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


def rule_of(r: Json) -> signing.SignInRule:
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


def trust_of(r: Json) -> trusting.Trust:
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


def delegation_of(r: Json) -> delegating.Delegation:
    return delegating.Delegation(
        part(r, "principal", "value"),
        text(r.get("domain")),
        texts(r.get("people")),
        texts(r.get("scopes")),
        instant(r.get("lastUsedAt")),
        part(r, "principal", "display"),
    )


def local_of(r: Json) -> workloads.LocalAccount:
    links = tuple((text(one.get("value")), text(one.get("issuer"))) for one in many(r.get("links")))
    return workloads.LocalAccount(
        text(r.get("name")), text(r.get("compartment")), text(r.get("uid")), text(r.get("subject")), links
    )


def workload_of(r: Json) -> workloads.Workload:
    return workloads.Workload(
        text(r.get("name")),
        text(r.get("compartment")),
        text(r.get("account")),
        texts(r.get("groups")),
        tuple(text(one.get("runsAs")) for one in many(r.get("instances"))),
        instant(r.get("startedAt")),
    )


def machines_of(r: Json) -> workloads.MachineGroup:
    return workloads.MachineGroup(text(r.get("name")), text(r.get("identities")), r.get("madeLater") is True)


def machine_of(r: Json) -> machines.Machine:
    return machines.Machine(
        text(r.get("name")),
        part(r, "principal", "value"),
        part(r, "principal", "display"),
        text(r.get("standsAt")),
        text(r.get("size")),
    )


def licence_of(r: Json) -> signing.Licence:
    return signing.Licence(
        text(r.get("name")),
        text(r.get("kind")),
        whole(r.get("total")) or 0,
        r.get("mailbox") is True,
        tuple(text(h.get("value")) for h in many(r.get("holders"))),
    )


def credential_of(r: Json) -> signing.Credential:
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


NEVER_YEAR = 9999  # an end in that year stands for none
