"""The driver `by-hand`: a tenant without an interface that we speak. Facts come from files, steps are confirmed by people."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, NamedTuple

from sigillum.core.deciding.proofs import Trial
from sigillum.core.facets.credential import BY_HAND
from sigillum.core.kinds.facts import Fact, Operation, Profile, Query, Thing
from sigillum.core.values.errors import FileError, RefusedError, WaitingError
from sigillum.core.values.secret import Secret
from sigillum.core.values.times import ClockReading

from . import facts_files, mapping
from .port import Address, Link, Proof, Reply, Result, SignedIn, Tenant

if TYPE_CHECKING:
    from sigillum.core.deciding.values import Question

OLD_DAYS = 30
FORM_OF_ID = re.compile(r"[^\s]{1,200}\Z")
VERBS = {"make": "make", "change": "change", "end": "end", "add": "add to", "take": "take out of"}


class Line(NamedTuple):
    """One line of the work sheet: what to do, the exact values, what to look at afterwards, and what comes back."""

    key: str  # the same whenever it is asked
    what: str
    values: tuple[tuple[str, str], ...] = ()
    look: str = ""
    wants_id: bool = False
    wants_secret: bool = False
    question: bool = False  # to be answered with yes or no


class Answer(NamedTuple):
    """What a person confirmed: who, and what came back."""

    by: str
    id: str = ""
    secret: Secret | None = None
    yes: bool = True


Confirm = Callable[[Line], Answer | None]


def connect(address: Address, link: Link) -> Tenant:
    """Read the facts. Raises FileError with every mistake in them."""
    return ByHand(address, link)


class ByHand:
    """Everything that the port asks for, with a person as the interface."""

    round_trip_seconds = float("inf")
    clock: ClockReading | None = None

    def __init__(self, address: Address, link: Link) -> None:
        self.address, self._say = address, link.say
        self._confirm: Confirm = link.confirm or (lambda line: None)
        shown = address.facts or f"facts/{address.name}"
        self._folder = link.folder / shown
        self._files = {f.kind: f for f in facts_files.read_all(self._folder, shown)}
        self._confirmed = facts_files.read_confirmed(self._folder / "confirmed.json")
        self._link = link
        self.profile = self._profile(shown)

    def _profile(self, shown: str) -> Profile:
        """What profile.json says, and which facts are old."""
        said: dict[str, Any] = {}
        path = self._folder / "profile.json"
        if path.is_file():
            try:
                said = json.loads(path.read_text(encoding="utf-8"))
                operations = {n: Operation(n, str(c), "", "") for n, c in dict(said.get("permissions", {})).items()}
            except (OSError, ValueError, TypeError, AttributeError) as problem:
                raise FileError("profile.json cannot be read", where=f"{shown}/profile.json",
                                mend="write it as docs/by-hand.md shows") from problem
        else:
            operations = {}
        if not self._files:
            raise FileError(f"there are no facts of {self.address.name}", where=shown,
                            mend="export or type them: docs/by-hand.md shows the files")
        old = [f"{f.path} is {(facts_files.today() - f.day).days} days old ({f.source}): what it says may have changed since"
               for f in self._files.values() if (facts_files.today() - f.day).days > OLD_DAYS]
        return Profile(
            name=self.address.name, title=str(said.get("title", "")), stage=str(said.get("stage", "")),
            issuer=self.address.issuer or str(said.get("issuer", "")), decisions=BY_HAND, external_id_unique=True,
            born_inactive=False, secret_delivery=BY_HAND, arrival_seconds=0, operations=operations,
            administrator=self.address.admin, kinds=frozenset([*self._files, "account-about"]), warnings=tuple(old))

    def say(self, text: str) -> None:
        if self._say is not None:
            self._say(text)

    # --- facts --------------------------------------------------------------------------------------------------
    def _things(self, kind: str) -> dict[str, Thing]:
        """What the file says, and what was confirmed since its day."""
        file = self._files[kind]
        known = {t.id: t for t in file.things}
        for key, day, thing in self._confirmed:
            of, _, identity = key.partition(" ")
            if of == kind and day >= file.day.isoformat():
                if thing is None:
                    known.pop(identity, None)
                else:
                    known[identity] = thing
        return known

    def facts(self, queries: Iterable[Query]) -> dict[Query, Fact]:
        out: dict[Query, Fact] = {}
        for query in queries:
            if query.kind not in self._files:
                out[query] = Fact(unknown=f"there is no file of facts about a {query.kind}")
            else:
                out[query] = Fact(tuple(t for t in self._things(query.kind).values() if mapping.answers(query, t)))
        return out

    def read(self, kind: str, identity: str) -> Thing | None:
        return self._things(kind).get(identity) if kind in self._files else None

    # --- changes: a line of the sheet each, confirmed by a person ---------------------------------------------------
    def _ask(self, line: Line) -> Answer | Reply:
        answer = self._confirm(line)
        if answer is not None and line.wants_id and not FORM_OF_ID.match(answer.id):
            return self._refuse(line, f"{answer.id!r} is no identifier")
        if answer is None or (line.wants_secret and answer.secret is None):
            return self._refuse(line, "it waits for somebody to confirm it")
        return answer

    def _refuse(self, line: Line, why: str) -> Reply:
        error = WaitingError(f"{line.what}: {why}", where=self.address.address, mend="do it as the work sheet says, then run "
                              "the same command again, at a terminal or with --answers FILE")
        return Reply(Result.REFUSED, detail=why, error=error)

    def _keep(self, kind: str, identity: str, thing: Thing | None) -> None:
        self._confirmed.append((f"{kind} {identity}", facts_files.today().isoformat(), thing))
        facts_files.write_confirmed(self._folder / "confirmed.json", self._confirmed)

    def create(self, kind: str, external_id: str, fields: Mapping[str, Any]) -> Reply:
        answer = self._ask(line_of("make", kind, fields))
        if isinstance(answer, Reply):
            return answer
        shown = {n: v for n, v in fields.items() if n not in ("password", "place_id", "role_id", "carrier", "public_key")}
        if kind == "role":
            shown["permissions"] = tuple(tuple(p) for p in fields["permissions"])
        if fields.get("public_key"):
            from sigillum.core.values.canonical import thumbprint
            shown["thumbprint"] = thumbprint(fields["public_key"])
        fresh = {**{n: v for n, v in facts_files.EMPTY.items() if n not in shown}, **shown}
        thing = Thing(kind, answer.id, fresh, "", external_id)
        self._keep(kind, answer.id, thing)
        return Reply(Result.DONE, thing, confirmed=answer.by)

    def _done(self, line: Line, kind: str, identity: str, changed: Callable[[Thing], Thing | None]) -> Reply:
        old = self.read(kind, identity)
        if old is None:
            return Reply(Result.MISSING, detail="the facts do not show it")
        answer = self._ask(line)
        if isinstance(answer, Reply):
            return answer
        thing = changed(old)
        self._keep(kind, identity, thing)
        return Reply(Result.DONE, thing, confirmed=answer.by)

    def change(self, kind: str, identity: str, fields: Mapping[str, Any], version: str) -> Reply:
        return self._done(line_of("change", kind, {"id": identity, **fields}), kind, identity,
                          lambda old: old._replace(fields={**old.fields, **fields}))

    def add(self, kind: str, identity: str, attribute: str, value: str, about: Mapping[str, Any]) -> Reply:
        line = line_of("add", kind, {"id": identity, attribute: value, **about})
        return self._done(line, kind, identity, lambda old: old._replace(
            fields={**old.fields, attribute: (*(old.get(attribute) or ()), value)}))

    def take(self, kind: str, identity: str, attribute: str, value: str) -> Reply:
        line = line_of("take", kind, {"id": identity, attribute: value})
        return self._done(line, kind, identity, lambda old: old._replace(
            fields={**old.fields, attribute: tuple(v for v in old.get(attribute) or () if v != value)}))

    def end(self, kind: str, identity: str) -> Reply:
        return self._done(line_of("end", kind, {"id": identity}), kind, identity, lambda old: None)

    def fetch_secret(self, identity: str) -> Reply:
        thing = self.read("credential", identity)
        name = thing.get("name") if thing is not None else identity
        answer = self._ask(secret_line(str(name), identity))
        return answer if isinstance(answer, Reply) else Reply(Result.DONE, secret=answer.secret, confirmed=answer.by)

    # --- the identity's own side --------------------------------------------------------------------------------
    @property
    def token_endpoint(self) -> str:
        return self._outside().token_endpoint if self.profile.issuer else ""

    def _outside(self) -> Any:
        """The standard token endpoint, where it has one."""
        from sigillum.protocols.http import Http

        from .open import OpenTenant
        made = OpenTenant(self.address, Http(timeout_seconds=self._link.timeout_seconds, log=self._link.log), self._link.token)
        made.profile = replace(Profile(), issuer=self.profile.issuer)
        return made

    def sign_in(self, proof: Proof) -> SignedIn:
        if self.profile.issuer and (proof.key is not None or proof.client_id):
            found: SignedIn = self._outside().sign_in(proof)
            return found
        return self.as_administrator(proof.principal)

    def token_for(self, proof: Proof, issuer: str) -> Secret:
        if not self.profile.issuer:
            raise RefusedError("it has no token endpoint that is known", where=self.address.name,
                               mend="add `issuer` to its entry")
        token: Secret = self._outside().token_for(proof, issuer)
        return token

    def as_administrator(self, principal: str) -> SignedIn:
        return SignedIn(Secret("by hand"), principal, "tried by a person, who answers for it")

    def ask(self, signed_in: SignedIn, permission: str, place: str, person: str = "") -> Trial:
        line = Line(f"may {permission} at {place}", f"sign in as {signed_in.principal} and try {permission} at {place}: is "
                    "it allowed? (a place marked for trials only; otherwise look at what the tenant's own page says)",
                    (("principal", signed_in.principal), ("permission", permission), ("place", place)), question=True)
        answer = self._confirm(line)
        if answer is None:
            return Trial(None, "nobody has answered the question yet")
        return Trial(answer.yes, f"said by {answer.by}")

    def ask_all(self, questions: Sequence[Question]) -> list[Trial]:
        return [Trial(None, "a tenant by hand answers no questions") for _ in questions]

    def ask_sign_in(self, account: str, context: Mapping[str, Any]) -> Trial:
        return Trial(None, "a tenant by hand answers no questions")

    def attempt(self, signed_in: SignedIn, operation: Operation, place: str) -> Trial:
        return self.ask(signed_in, operation.permission, place)


HIDDEN = ("carrier", "role_id", "principal_id", "client_id", "account", "active")  # what a person has no field for
KEPT_HERE = "(kept here: `sigillum handover CHARTER --reveal CHARTER` shows it)"
SKIP_EMPTY: tuple[Any, ...] = (None, "", (), [])


def secret_line(name: str, identity: str) -> Line:
    """The line for a secret that only the tenant can make."""
    return Line(f"secret of credential {name}", f"copy the secret of the credential {name}", (("id", identity),),
                "it is shown once: copy it before the page is left", wants_secret=True)


def line_of(do: str, kind: str, fields: Mapping[str, Any]) -> Line:
    """The line of the work sheet for one change: exact values, nothing secret."""
    name = str(fields.get("name") or fields.get("role") or fields.get("id") or "")
    where = f" at {fields['place']}" if fields.get("place") else ""
    values = []
    for key, value in fields.items():
        if (key in HIDDEN and do == "make") or key == "place_id" or value in SKIP_EMPTY:
            continue
        if isinstance(value, Secret):
            shown = KEPT_HERE
        elif key == "public_key":
            shown = json.dumps(value)
        elif isinstance(value, (tuple, list)):
            shown = ", ".join(" ".join(map(str, v)) if isinstance(v, (tuple, list)) else str(v) for v in value)
        else:
            shown = ("yes" if value else "no") if isinstance(value, bool) else str(value)
        values.append((key, shown))
    what = f"{VERBS[do]} the {kind} {name}{where}"
    look = {"make": f"the {kind} is listed with exactly these values, and with its id",
            "end": f"the {kind} is not listed any more"}.get(do, "the page shows these values after it was loaded again")
    return Line(f"{do} {kind} {name}{where}", what, tuple(values), look, wants_id=do == "make")
