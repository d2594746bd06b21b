"""Filling a tenant with what a world file describes: when it is made, and when the description of a running one changes."""

from __future__ import annotations

import secrets
import uuid
from collections.abc import Callable
from datetime import timedelta
from typing import Any

from sigillum.sandbox.scim.attributes import ACCOUNT, TEAM
from sigillum.sandbox.scim.schemas import KINDS
from sigillum.sandbox.scim.store import Store

from .clock import Clock, moment_of, stamp
from .file import POWERS
from .merging import labels, merged
from .world import HOLDS_ITEMS, Admin, Tenant, hash_of

Json = dict[str, Any]
LONG_AGO = timedelta(days=30)
SWITCHED = {"asked": "on", "waived": "off"}  # no words that some readers of YAML take for flags
TOLD = 500  # resources between two words about how far it is


Tokens = dict[str, str]  # of administrators, by name


def build(name: str, described: Json, base: str, clock: Clock, tokens: Tokens, tell: Callable[[str], None]) -> Tenant:
    """Make a tenant; `tokens` gets each administrator's token, and `tell` is told how far that is."""
    tenant = Tenant(name, described, f"{base}/{name}", clock, Store(clock))
    tenant.store.unique_external_ids = bool(described.get("external_id_unique", True))
    _administrators(tenant, tokens)
    _populate(tenant, tell)
    tenant.follow(described)  # what stands at the beginning is not on its way
    return tenant


def change(tenant: Tenant, described: Json, tokens: Tokens, tell: Callable[[str], None]) -> None:
    """Bring a running tenant to another description: what it adds is made, what it changes is changed, what it no longer has
    is ended. What was done at the tenant meanwhile stays.
    """
    tenant.follow(described)
    _administrators(tenant, tokens)
    _populate(tenant, tell)


def _administrators(tenant: Tenant, tokens: Tokens) -> None:
    """Those that are described; whoever was there before keeps the token."""
    for name in [n for n in tokens if n not in {a["name"] for a in tenant.described.get("admins", [])}]:
        del tokens[name]
    for admin in tenant.described.get("admins", []):
        tokens[admin["name"]] = str(admin.get("token") or tokens.get(admin["name"]) or secrets.token_urlsafe(24))
    tenant.admins = [
        Admin(
            a["name"],
            frozenset(POWERS if a.get("powers") == "all" else a.get("powers", ["look"])),
            str(a.get("domain", "")),
            hash_of(tokens[a["name"]]),
        )
        for a in tenant.described.get("admins", [])
    ]


