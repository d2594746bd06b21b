"""The driver `by-hand`: a tenant without an interface that we speak. Facts come from files, steps are confirmed by people."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from sigillum.core.deciding.proofs import Trial
from sigillum.core.kinds.changes import Change, Doing, End, Entry, Facts, Make
from sigillum.core.kinds.identities import ACCOUNT, CLIENT, TEAM
from sigillum.core.kinds.kind import Fact, Kind, Query, Record
from sigillum.core.kinds.profile import PERSON, Operation, Profile
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.errors import FileError, RefusedError, WaitingError
from sigillum.core.values.outside import json_of
from sigillum.core.values.secret import Secret
from sigillum.core.values.times import ClockReading, format_instant, whole_second
from sigillum.tenants.port import Address, Link, Proof, Reply, Result, SignedIn, Tenant

from . import files
from .lines import Answer, Confirm, Line, line_of, print_of, secret_line

if TYPE_CHECKING:
    from sigillum.core.deciding.values import Question

OLD_DAYS = 30
CONFIRMED = "confirmed.json"
FORM_OF_ID = re.compile(r"[^\s]{1,200}\Z")
NAMED = (ACCOUNT, TEAM, CLIENT)  # of which there is one of a name
ASKED = "by hand"  # where its decisions are asked for


def connect(address: Address, link: Link) -> Tenant:
    """Read the facts. Raises FileError with every mistake in them."""
    return ByHand(address, link)


class ByHand:
    """Everything that the port asks for, with a person as the interface."""

    clock: ClockReading | None = None
    known_seconds = 0.0

    def __init__(self, address: Address, link: Link) -> None:
        self.address, self._say = address, link.say
        self._confirm: Confirm = link.confirm or (lambda line: None)
        shown = address.facts or f"facts/{address.name}"
        self._folder = link.folder / shown
        self._files = {f.kind.name: f for f in files.read_all(self._folder, shown)}
        self._confirmed = files.read_confirmed(self._folder / CONFIRMED)
        self._link = link
        self.profile = self._profile(shown)

    def _profile(self, shown: str) -> Profile:
        """What profile.json says, and which facts are old."""
        said: dict[str, Any] = {}
        path = self._folder / "profile.json"
        if path.is_file():
            try:
                said = json_of(path.read_text(encoding="utf-8"))
                operations = {n: Operation(n, str(c), "", "") for n, c in dict(said.get("permissions", {})).items()}
            except (OSError, ValueError, TypeError, AttributeError) as problem:
                raise FileError(
                    "profile.json cannot be read", where=f"{shown}/profile.json", mend="write it as docs/by-hand.md shows"
                ) from problem
        else:
            operations = {}
        if not self._files:
            raise FileError(
                f"there are no facts of {self.address.name}",
                where=shown,
                mend="export or type them: docs/by-hand.md shows the files",
            )
        old = [
            f"{f.path} is {(files.today() - f.day).days} days old ({f.source}): what it says may have changed since"
            for f in self._files.values()
            if (files.today() - f.day).days > OLD_DAYS
        ]
        newest = {(c.kind.name, c.id): c for c in self._confirmed}
        disputed = [
            f"{f.path} was put here after the {c.kind.name} {c.id} was confirmed, on the same day, and says otherwise: what "
            f"was confirmed counts. Write the time of the export beside its day (`# date: {c.day}T15:00:00Z`)"
            for c in newest.values()
            if (f := self._files.get(c.kind.name)) is not None and c.disputed(f)
        ]
        return Profile(
            name=self.address.name,
            title=str(said.get("title", "")),
            stage=str(said.get("stage", "")),
            issuer=self.address.issuer or str(said.get("issuer", "")),
            decisions=ASKED,
            external_id_unique=True,
            born_inactive=False,
            arrival_seconds=0,
            operations=operations,
            administrator=self.address.admin,
            carries={n: f.shown & frozenset(f.kind.fields) for n, f in self._files.items()},
            warnings=(*old, *disputed),
            confirmed_by=PERSON,
        )

    def say(self, text: str) -> None:
        if self._say is not None:
            self._say(text)

    # --- facts --------------------------------------------------------------------------------------------------
    def _known(self) -> Facts[Any]:
        """What the files say, and what was confirmed since their days."""
        facts: Facts[Any] = Facts()
        for file in self._files.values():
            facts.add(file.records)
        for confirmed in self._confirmed:
            source = self._files.get(confirmed.kind.name)
            if source is not None and confirmed.since(source):
                if confirmed.record is None:
                    facts.records[confirmed.kind].pop(confirmed.id, None)
                else:
                    facts.add([confirmed.record])
        return facts

    def facts(self, queries: Iterable[Query[Any]]) -> dict[Query[Any], Fact[Any]]:
        known = self._known()
        return {
            q: known.answer(q)
            if q.kind.name in self._files
            else Fact(unknown=f"there is no file of facts about a {q.kind.name}")
            for q in queries
        }

    def read(self, kind: Kind[Any], identity: str) -> Record[Any] | None:
        return self._known().get(kind, identity) if kind.name in self._files else None

    # --- changes: a line of the sheet each, confirmed by a person ---------------------------------------------------
    def _ask(self, line: Line) -> Answer | Reply:
        answer = self._confirm(line)
        if answer is None or (answer.yes is None and not answer.id and answer.secret is None):
            return self._refuse(line, "no one has confirmed it yet")
        if answer.yes is False:
            return self._refuse(line, f"{answer.by} says that it is not done")
        if not (answer.yes or line.wants_id or line.wants_secret):
            return self._refuse(line, "the answer does not say yes")
        if line.wants_id and not FORM_OF_ID.match(answer.id):
            return self._refuse(line, f"{answer.id!r} is not an identifier")
        if line.wants_secret and answer.secret is None:
            return self._refuse(line, "the secret is missing in the answer")
        if line.wants_secret and answer.whose != line.whose:
            return self._refuse(line, f"the answer gives a secret of {answer.whose}, and this one is for {line.whose}")
        return answer

    def _refuse(self, line: Line, why: str) -> Reply:
        error = WaitingError(
            f"{line.what}: {why}",
            where=self.address.address,
            mend="do it as the work sheet says, then run the same command again, at a terminal or with --answers FILE",
        )
        return Reply(Result.REFUSED, detail=why, error=error)

    def _done(self, doing: Doing, mark: str = "") -> Reply:
        """Ask for it, and keep what stands then."""
        known = self._known()
        if not isinstance(doing, Make) and known.get(doing.kind, str(doing.id)) is None:
            return Reply(Result.MISSING, detail="the facts do not show it")
        if (
            isinstance(doing, Make)
            and doing.kind in NAMED
            and any(doing.kind.same("name", r.body.name, doing.part.get("name")) for r in known.of(doing.kind))
        ):
            return Reply(Result.EXISTS, detail="the facts show one of that name")
        answer = self._ask(line_of(doing))
        if isinstance(answer, Reply):
            return answer
        identity = answer.id if isinstance(doing, Make) else str(doing.id)
        taken = next((k.name for k, all_ in known.records.items() if identity in all_), "") if isinstance(doing, Make) else ""
        if taken:
            return self._refuse(line_of(doing), f"{identity!r} is the {taken} that stands there already")
        record = known.after(doing, identity, mark).get(doing.kind, identity)
        if record is not None and doing.kind is CLIENT and not record.body.client_id:
            record = record.with_(client_id=identity)  # what a console shows of a client, and people type, is its client id
        at = whole_second(files.now())
        row = files.Confirmed(doing.kind, identity, at.date().isoformat(), record, format_instant(at))
        self._confirmed = files.add_confirmed(self._folder / CONFIRMED, row)
        return Reply(Result.DONE, record, confirmed=answer.by)

    def make(self, make: Make, mark: str) -> Reply:
        return self._done(make, mark)

    def change(self, change: Change) -> Reply:
        return self._done(change)

    def enter(self, entry: Entry) -> Reply:
        return self._done(entry)

    def end(self, end: End) -> Reply:
        return self._done(end)

    def store(self, path: str, by: SignedIn | None = None) -> None:
        """It is no store: what a person keeps, nobody here can read."""

    def fetch_secret(self, identity: str) -> Reply:
        record = self.read(CREDENTIAL, identity)
        name, principal = (record.body.name, record.body.principal) if record is not None else (identity, "")
        answer = self._ask(secret_line(name, identity, principal))
        if isinstance(answer, Reply):
            return answer
        assert answer.secret is not None
        self.say(f"the secret of {name}, of {principal}, was received: its SHA-256 begins with {print_of(answer.secret)}")
        return Reply(Result.DONE, secret=answer.secret, confirmed=answer.by)

    # --- the identity's own side --------------------------------------------------------------------------------
    @property
    def token_endpoint(self) -> str:
        return self._outside().token_endpoint if self.profile.issuer else ""

    def _outside(self) -> Any:
        """The standard token endpoint, where it has one."""
        from sigillum.protocols.http import Http
        from sigillum.tenants.scim.driver import OpenTenant

        made = OpenTenant(
            self.address,
            Http(
                origins=[self.profile.issuer, *self.address.origins],
                timeout_seconds=self._link.timeout_seconds,
                log=self._link.log,
            ),
            self._link.token,
        )
        made.profile = replace(Profile(), issuer=self.profile.issuer)
        return made

    def sign_in(self, proof: Proof) -> SignedIn:
        if self.profile.issuer and (proof.key is not None or proof.client_id):
            found: SignedIn = self._outside().sign_in(proof)
            return found
        return self.as_administrator(proof.principal)

    def token_for(self, proof: Proof, issuer: str) -> Secret:
        if not self.profile.issuer:
            raise RefusedError(
                "it has no token endpoint that is known", where=self.address.name, mend="add `issuer` to its entry"
            )
        token: Secret = self._outside().token_for(proof, issuer)
        return token

    def taken(self, signed_in: SignedIn) -> bool | None:
        return None

    def as_administrator(self, principal: str) -> SignedIn:
        return SignedIn(Secret("by hand"), principal, "tried by a person, who answers for it")

    def ask(self, signed_in: SignedIn, permission: str, place: str, person: str = "") -> Trial:
        line = Line(
            f"may {permission} at {place}",
            f"sign in as {signed_in.principal} and try {permission} at {place}: is "
            "it allowed? (a place marked for trials only; otherwise look at what the tenant's own page says)",
            (("principal", signed_in.principal), ("permission", permission), ("place", place)),
            question=True,
        )
        answer = self._confirm(line)
        if answer is None or answer.yes is None:
            return Trial(None, "no one has answered the question yet")
        return Trial(answer.yes, f"a person looked; written by {answer.by}")

    def ask_all(self, questions: Sequence[Question]) -> list[Trial]:
        return [Trial(None, "a tenant by hand answers no questions") for _ in questions]

    def ask_sign_in(self, account: str, context: Mapping[str, Any]) -> Trial:
        return Trial(None, "a tenant by hand answers no questions")

    def attempt(self, signed_in: SignedIn, operation: Operation, place: str) -> Trial:
        return self.ask(signed_in, operation.permission, place)
