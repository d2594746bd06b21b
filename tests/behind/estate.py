"""Every example charter, enacted in one house of simulated tenants; another hand then changes what stands there, and all commands
are asked. What the house itself decides, and what stands in its store, is the truth.
"""

from __future__ import annotations

import base64
import contextlib
import io
import json
import shutil
import subprocess
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import timedelta
from pathlib import Path
from typing import Any, NamedTuple

import urllib3

from conftest import start_sandbox
from sigillum.cli.main import main
from sigillum.cli.sandboxes import usual_world
from sigillum.core.records.folding import fold
from sigillum.core.undertakings.loans import LOANS
from sigillum.core.values.times import format_instant, parse_instant
from sigillum.workflows.desk.office import Office
from sigillum.workflows.desk.settings import Settings

Json = dict[str, Any]
OWNER = "mara.teel@brindlemoor.example"
TENANTS = {
    "summit": "ada.rusk",
    "roster": "lena.frost",
    "winch": "otto.reyl",
    "ticketry": "vera.moss",
    "stationyard": "nils.brack",
}
CHARTERS = (  # in an order in which each finds what it needs
    "wind-ingest",
    "mast-reader",
    "tower-report",
    "timetable-release",
    "timetable-publisher",
    "visitor-statistics",
    "night-robot",
    "avalanche-mailer",
    "rota-calendar-sync",
    "roster-helper",
    "timetable-token",
    "pass-desk-feed",
    "station-heartbeat",
)
TYPES = {  # our kinds, and the resource types of the house
    "account": "User",
    "team": "Group",
    "client": "Client",
    "principal": "ServicePrincipal",
    "role": "Role",
    "grant": "Grant",
    "credential": "Credential",
    "consent": "Consent",
    "trust": "Trust",
    "delegation": "Delegation",
    "local-account": "LocalAccount",
    "machine": "Machine",
    "machine-group": "MachineGroup",
    "licence": "Licence",
    "rule": "SignInRule",
    "place": "Place",
    "loan": "Grant",
    "team's membership": "Group",
    "local-account's workload": "LocalAccount",
    "rule's sign-in": "SignInRule",
    "licence's licence": "Licence",
}
SENT = {  # of each kind the attributes that we send, and that another hand may change; below an extension by its last name
    "account": ("displayName", "active", "purpose", "owner"),
    "team": ("displayName", "purpose", "reach"),
    "client": ("name", "requests", "purpose"),
    "principal": ("active",),
    "role": ("display", "permissions"),
    "grant": ("role", "place", "principal", "validUntil", "labels", "reason"),
    "credential": ("active", "validUntil", "thumbprint", "limits", "principal"),
    "consent": ("scope", "acts", "only", "principal"),
    "trust": ("issuer", "audience", "subject", "conditions", "principal"),
    "delegation": ("people", "scopes", "principal"),
    "team's membership": ("members",),
    "local-account's workload": ("links",),
    "rule's sign-in": ("exempt",),
    "licence's licence": ("holders",),
    "machine": ("principal",),
    "loan": ("role", "place", "principal", "validUntil"),
}


MACHINES = {  # whose token an outside subject has
    "4712:mast-reader": ("valley", "reader-1"),
    "4712:night-clerk": ("valley", "clerk-1"),
    "stationyard:stations:heartbeat": ("stationyard", "heartbeat"),
}


class Made(NamedTuple):
    """Something that a charter made, by the ledger."""

    charter: str
    tenant: str
    kind: str
    id: str
    value: str = ""  # the entry of a list that it is


class Case(NamedTuple):
    """One change behind somebody's back: `deleted`, `twin`, or the name of an attribute."""

    made: Made
    change: str

    @property
    def name(self) -> str:
        return f"{self.made.kind} {self.change}"


class Said(NamedTuple):
    """What a command says of one sentence about now: yes, no, or neither; and what is true, where the house can tell."""

    command: str
    about: str
    said: bool | None
    true: bool | None


