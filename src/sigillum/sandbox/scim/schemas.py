"""The attribute definitions of every resource type that the sandbox serves (RFC 7643 §7 and our own types)."""

from __future__ import annotations

from .attributes import Attr, Kind, link, schema
from .schema_identities import (
    API,
    CLIENT,
    CONSENT,
    CREDENTIAL,
    DELEGATION,
    GROUP,
    LABELS,
    LOCAL_ACCOUNT,
    MACHINE,
    MACHINE_GROUP,
    PERMISSIONS,
    PROGRESS,
    SERVICE_ACCOUNT,
    SERVICE_PRINCIPAL,
    TEAM_ABOUT,
    TRUST,
    USER,
    WINDOW,
    WORKLOAD,
)

PLACE = schema(
    "Place",
    "A node of the resource tree",
    Attr(
        "path",
        required=True,
        exact=True,
        mutability="immutable",
        uniqueness="server",
        about="Segments with slashes between, from the root",
    ),
    Attr("kind", exact=True, about="organisation, project, stream ..."),
    Attr("display"),
    Attr("testObject", "boolean", about="True: may be changed by a trial without harm"),
    Attr(
        "services",
        "complex",
        multi=True,
        about="Switched on here and below",
        sub=(Attr("value", exact=True), Attr("since", "dateTime", mutability="readOnly")),
    ),
    Attr("billing", exact=True, about="The billing account that pays for it and for what is below"),
    Attr("location", exact=True, about="Where it lies; holds below, too, until a place says otherwise"),
    Attr("labels", "complex", multi=True, about="Hold below, too, until a place says otherwise", sub=LABELS),
)


ROLE = schema(
    "Role",
    "A named set of permissions",
    Attr("name", required=True, exact=True, uniqueness="server"),
    Attr("display"),
    Attr("breadth", exact=True, canonical=("broad", "curated")),
    PERMISSIONS,
    Attr("grantableAt", multi=True, exact=True, about="Kinds of place where it can be granted; none: anywhere"),
    Attr("custom", "boolean", mutability="readOnly", about="True: an administrator made it"),
)


GRANT = schema(
    "Grant",
    "A principal holds a role at a place and below it",
    link("principal", "User", "Group", "ServicePrincipal", required=True, typed=True),
    link("role", "Role", required=True),
    link("place", "Place", "User", required=True, typed=True),
    *WINDOW,
    Attr("reason"),
    Attr(
        "labels",
        "complex",
        multi=True,
        mutability="immutable",
        sub=LABELS,
        about="It counts only at places that bear, of each name, one of the values",
    ),
    PROGRESS,
    Attr("state", mutability="readOnly", exact=True, canonical=("waiting", "in-force", "ended")),
)


SIGN_IN_RULE = schema(
    "SignInRule",
    "What is demanded at sign-in, and of whom; every rule that applies has to be met",
    Attr("name", required=True, exact=True, uniqueness="server"),
    Attr("enabled", "boolean"),
    Attr("everyone", "boolean", mutability="immutable", about="True: the tenant-wide default"),
    link("targets", "User", "Group", multi=True, mutability="readWrite", typed=True),
    Attr(
        "exempt",
        "complex",
        multi=True,
        about="Accounts that it does not apply to, each with who accepted the risk",
        sub=(Attr("value", exact=True), Attr("acceptedBy", exact=True), Attr("why"), Attr("review", exact=True)),
    ),
    Attr("narrowable", "boolean", mutability="immutable", about="False: it knows no exemptions, it is on or off"),
    Attr("appliesTo", exact=True, canonical=("any", "interactive", "non-interactive")),
    Attr("demands", multi=True, exact=True, canonical=("second-factor", "device")),
    Attr("networks", multi=True, exact=True, about="From these only; none: from anywhere"),
    Attr("blocks", "boolean"),
)

LICENCE = schema(
    "Licence",
    "What has to be held to use something",
    Attr("name", required=True, exact=True, uniqueness="server"),
    Attr("display"),
    Attr("kind", exact=True, mutability="immutable", canonical=("per-user", "capacity")),
    Attr("total", "integer", mutability="immutable"),
    Attr("mailbox", "boolean", about="True: it includes a mailbox"),
    link("holders", "User", multi=True, mutability="readWrite"),
)

