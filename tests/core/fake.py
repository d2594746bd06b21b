"""A tenant in memory: answers queries and carries out steps at once. Shares the words of the core, nothing else."""

from __future__ import annotations

import itertools
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

from sigillum.core.charter.charter import Charter
from sigillum.core.charter.rules import Rules
from sigillum.core.comparing.compare import MOST_ROUNDS, compare, needs, view_of
from sigillum.core.facets.common import View
from sigillum.core.kinds.facts import Fact, Operation, Profile, Query, Snapshot, Thing
from sigillum.core.records import history
from sigillum.core.records.chain import Entry
from sigillum.core.records.steps import (
    AddTo,
    Adopt,
    Catch,
    Change,
    Create,
    End,
    KeepKey,
    KeepSecret,
    Outline,
    Prove,
    Ref,
    Step,
    TakeFrom,
)
from sigillum.core.values.canonical import external_id, thumbprint
from sigillum.core.values.times import format_instant

NOW = datetime(2027, 3, 1, 12, 0, tzinfo=UTC)
KINDS = frozenset({"account", "account-about", "team", "team-about", "role", "place", "grant", "credential", "profile", "client",
                   "principal", "api", "consent", "rule", "licence"})
ROLES = {"reader": (("stream.read", "looks"),), "writer": (("stream.append", "changes-data"), ("stream.read", "looks")),
         "keeper": (("stream.delete", "changes-data"), ("stream.append", "changes-data"), ("stream.read", "looks"))}
TEAMS = ("crew", "ring")
PLACES = ("root", "root/a", "root/a/one", "root/b")
PROFILE = Profile(
    name="away", issuer="https://away.example", decisions="https://away.example/d", work="https://away.example/w",
    external_id_unique=True, born_inactive=True, secret_delivery="sealed", keys_per_principal=4, arrival_seconds=0,
    credential_seconds=180 * 86400, kinds=KINDS,
    powers=frozenset({"look", "accounts", "teams", "places", "roles", "grants", "credentials"}),
    operations={p: Operation(p, c, "POST", "/{place}", "store" if p == "stream.delete" else "") for r in ROLES.values() for p, c in r})


SCOPES = tuple({"value": n, "display": "", "class": "looks", "acts": a, "narrowed_to": k, "always": w} for n, a, k, w in (
    ("mail.send", ("on-behalf", "alone"), "box", False), ("mail.read", ("alone",), "", False), ("me.read", ("on-behalf",), "", True)))


def usual() -> dict[str, list[Thing]]:
    """What stands in a tenant at the beginning."""
    return {
        "role": [Thing("role", f"r-{n}", {"name": n, "permissions": p}) for n, p in ROLES.items()],
        "place": [Thing("place", f"p-{p}", {"path": p, "test": p.endswith("one"), "services": (),
                                            "kind": "box" if p.endswith("one") else ""}) for p in PLACES],
        "team": [Thing("team", f"t-{n}", {"name": n, "members": (), "reach": ()}) for n in TEAMS],
        "api": [Thing("api", "a-mail", {"name": "mail", "scopes": SCOPES})],
        "rule": [Thing("rule", f"s-{n}", {"name": n, "enabled": True, "everyone": w, "targets": t, "exempt": (), "demands": ("second-factor",),
                                          "networks": (), "narrowable": n != "fixed"}) for n, w, t in (
            ("default", True, ()), ("people", False, ("t-crew",)), ("fixed", True, ()))],
        "licence": [Thing("licence", f"l-{n}", {"name": n, "kind": k, "total": 1, "mailbox": n == "seat", "holders": ()})
                    for n, k in (("seat", "per-user"), ("space", "capacity"))],
        "account": [], "grant": [], "credential": [], "client": [], "principal": [], "consent": []}


