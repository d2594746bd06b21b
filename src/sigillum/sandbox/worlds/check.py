"""Reading a world file: what its parts say of each other, and every mistake at once with its place."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Collection, Iterator
from pathlib import Path
from typing import Any

from sigillum.reading import FileError, Mistake, did_you_mean
from sigillum.reading.document import Document, Spot, parse, read_text
from sigillum.reading.models import json_schema, validate
from sigillum.sandbox.scim.attributes import Kind
from sigillum.sandbox.scim.schemas import KINDS

from .file import World

Json = dict[str, Any]
MAX_BYTES, MAX_NODES = 2_000_000, 400_000


def schema() -> Json:
    """The JSON Schema of world files, for editors."""
    return json_schema(World, {}, "A world file of the sandbox")


def read(path: Path) -> Json:
    """The plain data of a world file. Raises FileError with every mistake at once."""
    return check(read_text(path, str(path), most=MAX_BYTES), str(path))


def check(text: str, shown: str) -> Json:
    """The same of a text. Raises FileError."""
    document = parse(text, shown, most=MAX_NODES)
    mistakes = list[Mistake]()
    try:
        validate(World, document)
    except FileError as problem:
        mistakes += problem.mistakes
    tenants = document.data.get("tenants") if isinstance(document.data, dict) else None
    for name, described in tenants.items() if isinstance(tenants, dict) else ():
        try:
            mistakes += _Tenant(document, name, described).mistakes()
        except (AttributeError, TypeError, LookupError):  # it has not the form that is looked into, which was told above
            if not mistakes:
                raise
    if mistakes:
        raise FileError("", where=shown, mistakes=tuple(mistakes))
    data: Json = json.loads(json.dumps(document.data))  # aliases of YAML are the same object: each tenant gets its own
    return data


def as_json(problem: FileError) -> list[Json]:
    """Its mistakes as JSON, for whoever asked from outside."""
    return [
        {
            "code": m.code,
            "what": m.what,
            "do": m.mend,
            "file": m.position.file,
            "line": m.position.line,
            "column": m.position.column,
        }
        for m in problem.mistakes
        if m.position is not None
    ] or [{"code": problem.code, "what": problem.what, "do": problem.mend, "file": problem.where, "line": 0, "column": 0}]


class _Tenant:
    """What the parts of one tenant say of each other."""

    def __init__(self, document: Document, name: str, described: Json) -> None:
        self.document, self.name, self.described = document, name, described
        self.places = self.names("places", key="path")
        self.accounts, self.teams = self.names("people", "accounts", "foreign"), self.names("teams")
        self.clients, self.roles = self.names("clients"), self.names("roles")
        self.permissions = frozenset(described.get("permissions", {}))
        self.identities = self.accounts | self.clients
        self.principals = self.identities | self.teams

    def each(self, word: str) -> list[Json]:
        return list(self.described.get(word) or [])

    def names(self, *words: str, key: str = "name") -> frozenset[str]:
        return frozenset(one[key] for word in words for one in self.each(word))

    def mistake(self, spot: Spot, code: str, what: str, mend: str) -> Mistake:
        return Mistake(code, what, mend, self.document.position(("tenants", self.name, *spot)))

    def unknown(self, spot: Spot, what: str, value: str, among: Collection[str]) -> Iterator[Mistake]:
        """A near miss, where something names what is not there."""
        if value not in among:
            yield self.mistake(
                spot,
                f"{what.replace(' ', '-')}-unknown",
                f"{self.name} has no {what} {value!r}",
                did_you_mean(value, among) or "describe it, or leave this out",
            )

    def mistakes(self) -> Iterator[Mistake]:
        if not self.described.get("admins"):
            yield self.mistake(
                (), "admins-missing", f"{self.name} has no administrator", "add `admins: [{name: ..., powers: all}]`"
            )
        yield from self.twice()
        yield from self.tree()
        yield from self.rights()
        yield from self.members()
        yield from self.clients_and_rules()
        yield from self.types()
        for word in ("grants", "credentials"):
            for n, one in enumerate(self.each(word)):
                if one.get("from") and one.get("until") and one["from"] >= one["until"]:
                    yield self.mistake(
                        (word, n, "until"), "window-empty", "`until` does not lie after `from`", "write a later `until`"
                    )

    def twice(self) -> Iterator[Mistake]:
        """Names that the tenant keeps unique."""
        sections = {
            "account": ("people", "accounts", "foreign"),
            "place": ("places",),
            "role": ("roles",),
            "team": ("teams",),
            "administrator": ("admins",),
            "client": ("clients",),
            "API": ("apis",),
            "rule": ("sign_in_rules",),
            "licence": ("licences",),
            "workload": ("workloads",),
            "machine group": ("machine_groups",),
            "host": ("hosts",),
            "local account": ("local_accounts",),
        }
        for what, words in sections.items():
            seen = Counter[str]()
            for word in words:
                key = "path" if word == "places" else "name"
                for n, one in enumerate(self.each(word)):
                    name = one[key].lower() if what == "account" else one[key]
                    if what == "local account":  # unique in its compartment alone
                        name = f"{one['compartment']} {name}"
                    seen[name] += 1
                    if seen[name] == 2:
                        yield self.mistake(
                            (word, n, key), "twice", f"there are two: the {what} {one[key]!r}", "keep one, or rename one"
                        )

    def tree(self) -> Iterator[Mistake]:
        before = set[str]()
        for n, place in enumerate(self.each("places")):
            above = place["path"].rpartition("/")[0]
            if above and above not in before:
                told = "stands after it" if above in self.places else "is not described"
                yield self.mistake(
                    ("places", n, "path"),
                    "place-above",
                    f"the place above, {above}, {told}",
                    did_you_mean(above, self.places) if above not in self.places else "write it before this one",
                )
            before.add(place["path"])

    def rights(self) -> Iterator[Mistake]:
        """Roles, permissions, grants and keys."""
        apis, licences = self.names("apis"), self.names("licences")
        for name, permission in self.described.get("permissions", {}).items():
            for field, what, known in (("api", "API", apis), ("licence", "licence", licences)):
                if permission.get(field):
                    yield from self.unknown(("permissions", name, field), what, permission[field], known)
            for i, needed in enumerate(permission.get("needs", [])):
                spot: Spot = ("permissions", name, "needs", i)
                yield from self.unknown(spot, "permission", needed.partition("@")[0], self.permissions)
        for n, role in enumerate(self.each("roles")):
            for i, permission in enumerate(role["permissions"]):
                yield from self.unknown(("roles", n, "permissions", i), "permission", permission, self.permissions)
        for n, grant in enumerate(self.each("grants")):
            yield from self.unknown(("grants", n, "role"), "role", grant["role"], self.roles)
            yield from self.unknown(("grants", n, "to"), "principal", grant["to"], self.principals)
            at = grant["at"]
            yield from (
                self.unknown(("grants", n, "at"), "account", at[1:], self.accounts)
                if at.startswith("@")
                else self.unknown(("grants", n, "at"), "place", at, self.places)
            )
        for n, delegation in enumerate(self.each("delegations")):
            yield from self.unknown(("delegations", n, "to"), "principal", delegation["to"], self.identities)
            for i, scope in enumerate(delegation["scopes"]):
                yield from self.unknown(("delegations", n, "scopes", i), "permission", scope, self.permissions)
        for n, host in enumerate(self.each("hosts")):
            if host.get("account"):
                yield from self.unknown(("hosts", n, "account"), "account", host["account"], self.accounts)
            if host.get("at"):
                yield from self.unknown(("hosts", n, "at"), "place", host["at"], self.places)
        for word in ("signing", "directory"):
            for n, right in enumerate(list[str](self.described.get(word) or [])):
                yield from self.unknown((word, n), "permission", right, self.permissions)
        locals_, groups = self.names("local_accounts"), self.names("machine_groups")
        for n, workload in enumerate(self.each("workloads")):
            yield from self.unknown(("workloads", n, "account"), "local account", workload.get("account", "default"), locals_)
            for i, group in enumerate(workload.get("groups", [])):
                yield from self.unknown(("workloads", n, "groups", i), "machine group", group, groups)
        for n, credential in enumerate(self.each("credentials")):
            yield from self.unknown(("credentials", n, "of"), "account", credential["of"], self.accounts)
            for i, limit in enumerate(credential.get("limits", [])):
                yield from self.unknown(("credentials", n, "limits", i), "permission", limit, self.permissions)

    def members(self) -> Iterator[Mistake]:
        known = set(self.accounts)  # and the teams above: a team can be in one that stands below it
        for n, team in enumerate(self.each("teams")):
            for i, member in enumerate(team.get("members", [])):
                yield from self.unknown(("teams", n, "members", i), "principal", member, known)
            for i, joined in enumerate(team.get("joined", [])):
                yield from self.unknown(("teams", n, "joined", i, "member"), "principal", joined["member"], known)
            for i, place in enumerate(team.get("reach", [])):
                yield from self.unknown(("teams", n, "reach", i), "place", place, self.places)
            known.add(team["name"])

    def clients_and_rules(self) -> Iterator[Mistake]:
        scopes = {a["name"]: [s["scope"] for s in a["scopes"]] for a in self.each("apis")}
        for n, client in enumerate(self.each("clients")):
            for i, wanted in enumerate(client.get("permissions", [])):
                spot: Spot = ("clients", n, "permissions", i)
                yield from self.unknown((*spot, "api"), "API", wanted["api"], scopes)
                if wanted["api"] in scopes:
                    yield from self.unknown((*spot, "scope"), "scope", wanted["scope"], scopes[wanted["api"]])
        for n, rule in enumerate(self.each("sign_in_rules")):
            for i, target in enumerate(rule.get("targets", [])):
                yield from self.unknown(("sign_in_rules", n, "targets", i), "principal", target, self.accounts | self.teams)
            for i, name in enumerate(rule.get("exempt", [])):
                yield from self.unknown(("sign_in_rules", n, "exempt", i), "account", name, self.accounts)
            if not (rule.get("everyone") or rule.get("targets")):
                yield self.mistake(
                    ("sign_in_rules", n),
                    "rule-nobody",
                    f"the rule {rule['name']} is for nobody",
                    "add `everyone: true`, or `targets`",
                )
        for n, licence in enumerate(self.each("licences")):
            holders = licence.get("holders", [])
            for i, holder in enumerate(holders):
                yield from self.unknown(("licences", n, "holders", i), "account", holder, self.accounts)
            if licence.get("kind", "per-user") == "per-user" and len(holders) > licence.get("total", 0):
                yield self.mistake(
                    ("licences", n, "holders"),
                    "licence-short",
                    f"{len(holders)} hold it, and there are {licence.get('total', 0)}",
                    "raise `total`",
                )

    def types(self) -> Iterator[Mistake]:
        """What is said about resource types, and about other tenants."""
        kinds: dict[str, Kind] = KINDS
        spots = list[tuple[Spot, str]]()
        spots += [(("without", n), name) for n, name in enumerate(self.described.get("without", []))]
        spots += [(("slow", name), name) for name in self.described.get("slow", {})]
        spots += [
            (("preconditions", n, "types", i), name)
            for n, p in enumerate(self.each("preconditions"))
            for i, name in enumerate(p.get("types", []))
        ]
        for spot, name in spots:
            yield from self.unknown(spot, "resource type", name, kinds)
        for n, other in enumerate(self.described.get("organisations", [])):
            if "://" not in other:
                yield from self.unknown(
                    ("organisations", n), "neighbour", other, [t for t in self.document.data["tenants"] if t != self.name]
                )
        lives = self.described.get("accounts_live_in")
        if lives and lives not in (found := [p.get("kind") or "" for p in self.each("places")]):
            yield self.mistake(
                ("accounts_live_in",),
                "kind-unknown",
                f"{self.name} has no place of the kind {lives!r}",
                did_you_mean(lives, found),
            )