TENANT_PROFILE = schema(
    "TenantProfile",
    "What this tenant is, can do and allows; administrators may add drafts",
    Attr("inForce", "boolean", mutability="readOnly", about="True: this tenant follows it; the others are drafts"),
    Attr("name", required=True, exact=True),
    Attr("title"),
    Attr("stage", exact=True),
    Attr("addresses", exact=True, mutability="readOnly", about="The domain of the addresses that its accounts have"),
    Attr("directory", multi=True, exact=True, mutability="readOnly", about="Permissions to look after the directory itself"),
    Attr("signing", multi=True, exact=True, mutability="readOnly", about="What having it sign for an account takes over that"),
    *(
        Attr(n, "reference", refs=("uri",), mutability="readOnly", about=a)
        for n, a in (
            ("signer", "Where it signs for accounts that have no key"),
            ("issuer", "The OAuth authorization server (RFC 8414)"),
            ("decisions", "The AuthZEN evaluation endpoint"),
            ("work", "Where the working interface begins"),
            ("store", "Of a secret store: where secrets are read, written and destroyed, by their paths"),
        )
    ),
    Attr("externalIdUnique", "boolean", mutability="readOnly"),
    Attr("bornInactive", "boolean", mutability="readOnly", about="True: a credential can be made inactive and activated later"),
    Attr("secretDelivery", exact=True, mutability="readOnly", canonical=("sealed", "once")),
    Attr(
        "limits",
        "complex",
        mutability="readOnly",
        sub=tuple(
            Attr(n, "integer", mutability="readOnly")
            for n in (
                "assertionSeconds",
                "tokenSeconds",
                "keysPerPrincipal",
                "credentialSeconds",
                "arrivalSeconds",
                "answerItems",
                "feltSeconds",
            )
        ),
    ),
    Attr("locations", multi=True, exact=True, mutability="readOnly", about="In a row, neighbours beside each other"),
    Attr(
        "prices",
        "complex",
        multi=True,
        mutability="readOnly",
        about="What services and licences cost",
        sub=(
            Attr("of", exact=True, mutability="readOnly"),
            Attr("price", mutability="readOnly"),
            Attr("size", exact=True, mutability="readOnly"),
            Attr("freeIn", multi=True, exact=True, mutability="readOnly", about="Locations in which it is free"),
            Attr("checked", exact=True, mutability="readOnly", about="The day on which it was looked at last"),
        ),
    ),
    Attr("acting", exact=True, mutability="readOnly", about="The permission by which one acts as a principal"),
    Attr(
        "accountsLiveIn",
        exact=True,
        mutability="readOnly",
        about="Kind of place in which an account lives, unless it is installation-wide",
    ),
    Attr(
        "accountsDrafted",
        "boolean",
        mutability="readOnly",
        about="True: an account is born inactive, and takes roles after it was switched on",
    ),
    Attr("endedCount", "boolean", mutability="readOnly", about="True: credentials that ended by themselves count, too"),
    Attr("repeatedKeys", "boolean", mutability="readOnly", about="True: a principal's key can be registered again"),
    Attr("limitsCompulsory", "boolean", mutability="readOnly", about="True: an API token must be narrowed"),
    Attr(
        "lastUsed",
        exact=True,
        mutability="readOnly",
        canonical=("second", "day", "none"),
        about="How exactly it tells when a credential was used last",
    ),
    Attr(
        "assertionAlgorithms",
        multi=True,
        exact=True,
        mutability="readOnly",
        about="By which assertions may be signed; none: by all of them",
    ),
    Attr("credentialKinds", multi=True, exact=True, mutability="readOnly", about="Kinds of credential that it takes"),
    Attr("windowsOnBroad", "boolean", mutability="readOnly", about="False: a broad role takes no window"),
    Attr("windowsOnEveryone", "boolean", mutability="readOnly", about="False: a grant to everyone takes no window"),
    Attr(
        "permissions",
        "complex",
        multi=True,
        mutability="readOnly",
        sub=(
            Attr("value", exact=True, mutability="readOnly"),
            Attr("class", exact=True, mutability="readOnly"),
            Attr("method", exact=True, mutability="readOnly"),
            Attr("template", exact=True, mutability="readOnly", about="Path below `work`; {place} stands for the place's path"),
            Attr("service", exact=True, mutability="readOnly", about="Must be switched on at the place or above"),
            Attr("licence", mutability="readOnly", exact=True, about="the licence that the principal has to hold"),
            Attr("located", "boolean", mutability="readOnly", about="True: principal and place must have one location"),
            Attr(
                "needs",
                multi=True,
                exact=True,
                mutability="readOnly",
                about="permission@kind: needed too, at the nearest enclosing place of that kind",
            ),
            Attr(
                "takes",
                multi=True,
                exact=True,
                mutability="readOnly",
                about="Kinds of credential, trust, delegation: with which one may have signed in; none: all",
            ),
            Attr("checked", exact=True, mutability="readOnly", about="The day on which that was looked at last"),
            Attr("api", exact=True, mutability="readOnly", about="A client needs consent to this scope of that API"),
        ),
    ),
    Attr(
        "preconditions",
        "complex",
        multi=True,
        mutability="readOnly",
        about="What has to be so before some types can be made",
        sub=(
            Attr(
                "what",
                exact=True,
                mutability="readOnly",
                canonical=("verified-organisation", "owner", "native-account"),
                about="For the asking administrator",
            ),
            Attr("types", multi=True, exact=True, mutability="readOnly"),
            Attr("met", "boolean", mutability="readOnly"),
            Attr("about", mutability="readOnly"),
        ),
    ),
    Attr(
        "organisations",
        multi=True,
        exact=True,
        mutability="readOnly",
        about="Issuers whose clients can be foreign principals here",
    ),
    Attr(
        "administrator",
        "complex",
        mutability="readOnly",
        about="Who is asking",
        sub=(Attr("name", mutability="readOnly", exact=True), Attr("powers", multi=True, mutability="readOnly", exact=True)),
    ),
)