class _Populating:
    """Fills a new tenant; what stands at the beginning was made long before, unless it says when."""

    def __init__(self, tenant: Tenant, tell: Callable[[str], None]) -> None:
        self.tell = tell
        self.tenant, self.ids, self.made = tenant, dict[tuple[str, str], str](), dict[tuple[str, str], tuple[str, Json]]()
        self.before = tenant.clock.now() - LONG_AGO

    def add(self, kind: str, name: str, data: Json, made: str | None = None) -> str:
        """Make it, or where it stands already, change what is described otherwise than before; its id."""
        schemas = [KINDS[kind].schema.id] + [k for k in data if k in (ACCOUNT, TEAM)]
        given = {"schemas": schemas, **{k: v for k, v in data.items() if v is not None}}
        store, known = self.tenant.store, self.tenant.made.get((kind, name))
        now = store.current(KINDS[kind], known[0]) if known is not None else None
        if known is not None and now is not None:
            if known[1] != given:
                store.update(KINDS[kind], known[0], merged(now, known[1], given))
            identity = known[0]
        else:
            record = store.create(KINDS[kind], dict(given))
            record.created = record.changed = moment_of(made) if made else self.before
            record.past[0] = (record.created, record.past[0][1], record.created, record.version)
            identity = record.id
        if len(self.made) % TOLD == 0:
            self.tell(f"{self.tenant.name}: {len(self.made):,} resources")
        self.ids[kind, name] = identity
        self.made[kind, name] = (identity, given)
        return identity

    def end_the_rest(self) -> None:
        """What the description no longer has."""
        for (kind, name), (identity, _) in self.tenant.made.items():
            if (kind, name) not in self.made and self.tenant.store.current(KINDS[kind], identity) is not None:
                self.tenant.store.delete(KINDS[kind], identity)
        self.tenant.made = self.made

    def standing(self, kind: str, name: str) -> Json:
        """What stands of it already."""
        known = self.tenant.made.get((kind, name))
        return (self.tenant.store.current(KINDS[kind], known[0]) or {}) if known is not None else {}

    def user(self, name: str, kind: str, about: Json) -> None:
        words = {"second_factor": "secondFactor"}
        told = {
            words.get(k, k): SWITCHED.get(about[k], about[k]) if k == "second_factor" else about[k]
            for k in ("purpose", "owner", "deputy", "stage", "organisation", "location", "subject", "methods", "second_factor")
            if k in about
        }
        self.add(
            "User",
            name,
            {
                "userName": name,
                "displayName": about.get("display", name),
                "active": about.get("active", True),
                "emails": [{"value": about["email"], "type": "work"}] if about.get("email") else None,
                ACCOUNT: {"kind": kind, **told},
            },
            about.get("made"),
        )

    def member(self, name: str) -> Json:
        kind = next(k for k in ("User", "ServicePrincipal", "Group") if (k, name) in self.ids)
        return {"value": self.ids[kind, name], "type": kind}

    def team(self, described: Json) -> None:
        """A team; of `joined` members it is known since when they are in."""
        about: Json = {k: described[k] for k in ("purpose", "owner", "deputy", "stage", "reach", "everyone") if k in described}
        members = [self.member(m) for m in described.get("members", [])]
        known = bool(self.standing("Group", described["name"]))
        fresh = sorted(described.get("joined", []) if not known else [], key=lambda j: j["at"])
        identity = self.add(
            "Group",
            described["name"],
            {"displayName": described["name"], "members": members, **({TEAM: about} if about or fresh else {})},
        )
        record = self.tenant.store.records["Group"][identity]
        for one in fresh:
            members = [*members, self.member(one["member"])]
            joined = [*about.get("joined", []), {"value": members[-1]["value"], "since": one["at"]}]
            about = {**about, "joined": joined}
            record.data = {**(record.data or {}), "members": members, TEAM: about}
            record.past.append((moment_of(one["at"]), record.data, moment_of(one["at"]), record.version))
        self.tenant.store.note(KINDS["Group"], identity, record.data or {})

    def role(self, role: Json) -> None:
        classes = self.tenant.permissions
        self.add(
            "Role",
            role["name"],
            {
                "name": role["name"],
                "display": role.get("display", role["name"]),
                "breadth": role.get("breadth", "curated"),
                "grantableAt": role.get("grantable_at"),
                "permissions": [{"value": p, "class": classes.get(p, {}).get("class", "looks")} for p in role["permissions"]],
            },
        )

    def place(self, place: Json) -> None:
        self.add(
            "Place",
            place["path"],
            {
                "path": place["path"],
                "kind": place.get("kind"),
                "display": place.get("display"),
                "testObject": place.get("test_object"),
                "location": place.get("location"),
                "billing": place.get("billing"),
                "labels": labels(place.get("labels")),
                "services": [{"value": s} for s in place.get("services", [])] or None,
            },
            place.get("made"),
        )
        if place["path"] not in self.tenant.streams and (place.get("kind") in HOLDS_ITEMS or "items" in place):
            self.tenant.streams[place["path"]] = list(place.get("items", []))

    def grant(self, grant: Json) -> None:
        at = str(grant["at"])
        place = {"value": self.ids["User", at[1:]], "type": "User"} if at.startswith("@") else {"value": self.ids["Place", at]}
        self.add(
            "Grant",
            f"{grant['to']} {grant['role']} {at}",
            {
                "principal": self.member(grant["to"]),
                "role": {"value": self.ids["Role", grant["role"]]},
                "place": place,
                "reason": grant.get("reason"),
                "validFrom": grant.get("from"),
                "validUntil": grant.get("until"),
                "labels": labels(grant.get("where")),
            },
            grant.get("made"),
        )

    def client(self, client: Json) -> None:
        """A registration with its service principal, and what was consented."""
        asked = [{"api": p["api"], "scope": p["scope"], "acts": p["acts"]} for p in client.get("permissions", [])]
        client_id = self.standing("Client", client["name"]).get("clientId") or secrets.token_hex(8)
        identity = self.add(
            "Client",
            client["name"],
            {
                "name": client["name"],
                "clientId": client_id,
                "audience": "tenant",
                "confidential": True,
                "requests": asked or None,
                **{k: client[k] for k in ("owner", "purpose", "redirects") if k in client},
            },
        )
        record = self.tenant.store.records["Client"][identity].data or {}
        principal = self.add(
            "ServicePrincipal", client["name"], {"clientId": record["clientId"], "displayName": client["name"], "active": True}
        )
        for one in client.get("permissions", []):
            if one.get("consented_by"):
                self.add(
                    "Consent",
                    f"{client['name']} {one['api']} {one['scope']} {one['acts']}",
                    {
                        "principal": {"value": principal},
                        "api": one["api"],
                        "scope": one["scope"],
                        "acts": one["acts"],
                        "only": one.get("only"),
                        "consentedBy": one["consented_by"],
                    },
                )

    def api(self, api: Json) -> None:
        self.add(
            "Api",
            api["name"],
            {
                "name": api["name"],
                "display": api.get("display"),
                "scopes": [
                    {
                        "value": s["scope"],
                        "display": s.get("display"),
                        "class": s.get("class", "looks"),
                        "acts": s.get("acts", ["on-behalf", "alone"]),
                        **({"narrowedTo": s["narrowed_to"]} if "narrowed_to" in s else {}),
                        **({"always": True} if s.get("always") else {}),
                    }
                    for s in api["scopes"]
                ],
            },
        )

    def sign_in_rule(self, rule: Json) -> None:
        words = {"applies_to": "appliesTo"}
        self.add(
            "SignInRule",
            rule["name"],
            {
                "enabled": True,
                **{words.get(k, k): v for k, v in rule.items() if k not in ("targets", "exempt")},
                "targets": [self.member(t) for t in rule.get("targets", [])] or None,
                "exempt": [
                    {"value": self.ids["User", e], "acceptedBy": "nils.brack", "review": "2027-06-01"}
                    for e in rule.get("exempt", [])
                ]
                or None,
            },
        )

    def licence(self, licence: Json) -> None:
        self.add(
            "Licence",
            licence["name"],
            {**licence, "holders": [{"value": self.ids["User", h]} for h in licence.get("holders", [])] or None},
        )

    def delegation(self, delegation: Json) -> None:
        kind = "Client" if ("Client", delegation["to"]) in self.ids else "User"
        self.add(
            "Delegation",
            f"{delegation['to']} {delegation['domain']}",
            {
                **{n: delegation[n] for n in ("domain", "people", "scopes")},
                "principal": {"value": self.ids[kind, delegation["to"]], "type": kind},
            },
        )

    def cluster(self) -> None:
        """Groups of machines, local accounts, and what runs as them."""
        described = self.tenant.described
        for group in described.get("machine_groups", []):
            self.add(
                "MachineGroup",
                group["name"],
                {
                    "name": group["name"],
                    "identities": group.get("identities", "machine"),
                    "madeLater": group.get("made_later") or None,
                },
            )
        began = stamp(self.before)
        for local in described.get("local_accounts", []):
            where, name = local["compartment"], local["name"]
            self.add(
                "LocalAccount",
                f"{where} {name}",
                {
                    "name": name,
                    "compartment": where,
                    "subject": f"{self.tenant.name}:{where}:{name}",
                    "linkedAt": began,
                    "uid": local.get("uid") or str(uuid.uuid5(uuid.NAMESPACE_OID, f"{self.tenant.name} {where} {name}")),
                    "links": [{"value": local["acts_as"], "issuer": local.get("acts_at")}] if local.get("acts_as") else None,
                },
            )
        for one in described.get("workloads", []):
            self.add(
                "Workload",
                one["name"],
                {**{n: one.get(n) for n in ("name", "compartment", "account", "groups")}, "startedAt": began},
            )

    def credential(self, credential: Json) -> None:
        name, used = f"{credential['of']} {credential['name']}", credential.get("last_used")
        usual = self.standing("Credential", name).get("validUntil") or stamp(self.tenant.clock.now() + LONG_AGO)
        identity = self.add(
            "Credential",
            name,
            {
                "principal": {"value": self.ids["User", credential["of"]]},
                "name": credential["name"],
                "kind": credential.get("kind", "key-pair"),
                "limits": credential.get("limits") or None,
                "active": credential.get("active", True),
                "validFrom": credential.get("from"),
                "validUntil": credential.get("until") or usual,
            },
            credential.get("made"),
        )
        if used:  # a use that was seen here is newer
            self.tenant.used.setdefault(identity, (moment_of(used), credential.get("last_used_from", "")))


