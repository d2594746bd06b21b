"""Schemas of people, accounts, teams, clients and what runs somewhere."""

from __future__ import annotations

from .attributes import ACCOUNT, CORE, TEAM, Attr, Schema, link, plural, schema

ALWAYS, NEVER = "1970-01-01T00:00:00Z", "9999-12-31T23:59:59Z"
WINDOW = (
    Attr("validFrom", "dateTime", mutability="immutable", canonical=(ALWAYS,)),
    Attr("validUntil", "dateTime", mutability="immutable", canonical=(NEVER,), about="First instant at which it holds no more"),
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


# Suggested values that stand for "no beginning" and "no end".