KINDS: dict[str, Kind] = {
    k.name: k
    for k in (
        Kind("User", "Users", USER, "accounts", (SERVICE_ACCOUNT,), ("userName",), ("userName",)),
        Kind("Group", "Groups", GROUP, "teams", (TEAM_ABOUT,), ("displayName", "members.value")),
        Kind("Place", "Places", PLACE, "places", (), ("path",), ("path",)),
        Kind("Role", "Roles", ROLE, "roles", (), ("name",), ("name",)),
        Kind("Grant", "Grants", GRANT, "grants", (), ("principal.value", "place.value")),
        Kind("Credential", "Credentials", CREDENTIAL, "credentials", (), ("principal.value",)),
        Kind("Client", "Clients", CLIENT, "clients", (), ("name", "clientId")),
        Kind("ServicePrincipal", "ServicePrincipals", SERVICE_PRINCIPAL, "clients", (), ("clientId",), ("clientId",)),
        Kind("Api", "Apis", API, "tenant", (), ("name",), ("name",)),
        Kind("Consent", "Consents", CONSENT, "consents", (), ("principal.value",)),
        Kind("Trust", "Trusts", TRUST, "trusts", (), ("principal.value", "name")),
        Kind("Delegation", "Delegations", DELEGATION, "delegations", (), ("principal.value",)),
        Kind("LocalAccount", "LocalAccounts", LOCAL_ACCOUNT, "workloads", (), ("name", "subject", "links.value")),
        Kind("Workload", "Workloads", WORKLOAD, "workloads", (), ("name", "account")),
        Kind("MachineGroup", "MachineGroups", MACHINE_GROUP, "workloads", (), ("name",), ("name",)),
        Kind("Machine", "Machines", MACHINE, "machines", (), ("name", "principal.value"), ("name",)),
        Kind("SignInRule", "SignInRules", SIGN_IN_RULE, "rules", (), ("name", "targets.value"), ("name",)),
        Kind("Licence", "Licences", LICENCE, "licences", (), ("name", "holders.value"), ("name",)),
        Kind("TenantProfile", "TenantProfiles", TENANT_PROFILE, "tenant"),
    )
}
BY_ENDPOINT = {k.endpoint.lower(): k for k in KINDS.values()}