def _populate(tenant: Tenant, tell: Callable[[str], None]) -> None:
    described, fill = tenant.described, _Populating(tenant, tell)
    for place in described.get("places", []):
        fill.place(place)
    for role in described.get("roles", []):
        fill.role(role)
    for word, kind in (("people", "person"), ("accounts", "service-account"), ("foreign", "foreign")):
        for about in described.get(word, []):
            fill.user(about["name"], kind, about)
    for number in range(int(described.get("crowd", 0))):  # many principals, for measuring
        fill.add("User", f"crowd-{number}", {"userName": f"crowd-{number}", "active": True})
    for team in described.get("teams", []):
        fill.team(team)
    for api in described.get("apis", []):
        fill.api(api)
    for client in described.get("clients", []):
        fill.client(client)
    for rule in described.get("sign_in_rules", []):
        fill.sign_in_rule(rule)
    for licence in described.get("licences", []):
        fill.licence(licence)
    for grant in described.get("grants", []):
        fill.grant(grant)
    for delegation in described.get("delegations", []):
        fill.delegation(delegation)
    for credential in described.get("credentials", []):
        fill.credential(credential)
    fill.cluster()
    for host in described.get("hosts", []):
        account = {"principal": {"value": fill.ids["User", host["account"]]}} if host.get("account") else {}
        about = {"name": host["name"], "standsAt": host.get("at"), "size": host.get("size")}
        fill.add("Machine", host["name"], {**about, **account})
    fill.end_the_rest()