@dataclass
class Estate:
    """The workspace, and the house before it."""

    folder: Path
    about: Json
    process: subprocess.Popen[bytes]
    pool: urllib3.PoolManager = field(default_factory=urllib3.PoolManager)
    made: list[Made] = field(default_factory=list)
    ids: dict[tuple[str, str], str] = field(default_factory=dict)  # of identities, by charter and tenant
    people: dict[str, str] = field(default_factory=dict)

    def control(self, what: str, body: Json) -> Json:
        answer = self.pool.request(
            "POST",
            f"{self.about['control']}/{what}",
            body=json.dumps(body).encode(),
            headers={"Authorization": f"Bearer {self.about['token']}"},
        )
        assert answer.status == 200, answer.data
        return dict(answer.json())

    def run(self, *words: str) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = main(["--workspace", str(self.folder), *words])
        return code, out.getvalue(), err.getvalue()

    def data(self, tenant: str, kind: str) -> dict[str, Json]:
        found = self.control("state", {"tenant": tenant})["resources"][TYPES[kind]]
        return {r["id"]: {n: v for n, v in r.items() if n != "id"} for r in found}

    # --- beginning --------------------------------------------------------------------------------------------------
    def begin(self) -> None:
        assert self.run("init", str(self.folder), "--owner", OWNER, "--example")[0] == 0
        base = self.about["control"].removesuffix("/control")
        file = self.folder / "sigillum.yaml"
        file.write_text(file.read_text().replace("http://127.0.0.1:8470", base))
        text = "tenants:\n"
        for name, admin in TENANTS.items():
            text += f"  {name}:\n    address: {base}/{name}/scim/v2\n    stage: test\n    clock: tenant\n    admin: {self._admin(name, admin)}\n"
            text += f"    admins: [{self._admin(name, 'nils.brack')}]\n" if name == "roster" else ""
        file.write_text(file.read_text().replace("tenants: {}\n", text))
        for charter in CHARTERS:
            self._enact(charter)
        self._known()
        self._lend()
        self.control("clock", {"move": 60})  # what was made has arrived
        self.control("behind", {"remember": True})
        shutil.copytree(self.folder / ".sigillum", self.folder / "kept")

    def _admin(self, tenant: str, admin: str) -> str:
        token = self.folder / ".sigillum" / f"{tenant}.{admin}"
        token.write_text((self.folder.parent / "sandbox" / f"{tenant}.{admin}.token").read_text())
        token.chmod(0o600)
        return f"{{name: {admin}, token: 'file:.sigillum/{token.name}'}}"

    def _enact(self, charter: str) -> None:
        for _ in range(4):
            code, out, err = self.run("enact", charter, "--yes")
            if code == 0:
                return
            self.control("clock", {"move": 600})
            if charter == "station-heartbeat":
                self.control("started", {"tenant": "stationyard", "name": "heartbeat"})
        raise AssertionError(f"{charter}: {code}\n{out}\n{err}")

    def _lend(self) -> None:
        lent = ("--at", "brindlemoor/cameras", "--to", "wind-ingest", "--for", "8h", "--because", "a look", "--yes")
        code, out, err = self.run("lend", "stream-reader", *lent)
        assert code == 0, out + err
        with Office.open(Settings(self.folder)) as office:
            [loan] = office.books.begun(LOANS)
        assert loan.generation is not None
        self.made.append(Made("wind-ingest", "summit", "loan", loan.generation.id, loan.number))

    def _known(self) -> None:
        with Office.open(Settings(self.folder)) as office:
            for charter in office.charters(list(CHARTERS)):
                uid, history = office.books.history(charter.name)
                state = fold(office.books.ledger().entries(uid), uid)
                for tenant in (charter.tenant, *charter.elsewhere):
                    self.ids[charter.name, tenant] = history.principal_id(tenant)
                for mark, all_ in state.generations.items():
                    newest = all_[-1]
                    kind = f"{newest.kind}'s {mark.facet}" if newest.value else newest.kind  # an entry of another's list
                    if newest.live and newest.id and kind in SENT and mark.tenant in TENANTS:
                        self.made.append(Made(charter.name, mark.tenant, kind, newest.id, newest.value))
        self.made = list(dict.fromkeys(self.made))

    def back(self) -> None:
        """Everything as it was: the house, and what is private here."""
        self.control("behind", {"recall": True})
        shutil.rmtree(self.folder / ".sigillum")
        shutil.copytree(self.folder / "kept", self.folder / ".sigillum")

    # --- changes ----------------------------------------------------------------------------------------------------
    def cases(self) -> Iterator[Case]:
        """Each thing that was made: gone, each attribute that was sent another one, and another's just like it."""
        there = {(t, k): self.data(t, k) for t, k in {(m.tenant, m.kind) for m in self.made}}
        for made in self.made:
            data = there[made.tenant, made.kind].get(made.id)
            assert data is not None, made
            yield from (Case(made, c) for c in ("deleted", "twin"))
            for name in SENT[made.kind]:
                if self._changed(made, data, name, there[made.tenant, made.kind]) is not None:
                    yield Case(made, name)

    def _changed(self, made: Made, data: Json, name: str, others: dict[str, Json]) -> Json | None:
        """The same with another value; None where it has no such attribute, or there is no other value."""
        holder = next((n for n, v in data.items() if isinstance(v, dict) and name in v and "urn:" in n), None)
        old = data[holder][name] if holder is not None else data.get(name)
        new = self._other(made, name, old)
        if new is None:
            return None
        return {**data, holder: {**data[holder], name: new}} if holder is not None else {**data, name: new}

    def _other(self, made: Made, name: str, old: Any) -> Any:
        if isinstance(old, bool):
            return not old
        if name == "validUntil":
            later = parse_instant(old) + timedelta(days=1) if old else self.now() + timedelta(days=400)
            return format_instant(later)
        if name == "identities":
            return "shared" if old != "shared" else "own"
        if isinstance(old, dict) and "value" in old:
            return self._reference(made, name, old)
        if isinstance(old, list) and made.value:
            left = [v for v in old if v.get("value") != made.value]
            return left if len(left) < len(old) else None
        if isinstance(old, list):
            return old[1:] if old else None
        return f"{old}x" if isinstance(old, str) and old else None

    def _reference(self, made: Made, name: str, old: Json) -> Json | None:
        kind = {"role": "role", "place": "place", "principal": "account"}[name]
        others = self.data(made.tenant, kind)
        other = next((i for i in others if i != old["value"] and i not in self.ids.values()), None)
        if other is None:
            return None
        shown = others[other].get("name") or others[other].get("path") or others[other].get("userName")
        return {**old, "value": other, **({"display": shown} if "display" in old else {})}

    def now(self) -> Any:
        return parse_instant(self.control("clock", {})["now"])

    def change(self, case: Case) -> None:
        """Another hand does it."""
        made, others = case.made, self.data(case.made.tenant, case.made.kind)
        order: Json = {"tenant": made.tenant, "kind": TYPES[made.kind], "id": made.id}
        if case.change == "twin":
            twin = {n: v for n, v in others[made.id].items() if n not in ("externalId", "meta")}
            for unique in ("userName", "name", "displayName", "clientId"):
                if unique in twin and made.kind not in ("grant", "credential", "consent", "delegation"):
                    twin[unique] = f"{twin[unique]}-2"
            order |= {"id": "", "data": twin}
        elif case.change == "deleted":
            order |= {"data": None}
        else:
            order |= {"data": self._changed(made, others[made.id], case.change, others)}
        self.control("behind", {"put": [order]})

    def give(self, made: Made, charter: str) -> None:
        """Another hand gives another identity the same: a right of its own, or a place in the list."""
        data, who = self.data(made.tenant, made.kind)[made.id], self.ids[charter, made.tenant]
        if made.value:
            order: Json = {"id": made.id, "data": {**data, "members": [*data["members"], {"value": who}]}}
        else:
            fresh = {n: v for n, v in data.items() if n not in ("externalId", "meta")}
            name = {"name": f"{data['name']}-2"} if "name" in data else {}
            order = {"id": "", "data": {**fresh, **name, "principal": {**data["principal"], "value": who}}}
        self.control("behind", {"put": [{"tenant": made.tenant, "kind": TYPES[made.kind], **order}]})

    # --- what is said, and what is true -----------------------------------------------------------------------------
    def strict(self, charter: str) -> tuple[int, str]:
        code, out, err = self.run("rehearse", charter, "--strict")
        return code, out + err

    def said(self, charter: str) -> list[Said]:
        """Every sentence that prove and explain say, with what the house decides."""
        code, out, err = self.run("prove", charter, "--format", "json")
        answer = json.loads(out) if out.startswith("{") else {}
        found = [p for one in answer.get("charters", ()) for p in one["proofs"]]
        assert found or code not in (0, 1), out + err
        told = [Said("prove", p["expectation"], p["held"], None) for p in found]
        return [*(s._replace(true=self._true(charter, s.about)) for s in told), *self._explained(charter)]

    def told_of_loans(self) -> list[Said]:
        """Is what was lent in force? True: just that grant exists, and has not ended."""
        code, out, _ = self.run("loans", "--format", "json")
        states = {one["loan"]: one["state"] for one in json.loads(out)["loans"]} if code == 0 else {}
        there, before = self.data("summit", "loan"), self.control("behind", {"remembered": ["summit", "Grant"]})["records"]
        told = []
        for made in (m for m in self.made if m.kind == "loan"):
            now, then = there.get(made.id), before[made.id]
            same = now is not None and all(now[n]["value"] == then[n]["value"] for n in ("role", "place", "principal"))
            told.append(Said("loans", made.value, states.get(made.value) == "in-force", same))
        return told

    def linked(self) -> list[Said]:
        """Do both tenants say that a local account acts as somebody? Two halves in two stores are the truth."""
        code, out, _ = self.run("trust", "links", "stationyard", "--format", "json")
        claims = self._claims("stationyard:stations:heartbeat")
        if code not in (0, 1) or claims is None:
            return []
        who = self.ids["station-heartbeat", "summit"]
        asked = {"tenant": "summit", "principal": who, "claims": claims}
        links = [x["value"] for a in self.data("stationyard", "local-account").values() for x in a.get("links", ())]
        there = who in self.data("summit", "account")  # nobody acts as somebody who is not there
        true = bool(self.control("behind", {"decide": [asked]})["allowed"][0]) and who in links and there
        rows = [r for r in json.loads(out)["links"] if r["account"].endswith("heartbeat")]
        return [Said("trust links", "heartbeat", any(r["state"] == "both" for r in rows), true)]

    def attested(self, charter: str) -> list[Said]:
        """Has the identity a credential at its tenant? Every one in the store counts, whoever made it."""
        with Office.open(Settings(self.folder)) as office:
            home = office.charters([charter])[0].tenant
        _, out, _ = self.run("key", "attest", charter, "--format", "json")
        rows = json.loads(out)["looked"] if out.startswith("{") else []
        found = next((r["found"] for r in rows if r["where"] == f"the tenant {home}"), None)
        bearers = {self.ids[charter, home], *(m.id for m in self.made if (m.charter, m.kind) == (charter, "client"))}
        there = any(c["principal"]["value"] in bearers for c in self.data(home, "credential").values())
        return [Said("key attest", "it has a credential", None if found is None else bool(found), there)]

    def stopped(self, charter: str, made: Made) -> list[Said]:
        """Is it off? `suspend` says so, where it is already as well."""
        _, out, _ = self.run("suspend", charter, "--because", "looked at", "--yes", "--format", "json")
        found = [s for one in json.loads(out)["suspended"] for s in one["suspensions"] if s["id"] == made.id]
        active = self.data(made.tenant, made.kind)[made.id].get("active", True)
        return [Said("suspend", s["name"], s["off"], not active) for s in found]

    def turning(self, charter: str) -> list[Said]:
        """What is said of a rotation: whether it goes on by itself, which it cannot where the new one is gone."""
        code, out, _ = self.run("rotate", charter, "--status", "--format", "json")
        told = []
        for one in json.loads(out)["rotations"] if code in (0, 6) else ():
            there = [
                c
                for c in self.data(one["tenant"], "credential").values()
                if c["principal"]["value"] == self.ids[charter, one["tenant"]]
            ]
            new = any(c.get("name", "").endswith(f"-{one['new']}") for c in there)
            told.append(Said("rotate --status", "the new one is there", "is gone, and no step" not in one["waits"], new))
        return told

    def _questions(self, charter: str) -> Iterator[tuple[str, bool, str, str, str]]:
        """The proofs of a charter that the house decides by itself: in words, whether wished, tenant, permission, place."""
        with Office.open(Settings(self.folder)) as office:
            [found] = office.charters([charter])
        for p in found.proofs:
            if not p.person:
                yield p.words(), p.allowed, p.tenant or found.tenant, p.permission, p.at

    def _decided(self, charter: str, tenant: str, permission: str, place: str, *, by_key: bool = True) -> bool:
        used = next((m.id for m in self.made if (m.charter, m.tenant, m.kind) == (charter, tenant, "credential")), None)
        asked = {
            "tenant": tenant,
            "principal": self.ids[charter, tenant],
            "permission": permission,
            "place": place,
            "credential": used if by_key else None,
        }
        return bool(self.control("behind", {"decide": [asked]})["allowed"][0])

    def _claims(self, about: str) -> Json | None:
        """What the machine of an outside subject is given by where it runs; None where there is no such machine."""
        found = next((m for subject, m in MACHINES.items() if subject in about), None)
        if found is None:
            return None
        token = self.control("machine", {"tenant": found[0], "name": found[1], "audience": "summit"})["token"]
        part = token.split(".")[1]
        claims = dict(json.loads(base64.urlsafe_b64decode(part + "=" * (-len(part) % 4))))
        return claims if str(claims["sub"]) in about else None  # it may run as somebody else by now

    def _true(self, charter: str, about: str) -> bool | None:
        """Is what a proof expects so, by the house?"""
        claims = self._claims(about)
        if claims is not None:
            asked = {"tenant": "summit", "principal": self.ids[charter, "summit"], "claims": claims}
            return bool(self.control("behind", {"decide": [asked]})["allowed"][0]) is about.startswith("can ")
        for words, wished, tenant, permission, place in self._questions(charter):
            if words == about:
                return self._decided(charter, tenant, permission, place) is wished
        return None

    def _explained(self, charter: str) -> Iterator[Said]:
        for words, _, tenant, permission, place in self._questions(charter):
            code, out, _ = self.run(
                "explain", self.ids[charter, tenant], permission, place, "--tenant", tenant, "--format", "json"
            )
            if code in (0, 1) and out.startswith("{"):
                said = json.loads(out)["questions"][0]["allowed"]
                yield Said("explain", words, said, self._decided(charter, tenant, permission, place, by_key=False))


def estate(folder: Path) -> Iterator[Estate]:
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "world.yaml").write_text(usual_world().read_text())
    process, about = start_sandbox(folder / "sandbox", folder / "world.yaml")
    try:
        made = Estate(folder / "house", about, process)
        made.begin()
        yield made
    finally:
        process.terminate()
        process.wait(10)
