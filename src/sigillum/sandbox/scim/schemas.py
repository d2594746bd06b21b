"""The attribute definitions of every resource type that the sandbox serves (RFC 7643 §7 and our own types)."""

from __future__ import annotations

from .attributes import ACCOUNT, CORE, TEAM, Attr, Kind, Schema, link, plural, schema

USER = schema(
    "User",
    "A person, or a user-shaped account",
    *(
        Attr("userName", required=True, uniqueness="server"),
        Attr(
            "name",
            "complex",
            sub=tuple(
                Attr(n) for n in ("formatted", "familyName", "givenName", "middleName", "honorificPrefix", "honorificSuffix")
            ),
        ),
        Attr("displayName"),
        Attr("nickName"),
        Attr("profileUrl", "reference", refs=("external",)),
        Attr("title"),
        Attr("userType"),
        Attr("preferredLanguage"),
        Attr("locale"),
        Attr("timezone"),
        Attr("active", "boolean"),
        Attr("password", mutability="writeOnly", returned="never", exact=True),
        plural("emails", "work", "home", "other"),
        plural("phoneNumbers", "work", "home", "mobile", "fax", "pager", "other"),
        plural("ims"),
        plural("photos", "photo", "thumbnail", value=Attr("value", "reference", refs=("external",))),
        Attr(
            "addresses",
            "complex",
            multi=True,
            sub=(
                *(Attr(n) for n in ("formatted", "streetAddress", "locality", "region", "postalCode", "country")),
                Attr("type", canonical=("work", "home", "other")),
                Attr("primary", "boolean"),
            ),
        ),
        Attr(
            "groups",
            "complex",
            multi=True,
            mutability="readOnly",
            sub=(
                Attr("value", exact=True, mutability="readOnly"),
                Attr("$ref", "reference", mutability="readOnly", refs=("Group",)),
                Attr("display", mutability="readOnly"),
                Attr("type", mutability="readOnly", canonical=("direct", "indirect")),
            ),
        ),
        plural("entitlements"),
        plural("roles"),
        plural("x509Certificates", value=Attr("value", "binary", exact=True)),
    ),
    prefix=CORE,
)

GROUP = schema(
    "Group",
    "A team",
    Attr("displayName", required=True),
    link("members", "User", "Group", multi=True, mutability="readWrite", typed=True),
    prefix=CORE,
)

PROGRESS = Attr(
    "progress",
    mutability="readOnly",
    exact=True,
    canonical=("accepted", "ready", "failed"),
    about="accepted: it is still being made, and counts for nothing yet",
)
ANSWERABLE = (
    Attr("purpose", about="What it is for"),
    Attr("owner", about="Who answers for it"),
    Attr("deputy", about="Who answers when the owner is away"),
    Attr("stage", exact=True, about="dev, test, prod ..."),
)
SERVICE_ACCOUNT = Schema(
    ACCOUNT,
    "ServiceAccount",
    (
        Attr("kind", canonical=("person", "service-account", "foreign"), exact=True, about="What the account is for"),
        *ANSWERABLE,
        Attr("organisation", exact=True, about="Of a foreign principal: where it lives, or the issuer that knows it"),
        Attr("subject", exact=True, about="Of a foreign principal that is a client elsewhere: its client id there"),
        Attr("location", exact=True, about="Where its program runs"),
        Attr("area", exact=True, mutability="immutable", about="The place in which the account lives; none: installation-wide"),
        Attr(
            "secondFactor",
            exact=True,
            canonical=("on", "off"),
            about="The account's own switch; a tenant-wide rule decides over it",
        ),
        Attr("methods", multi=True, exact=True, about="Registered ways of proving a second factor"),
        Attr("mailbox", "boolean", about="True: it has a mailbox of its own, which a licence must include"),
        Attr("webOnly", "boolean", about="True: it signs in at the web interface with its password, and nowhere else"),
        PROGRESS,
    ),
    "What a user-shaped account of a program says about itself",
)

TEAM_ABOUT = Schema(
    TEAM,
    "Team",
    (
        *ANSWERABLE,
        Attr("reach", multi=True, exact=True, about="Places in which its grants count; none: everywhere"),
        Attr("everyone", "boolean", mutability="readOnly", about="True: every principal of this tenant is in it"),
        Attr(
            "joined",
            "complex",
            multi=True,
            mutability="readOnly",
            about="Since when each member is in it",
            sub=(Attr("value", exact=True, mutability="readOnly"), Attr("since", "dateTime", mutability="readOnly")),
        ),
    ),
    "What a team says about itself, and how far it reaches",
)

