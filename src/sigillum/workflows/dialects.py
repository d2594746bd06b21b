"""Dialects: begin one from answers, check it, and prove one against the real thing with an identity that is thrown away."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from sigillum.core.kinds.access import GRANT, PLACE, ROLE, widest
from sigillum.core.kinds.changes import Change, End, Make, plain
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Kind, Query, Record, differing
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.errors import FileError, RefusedError, SigillumError, SomebodyError, UsageError
from sigillum.core.values.secret import Secret
from sigillum.core.values.times import format_instant, parse_instant, whole_second
from sigillum.tenants.port import Proof, Reply, Result, SignedIn

from .office import Office
from .settings import Progress

if TYPE_CHECKING:
    from sigillum.tenants.dialect.driver import DialectTenant

WORKS, DIFFERS, NOT_DESCRIBED, NOT_TRIED = "works", "differs", "not described", "not tried"
MARKED, NAMED, NONE = "mark kept", "name only", "none"
OLD = timedelta(days=90)  # after which what was tried is told to be old
TRIAL = "sigillum-trial"
LIFE = timedelta(hours=1)


class Row(NamedTuple):
    """One line of the table: what was tried, what came of it, and why."""

    what: str
    came: str
    why: str = ""


@dataclass(slots=True)
class Tried:
    """What came of trying a dialect."""

    tenant: str
    name: str
    rows: list[Row] = field(default_factory=list)
    left: list[str] = field(default_factory=list)
    safety: str = ""  # not known, where no account was made

    @property
    def good(self) -> bool:
        return not self.left and all(r.came != DIFFERS for r in self.rows)


def check(folder: Path, files: list[str]) -> list[str]:
    """The dialects in these files, or in all under dialects/. Raises FileError with every mistake of all of them."""
    from sigillum.tenants.dialect.files import read
    names = files or sorted(f"dialects/{p.name}" for p in (folder / "dialects").glob("*.yaml"))
    found, mistakes = list[str](), list[Any]()
    for name in names:
        try:
            found.append(read(folder, name).dialect)
        except FileError as problem:
            if not problem.mistakes:
                raise
            mistakes += problem.mistakes
    if mistakes:
        raise FileError("", where=names[0], mistakes=tuple(mistakes))
    return found


# --- begin one --------------------------------------------------------------------------------------------------------
class Question(NamedTuple):
    """What is asked to begin a dialect; `usual`: what an empty answer means."""

    name: str
    text: str
    usual: str = ""


QUESTIONS = (
    Question("header", "In which header does the administrator's token go (basic: name and password)? ", "Authorization"),
    Question("value", "What stands in that header, with {secret} for the token? ", "Bearer {secret}"),
    Question("accounts", "Which address lists the accounts, below the tenant's own (like /v1/users)? "),
    Question("items", "Where in that answer does the list stand (a JSON Pointer; empty: it is the list itself)? "),
    Question("id", "Where in an entry does its id stand (like /id)? ", "/id"),
    Question("login", "Where in an entry does the account's name stand (like /login)? ", "/name"),
    Question("arrival", "How long may a change take until look-ups show it (at-once, unknown, or like 30s)? ", "unknown"),
)


def draft(name: str, answers: dict[str, str]) -> str:
    """A dialect to begin with. What nobody answered stands in it as a remark, and is not described."""
    login = answers["login"].rpartition("/")[2] or "name"
    way = "{basic: '{admin}'}" if answers["header"] == "basic" else \
        f"{{header: {answers['header']}, value: {_quoted(answers['value'])}}}"
    items = f", items: {answers['items']}" if answers["items"] else ""
    accounts = answers["accounts"].rstrip("/")
    return f"""\
dialect: {name}
about: ''                      # which product and version, where you read about it, and when
ways_in:
  administrator: {way}
  identity: {{}}                 # how accounts sign in, like api-token: {{header: Authorization, value: 'Bearer {{secret}}'}}
says: {{arrival: {answers['arrival']}}}
things:
  account:
    id: {answers['id']}
    shows: {{name: {answers['login']}}}
    all: {{get: {accounts}{items}}}
    one: {{get: '{accounts}/{{id}}'}}
    # Not described yet, and so never done there:
    # make: {{post: {accounts}, body: {{{login}: '{{name}}'}}}}
    # change: [{{fields: [active], patch: '{accounts}/{{id}}', body: {{active: '{{active}}'}}}}]
    # end: {{delete: '{accounts}/{{id}}'}}