@dataclass
class Fake:
    """State, ledger entries and kept keys of one charter's world."""

    profile: Profile = PROFILE
    now: datetime = NOW
    things: dict[str, list[Thing]] = field(default_factory=usual)
    far: dict[str, list[Thing]] = field(default_factory=usual)  # of the other tenant, which a charter may name
    entries: list[Entry] = field(default_factory=list)
    held: dict[tuple[str, int], str] = field(default_factory=dict)
    blind: frozenset[str] = frozenset()  # kinds that look-ups know nothing of
    hidden: set[str] = field(default_factory=set)  # ids that look-ups do not show yet
    numbers: Any = field(default_factory=lambda: itertools.count(1))

    def at(self, tenant: str) -> dict[str, list[Thing]]:
        return self.far if tenant == "far" else self.things

    def answer(self, query: Query, tenant: str = "away") -> Fact:
        if query.kind in self.blind:
            return Fact(unknown="not for you")

        def fits(thing: Thing) -> bool:
            if query.field in ("id", "external_id"):
                return bool(getattr(thing, query.field) == query.value)
            if query.field == "under":
                return str(thing.get("path")).rpartition("/")[0] == query.value
            if query.field == "member":
                return query.value in thing.get("members")
            if query.field == "everyone":
                return thing.get("everyone") is True
            return query.field == "all" or thing.get(query.field) == query.value
        return Fact(tuple(t for t in self.at(tenant)[query.kind] if t.id not in self.hidden and fits(t)))

    def view(self, charter: Charter, rules: Rules | None = None, *, adopt: bool = False, end_extra: bool = False) -> View:
        state = history.fold(self.entries, "uid")
        views: list[View] = []
        for tenant in (charter.tenant, *charter.elsewhere):
            snapshot = Snapshot(tenant, self.now, self.profile)
            view = view_of(charter, state, snapshot, rules or Rules(because=frozenset()), ("ws", "uid"), self.held, adopt=adopt, end_extra=end_extra)
            view.home = views[0] if views else None
            for _ in range(MOST_ROUNDS):
                asked = needs(view)
                if not asked:
                    break
                snapshot.facts.update({q: self.answer(q, tenant) for q in asked})
            views.append(view)
        views[0].guests = views[1:]
        return views[0]

    def compare(self, charter: Charter, rules: Rules | None = None, **more: bool) -> Outline:
        return compare(self.view(charter, rules, **more))

    def enact(self, charter: Charter, *, adopt: bool = False, most: int = 1000) -> Outline:
        """Carry out the first `most` steps."""
        outline = self.compare(charter, adopt=adopt)
        yields: dict[tuple[str, str], Any] = {}
        for step in outline.steps[:most]:
            self._carry_out(step, yields)
        return outline

    def write(self, kind: str, step: Step, **body: Any) -> int:
        self.entries.append(Entry("ws", len(self.entries) + 1, "", "", "", "", kind, "uid", {
            "facet": step.facet, "name": step.name, "generation": step.generation, "tenant_time": format_instant(self.now),
            **body}))
        return len(self.entries)

    def _carry_out(self, step: Step, yields: dict[tuple[str, str], Any]) -> None:
        def value(v: Any) -> Any:
            return yields[v.step, v.attribute] if isinstance(v, Ref) else v
        action = step.action
        if isinstance(action, KeepKey):
            key = {"kty": "OKP", "crv": "Ed25519", "x": f"{action.credential}{action.generation}"}
            self.held[action.credential, action.generation] = thumbprint(key)
            yields[step.id, "public_key"] = key
        elif isinstance(action, (Catch, KeepSecret)):
            self.held[action.credential, action.generation] = "secret"
        elif isinstance(action, Adopt):
            self.write(history.FOUND if action.found else history.ADOPTED, step, id=action.id)
        elif isinstance(action, Create):
            fields = {n: value(v) for n, v in action.fields.items()}
            if action.thing == "client":
                fields["client_id"] = yields[step.id, "client_id"] = f"c-{next(self.numbers)}"
            yields[step.id, "id"] = self._create(step, action, fields)
        elif isinstance(action, (AddTo, TakeFrom)):
            self._list(step, action, str(value(action.id)), str(value(action.value)))
        elif isinstance(action, (Change, End)):
            self._change(step, action, str(value(action.id)))
        elif isinstance(action, Prove):
            from sigillum.core.comparing.compare import proofs_digest
            charter = self.last
            self.write(history.PROVED, step, held=True, proofs=proofs_digest(charter), results=[])

    last: Charter = field(default=None, repr=False)  # type: ignore[assignment]

    def _create(self, step: Step, action: Create, fields: dict[str, Any]) -> str:
        attempt = self.write(history.INTENT, step, operation="create", external_id=action.external_id, terms=action.terms)
        things = self.at(step.tenant)
        assert all(t.external_id != action.external_id for t in things[action.thing]), "made twice"
        identity = f"{action.thing[0]}{next(self.numbers)}"
        if fields.get("public_key"):
            fields["thumbprint"] = thumbprint(fields["public_key"])
        if action.thing == "team":
            fields |= {"members": ()}
        if str(fields.get("place", "")).startswith("@"):
            fields["place"] = f"@{fields['place_id']}"
        things[action.thing].append(Thing(action.thing, identity, fields, "1", action.external_id))
        self.write(history.OUTCOME, step, attempt=attempt, result=history.MADE, id=identity)
        return identity

    def _change(self, step: Step, action: Change | End, identity: str) -> None:
        ending = isinstance(action, End)
        attempt = self.write(history.INTENT, step, operation="end" if ending else "change")
        things = self.at(step.tenant)
        old = next(t for t in things[action.thing] if t.id == identity)
        left = [t for t in things[action.thing] if t.id != identity]
        if isinstance(action, Change):
            left.append(Thing(old.kind, old.id, {**old.fields, **action.fields}, old.version + "1", old.external_id))
        things[action.thing] = left
        result = history.ENDED if ending else getattr(action, "mark", "") or history.CHANGED
        self.write(history.OUTCOME, step, attempt=attempt, result=result, **({"id": identity} if result == history.MADE else {}))

    def _list(self, step: Step, action: AddTo | TakeFrom, identity: str, one: str) -> None:
        adding = isinstance(action, AddTo)
        attempt = self.write(history.INTENT, step, operation="add" if adding else "take")
        things = self.at(step.tenant)
        old = next(t for t in things[action.thing] if t.id == identity)
        entry: Any = {"services": (one, None), "exempt": (one, "by", "why", "2099-01-01")}.get(action.attribute, one)
        kept = tuple(v for v in old.get(action.attribute) if v != entry)
        assert not adding or len(kept) == len(old.get(action.attribute)), "added twice"
        new = old._replace(fields={**old.fields, action.attribute: (*kept, entry) if adding else kept})
        things[action.thing] = [new if t.id == identity else t for t in things[action.thing]]
        self.write(history.OUTCOME, step, attempt=attempt, id=f"{identity}/{one}",
                   result=history.MADE if adding else history.ENDED)

    def pass_(self, seconds: float) -> None:
        self.now += timedelta(seconds=seconds)


def ours(facet: str, name: str, generation: int = 1) -> str:
    return external_id("ws", "uid", facet, name, generation)