LABELS = (Attr("name", exact=True), Attr("value", exact=True))

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

PERMISSIONS = Attr(
    "permissions",
    "complex",
    multi=True,
    sub=(
        Attr("value", exact=True, about="thing.verb"),
        Attr("class", exact=True, canonical=("looks", "changes-data", "manages", "administers")),
    ),
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

# Suggested values that stand for "no beginning" and "no end".
ALWAYS, NEVER = "1970-01-01T00:00:00Z", "9999-12-31T23:59:59Z"
WINDOW = (
    Attr("validFrom", "dateTime", mutability="immutable", canonical=(ALWAYS,)),
    Attr("validUntil", "dateTime", mutability="immutable", canonical=(NEVER,), about="First instant at which it holds no more"),
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

CREDENTIAL = schema(
    "Credential",
    "What a principal proves itself with; a client's hang on its registration",
    link("principal", "User", "Client", required=True, typed=True),
    Attr("name", mutability="immutable", exact=True),
    Attr(
        "kind",
        mutability="immutable",
        exact=True,
        canonical=("key-pair", "certificate", "api-token", "shared-secret", "password"),
    ),
    Attr(
        "publicKey",
        "complex",
        mutability="immutable",
        about="A public JWK (RFC 7517)",
        sub=tuple(Attr(n, exact=True, mutability="immutable") for n in ("kty", "crv", "x", "y", "n", "e")),
    ),
    Attr("certificate", exact=True, mutability="immutable", about="Of a certificate: base64 of its DER (RFC 5280)"),
    Attr(
        "thumbprint",
        mutability="readOnly",
        exact=True,
        about="RFC 7638, SHA-256, of the public key; of a certificate its x5t#S256 (RFC 7515 §4.1.8)",
    ),
    *WINDOW,
    Attr(
        "limits",
        multi=True,
        mutability="immutable",
        exact=True,
        about="Permissions it is narrowed to; none: all that its principal has",
    ),
    Attr("active", "boolean", about="False: it proves nothing yet, or no more"),
    Attr("password", exact=True, mutability="writeOnly", returned="never", about="Of a password: the password itself"),
    Attr("mustChange", "boolean", about="Of a password: true where it has to be changed at the first sign-in"),
    Attr("mailed", "boolean", mutability="immutable", about="Of a password: true where it is sent by mail"),
    Attr("expires", "boolean", about="Does it end by itself? Of a password: false switches that off"),
    Attr("lastUsedAt", "dateTime", mutability="readOnly", about="Does not change the version"),
    Attr("lastUsedFrom", exact=True, mutability="readOnly", about="The address from which it was used last"),
)

ACTS = Attr(
    "acts",
    exact=True,
    mutability="immutable",
    canonical=("on-behalf", "alone"),
    about="on-behalf: of people who are signed in; alone: without anybody",
)
REQUESTED = (Attr("api", exact=True), Attr("scope", exact=True), Attr("acts", exact=True, canonical=ACTS.canonical))

CLIENT = schema(
    "Client",
    "An OAuth client registration; what acts here is its service principal",
    Attr("name", required=True, about="For reading; two clients can have one name"),
    Attr("clientId", exact=True, mutability="readOnly", uniqueness="server", about="What it presents (RFC 6749 §2.2)"),
    Attr("audience", exact=True, mutability="immutable", canonical=("tenant", "any"), about="Where it may be used"),
    Attr("confidential", "boolean", mutability="immutable", about="False: it can keep no secret (RFC 6749 §2.1)"),
    Attr("redirects", multi=True, exact=True, about="Redirect addresses (RFC 6749 §3.1.2)"),
    Attr("requests", "complex", multi=True, about="API permissions it asks for; they hold once consented", sub=REQUESTED),
    *ANSWERABLE,
)

SERVICE_PRINCIPAL = schema(
    "ServicePrincipal",
    "What a client is in this tenant: to it roles are granted and permissions consented",
    Attr("clientId", required=True, exact=True, mutability="immutable", uniqueness="server"),
    Attr("displayName"),
    Attr("active", "boolean"),
    *ANSWERABLE[:2],
)

API = schema(
    "Api",
    "An interface whose permissions a client can ask for",
    Attr("name", required=True, exact=True, uniqueness="server"),
    Attr("display"),
    Attr(
        "scopes",
        "complex",
        multi=True,
        sub=(
            Attr("value", exact=True),
            Attr("display"),
            Attr("class", exact=True),
            Attr("acts", multi=True, exact=True, canonical=ACTS.canonical),
            Attr("narrowedTo", exact=True, about="Kind of place that a consent can narrow it to; none: it cannot be narrowed"),
            Attr("always", "boolean", about="True: every client has it, without asking"),
        ),
    ),
)

CONSENT = schema(
    "Consent",
    "An administrator's approval that a client uses a scope of an API",
    link("principal", "ServicePrincipal", required=True),
    Attr("api", required=True, exact=True, mutability="immutable"),
    Attr("scope", required=True, exact=True, mutability="immutable"),
    ACTS,
    Attr("only", multi=True, exact=True, mutability="immutable", about="Paths of the places that it is narrowed to"),
    Attr("consentedBy", exact=True, mutability="readOnly"),
)

TRUST = schema(
    "Trust",
    "Whose tokens from outside may act as a principal",
    link("principal", "User", required=True),
    Attr("name", required=True, exact=True, mutability="immutable"),
    Attr("issuer", required=True, exact=True, mutability="immutable"),
    Attr("audience", required=True, exact=True, mutability="immutable"),
    Attr("keys", exact=True, mutability="immutable", about="discovery, or a key set as JSON (RFC 7517 §5)"),
    Attr("subject", exact=True, mutability="immutable"),
    Attr("conditions", multi=True, exact=True, mutability="immutable", about="Each as JSON: a claim and one test"),
    Attr("actsAs", exact=True, mutability="immutable", about="The claim that has to be the account's name, as JSON"),
)

DELEGATION = schema(
    "Delegation",
    "A client's or account's right to act for people",
    link("principal", "User", "Client", required=True, typed=True),
    Attr("domain", required=True, exact=True, mutability="immutable", about="Whose people"),
    Attr("people", multi=True, exact=True, about="all, user names, or team: and the name of a team"),
    Attr("scopes", multi=True, exact=True, about="OAuth scopes that it may use (RFC 6749 §3.3)"),
    Attr("lastUsedAt", "dateTime", mutability="readOnly", about="Does not change the version"),
)

LOCAL_ACCOUNT = schema(
    "LocalAccount",
    "A cluster's own account, as which its workloads run",
    Attr("name", required=True, exact=True, mutability="immutable"),
    Attr("compartment", required=True, exact=True, mutability="immutable", about="The part of the cluster where it is known"),
    Attr("uid", exact=True, mutability="readOnly", about="No later account of the same name gets it"),
    Attr("subject", exact=True, mutability="readOnly", about="What its workloads' tokens say (RFC 7519 §4.1.2)"),
    Attr(
        "links",
        "complex",
        multi=True,
        about="As whom it acts at other tenants, one at each",
        sub=(
            Attr("value", exact=True, about="The principal id there"),
            Attr("issuer", exact=True, about="That tenant's issuer"),
        ),
    ),
    Attr("linkedAt", "dateTime", mutability="readOnly", about="Since when they are as they are"),
)

WORKLOAD = schema(
    "Workload",
    "A program on a cluster",
    Attr("name", required=True, exact=True, mutability="immutable"),
    Attr("compartment", required=True, exact=True, mutability="immutable"),
    Attr("account", exact=True, about="The local account as which it is to run"),
    Attr("groups", multi=True, exact=True, about="Groups of machines on which it runs"),
    Attr("startedAt", "dateTime", mutability="readOnly", about="When it was started last"),
    Attr(
        "instances",
        "complex",
        multi=True,
        mutability="readOnly",
        about="What runs of it, and as whom",
        sub=(
            Attr("group", exact=True, mutability="readOnly"),
            Attr("startedAt", "dateTime", mutability="readOnly"),
            Attr("runsAs", exact=True, mutability="readOnly", about="The subject of its tokens"),
        ),
    ),
)

MACHINE_GROUP = schema(
    "MachineGroup",
    "Machines of a cluster that are made alike",
    Attr("name", required=True, exact=True, mutability="immutable"),
    Attr(
        "identities",
        exact=True,
        canonical=("machine", "workload"),
        about="machine: all that runs there shares the machine's identity; workload: each has that of its local account",
    ),
    Attr("madeLater", "boolean", mutability="readOnly", about="True: no group, but how those are that will be made"),
    PROGRESS,
)

MACHINE = schema(
    "Machine",
    "A machine, and whose identity is attached to it",
    Attr("name", required=True, exact=True, mutability="immutable", uniqueness="server"),
    link("principal", "User", mutability="readWrite"),
    Attr("standsAt", exact=True, mutability="immutable", about="The path of a place"),
    Attr("size", exact=True, mutability="immutable", about="As prices name it"),
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