# Further things: team, place, role, grant, credential. docs/dialects.md shows a whole example.
"""


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


# --- prove one --------------------------------------------------------------------------------------------------------
def kept_of(office: Office, tenant: str) -> tuple[str, str]:
    """What trying it told of kill safety, and on which day; nothing where it was never tried."""
    kept = office.keepings.discovered(f"dialect_{tenant}")
    return (str(kept["safety"]), str(kept["at"])) if kept and "safety" in kept else ("", "")


def reach(office: Office, name: str) -> DialectTenant:
    """A tenant of the driver dialect. Raises UsageError where it is another."""
    from sigillum.tenants.dialect.driver import DialectTenant
    tenant = office.tenants.reach(name)
    if not isinstance(tenant, DialectTenant):
        raise UsageError(f"{name} is not spoken to by a dialect", where="dialect try",
                         mend="name a tenant whose driver is dialect")
    return tenant


def try_(office: Office, name: str, at: str = "") -> Tried:
    """Everything that the dialect describes, done once with an identity of its own. Raises UsageError, UnreachableError."""
    tenant = reach(office, name)
    before = office.keepings.discovered(f"dialect_{name}") or {}
    identity = f"{TRIAL}-{secrets.token_hex(3)}"
    office.keepings.discover(f"dialect_{name}", {**before, "trial": identity})

    def told(row: Row) -> None:
        office.settings.progress(Progress(name, f"{row.what}: {row.came}"))
    trial = _Trial(tenant, identity, at, told)
    if before.get("trial"):
        trial.clear(str(before["trial"]))
    trial.first(Query(ACCOUNT, "name", identity))  # where nobody answers, nothing is said of the dialect
    trial.run()
    now = format_instant(whole_second(office.tenants.now(name)))
    office.keepings.discover(f"dialect_{name}", {**({"safety": trial.done.safety, "at": now} if trial.done.safety else {
        n: v for n, v in before.items() if n != "trial"}), **({"trial": identity} if trial.done.left else {})})
    return trial.done


class _Trial:
    """One run: what it made, so that all of it ends, whatever happens between."""

    def __init__(self, tenant: DialectTenant, identity: str, at: str, told: Callable[[Row], None]) -> None:
        self.tenant, self.identity, self.at, self.told = tenant, identity, at, told
        self.done = Tried(tenant.address.name, identity)
        self.made: list[tuple[Kind[Any], str]] = []
        self.dialect = tenant.dialect

    def row(self, what: str, came: str, why: str = "") -> None:
        self.done.rows.append(Row(what, came, why))
        self.told(self.done.rows[-1])

    def first(self, query: Query[Any]) -> Record[Any] | None:
        fact = self.tenant.facts([query])[query]
        if not fact.known:
            raise RefusedError(fact.unknown, where=self.tenant.address.name,
                               mend="compare the dialect with the tenant's reference")
        return fact.first

    def step(self, what: str, do: Callable[[], str]) -> bool:
        """One line: what `do` says, is what differs. Nothing stops the rest."""
        try:
            differs = do()
        except SigillumError as problem:
            differs = problem.what
        self.row(what, DIFFERS if differs else WORKS, differs)
        return not differs

    def clear(self, name: str) -> None:
        """What an interrupted run left."""
        left = self.first(Query(ACCOUNT, "name", name))
        if left is not None:
            self.tenant.end(End(ACCOUNT, left.id))

    def run(self) -> None:
        try:
            if self._account():
                self._change()
                place = self._place()
                self._credentials(place)
        finally:
            self._end()

    # --- the identity ---------------------------------------------------------------------------------------------------
    def _described(self, kind: Kind[Any], *ways: str) -> bool:
        section = self.tenant.things.section(kind)
        lacking = [w for w in ways if section is None or (not getattr(section, w) and not (section.document and w != "change"))]
        if lacking:
            self.row(f"{kind.name}: {', '.join(lacking)}", NOT_DESCRIBED)
        return not lacking

    def _make(self, kind: Kind[Any], part: dict[str, Any], what: str) -> Record[Any] | None:
        """Made, read back and compared; and once more, which must not make another one."""
        mark = f"trial-{secrets.token_hex(8)}"
        found: list[Record[Any]] = []

        def make() -> str:
            reply = self.tenant.make(Make(kind, part), mark)
            if reply.result is not Result.DONE or reply.record is None:
                return f"it was not made: {reply.detail or reply.result}"
            self.made.append((kind, reply.record.id))
            back = self.tenant.read(kind, reply.record.id)
            if back is None:
                return "it is not shown after it was made"
            found.append(back)
            wrong = differing(back, {n: v for n, v in part.items() if n != "active"}, self.tenant.profile.carried(kind))
            return "; ".join(f"{n} is {plain(have)} and was sent as {plain(want)}" for n, (have, want) in wrong.items())
        if not self.step(f"make {what}, and read it back", make) and not found:
            return None
        self._twice(kind, part, mark, found[0], what)
        return found[0]

    def _twice(self, kind: Kind[Any], part: dict[str, Any], mark: str, made: Record[Any], what: str) -> None:
        """Whether ours is found again after a lost answer: by the mark, or by its name alone."""
        marked = kind.name not in self.tenant.profile.unmarked
        by_mark = False
        if marked:
            found = self.first(Query(kind, "mark", mark))
            by_mark = found is not None and found.id == made.id
            self.row(f"find {what} by our mark", WORKS if by_mark else DIFFERS, "" if by_mark else "it is not found by it")
        reply = self.tenant.make(Make(kind, part), mark)
        same = reply.record is not None and reply.record.id == made.id
        if reply.result is Result.DONE and reply.record is not None and not same:
            self.made.append((kind, reply.record.id))
        again = {Result.EXISTS: "refused, as it should be", Result.DONE: "the same one was answered" if same else
                 "another one was made: only our mark tells them apart"}.get(reply.result, reply.detail)
        self.row(f"make {what} again", WORKS if reply.result is Result.EXISTS or same or by_mark else DIFFERS, again)
        if kind is ACCOUNT:
            self.done.safety = MARKED if by_mark else NAMED if reply.result is Result.EXISTS else NONE

    def _account(self) -> bool:
        if not self._described(ACCOUNT, "make", "end"):
            return False
        part = {"name": self.identity, "display": "A trial of Sigillum", "active": True}
        record = self._make(ACCOUNT, part, "an account")
        if record is not None:
            self.step("find it by its name", lambda: "" if (f := self.first(Query(ACCOUNT, "name", self.identity))) is not None
                      and f.id == record.id else "another one, or none, is found")
        return record is not None

    @property
    def account(self) -> str:
        return next(i for k, i in self.made if k is ACCOUNT)

    def _change(self) -> None:
        section = self.tenant.things.section(ACCOUNT)
        assert section is not None
        fields = {f for c in section.change for f in c.fields}
        for name, values in (("display", ("Another name",)), ("active", (False, True))):
            if name not in fields:
                self.row(f"account: change {name}", NOT_DESCRIBED)
                continue
            for value in values:
                def change(name: str = name, value: Any = value) -> str:
                    before = self.tenant.read(ACCOUNT, self.account)
                    reply = self.tenant.change(Change(ACCOUNT, self.account, {name: value}, before.version if before else ""))
                    back = self.tenant.read(ACCOUNT, self.account)
                    if reply.result is not Result.DONE or back is None:
                        return reply.detail or str(reply.result)
                    return "" if ACCOUNT.same(name, back.value(name), value) else f"{name} is {back.value(name)!r} afterwards"
                about = f"switch it {'on again' if value else 'off'}" if name == "active" else f"change {name} of it"
                self.step(f"{about}, and read it back", change)

    # --- rights ---------------------------------------------------------------------------------------------------------
    def _place(self) -> Record[Any] | None:
        """A narrow right at the place that was named."""
        if not self.at:
            self.row("grant, and what it allows", NOT_TRIED, "no place is named: `--at PLACE`, one that is marked for trials")
            return None
        place = self.first(Query(PLACE, "path", self.at))
        if place is None:
            raise SomebodyError(f"there is no place {self.at} at {self.tenant.address.name}", where="--at",
                                mend="name one that is there")
        if not self._described(GRANT, "make", "end"):
            return place
        query = Query(ROLE, "all")
        roles = [r for r in self.tenant.facts([query])[query].records if widest(r) == "looks"]
        if not roles:
            self.row("grant", NOT_TRIED, "there is no role that only looks")
            return place
        role = roles[0]
        part = {"principal": self.account, "carrier": "account", "role": role.body.name, "role_id": role.id, "place": self.at,
                "place_id": place.id, "where": (), "reason": "a trial", "start": None, "until": None}
        self._make(GRANT, part, f"a grant of {role.body.name} at {self.at}")
        section = self.tenant.things.section(GRANT)
        if section is not None and section.document is not None:
            unguarded = self.tenant.things.documents.unguarded(section.document, {**self.tenant.things.of_record(place)})
            self.row("an old revision of its document is refused", DIFFERS if unguarded else WORKS,
                     "it was taken: whoever writes at the same time may be overwritten" if unguarded else "")
        return place

    # --- credentials ------------------------------------------------------------------------------------------------------
    def _credentials(self, place: Record[Any] | None) -> None:
        if not self._described(CREDENTIAL, "make", "end"):
            return
        for kind in self.dialect.ways_in.identity:
            if kind == "key-pair":
                self.row("a key pair", NOT_TRIED, "nothing is signed here")
                continue
            password = Secret(secrets.token_urlsafe(24)) if kind == "password" else None
            part = {"principal": self.account, "carrier": "account", "type": kind, "public_key": None, "name": TRIAL,
                    "limits": (), "until": self._until(), "active": True,
                    **({"password": password} if password is not None else {})}
            made = self._make(CREDENTIAL, part, f"a credential ({kind})")
            if made is None:
                continue
            secret = password or self._fetched(made.id)
            if secret is not None:
                self._sign_in(kind, made, secret, place)

    def _until(self) -> datetime:
        """An end that the tenant can have."""
        grain = self.tenant.profile.credential_grain
        soonest = whole_second(self.tenant.speaker.now) + LIFE + timedelta(seconds=grain - 1)
        return soonest - timedelta(seconds=int(soonest.timestamp()) % grain)

    def _fetched(self, identity: str) -> Secret | None:
        reply = self.tenant.fetch_secret(identity)
        caught = reply.secret is not None
        self.row("the secret is caught", WORKS if caught else DIFFERS, "" if caught else reply.detail)
        return reply.secret

    def _sign_in(self, kind: str, made: Record[Any], secret: Secret, place: Record[Any] | None) -> None:
        token = kind == "api-token"
        proof = Proof(self.account, token=secret if token else None, secret=None if token else secret,
                      account=self.identity if kind == "password" else "")
        found: list[SignedIn] = []
        if not self.step(f"sign in with it ({kind})", lambda: found.append(self.tenant.sign_in(proof)) or ""):  # type: ignore[func-returns-value]
            return
        for name, operation in self.tenant.profile.operations.items():
            if place is None or operation.class_ != "looks":
                self.row(f"try {name}", NOT_TRIED, "no place is named" if place is None else "it does more than look")
                continue
            trial = self.tenant.attempt(found[0], operation, self.at)
            self.row(f"try {name} at {self.at}", WORKS if trial.allowed is not None else DIFFERS, trial.reason)
        if self.step("end it, and read that it is gone", lambda: self._ended(CREDENTIAL, made.id)):
            self.made.remove((CREDENTIAL, made.id))
            self._still(proof)

    def _still(self, proof: Proof) -> None:
        what = "sign in with it again is refused"
        try:
            taken = self.tenant.taken(self.tenant.sign_in(proof))
        except RefusedError:
            taken = False
        if taken is None:
            self.row(what, NOT_TRIED, "nobody can be asked: the dialect has no `who`")
        else:
            self.row(what, DIFFERS if taken else WORKS, "it is still taken" if taken else "")

    # --- the end ----------------------------------------------------------------------------------------------------------
    def _ended(self, kind: Kind[Any], identity: str) -> str:
        reply: Reply = self.tenant.end(End(kind, identity))
        if reply.result is not Result.DONE:
            return reply.detail or str(reply.result)
        if self.tenant.read(kind, identity) is not None:
            return "it is still shown"
        again = self.tenant.end(End(kind, identity))
        return "" if again.result in (Result.MISSING, Result.DONE) else f"ending it again: {again.detail or again.result}"

    def _end(self) -> None:
        """All that was made, the account last."""
        for kind, identity in reversed(self.made):
            if not self.step(f"end the {kind.name}, and read that it is gone", lambda k=kind, i=identity: self._ended(k, i)):  # type: ignore[misc]
                self.done.left.append(f"{kind.name} {identity}")


def old(at: str, now: Any) -> bool:
    """Was it tried so long ago that it should be tried again?"""
    return bool(at) and parse_instant(at) + OLD < now
