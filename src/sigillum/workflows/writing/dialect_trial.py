"""Trying a dialect: all that it describes, done once with an identity of its own, read back, compared, and ended."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any

from sigillum.core.kinds.access import GRANT, PLACE, widest
from sigillum.core.kinds.changes import Change, End, Entry, Make, plain
from sigillum.core.kinds.identities import ACCOUNT, TEAM
from sigillum.core.kinds.kind import Kind, NotShown, Query, Record, compared
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.canonical import external_id, public_half
from sigillum.core.values.errors import RefusedError, SigillumError, SomebodyError, UnreachableError
from sigillum.core.values.secret import Secret
from sigillum.core.values.times import whole_second
from sigillum.keys.material import make_key
from sigillum.tenants.port import Proof, Reply, Result, SignedIn

from .trial_permissions import ROLES, agreeing, expected
from .trial_rows import DIFFERS, MARKED, NAMED, NONE, NOT_DESCRIBED, NOT_TRIED, WORKS, Row, Tried

if TYPE_CHECKING:
    from sigillum.tenants.dialect.driver import DialectTenant

TRIAL = "sigillum-trial"
LIFE = timedelta(hours=1)


class DialectTrial:
    """One run: what it made, so that all of it ends, whatever happens between."""

    def __init__(self, tenant: DialectTenant, identity: str, at: str, show: Callable[[Row], None]) -> None:
        self.tenant, self.identity, self.at, self.show = tenant, identity, at, show
        self.done = Tried(tenant.address.name, identity)
        self.made: list[tuple[Kind[Any], str]] = []
        self.dialect = tenant.dialect

    def row(self, what: str, came: str, why: str = "") -> None:
        self.done.rows.append(Row(what, came, why))
        self.show(self.done.rows[-1])

    def first(self, query: Query[Any]) -> Record[Any] | None:
        fact = self.tenant.facts([query])[query]
        if not fact.known:
            raise RefusedError(
                fact.unknown, where=self.tenant.address.name, mend="compare the dialect with the tenant's reference"
            )
        return fact.first

    def step(self, what: str, do: Callable[[], str]) -> bool:
        """One line: what `do` says, is what differs. Nothing stops the rest."""
        try:
            differs = do()
        except SigillumError as problem:
            differs = f"{problem.what} ({self.tenant.speaker.last})"
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
                self._team()
                place = self._place()
                self._credentials(place)
            self._store()
        except (RefusedError, UnreachableError) as problem:
            problem.where = f"{problem.where}, {self.tenant.speaker.last}"
            raise
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
        # of the form and length that real ones have
        mark = self.tenant.profile.marked(external_id("trial", secrets.token_hex(8), {}, 1))
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
            wrong = compared(
                back, {n: v for n, v in part.items() if n != "active"}, self.tenant.profile.carried(kind)
            ).different
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
        again = {
            Result.EXISTS: "refused, as it should be",
            Result.DONE: "the same one was answered" if same else "another one was made: only our mark tells them apart",
        }.get(reply.result, reply.detail)
        self.row(f"make {what} again", WORKS if reply.result is Result.EXISTS or same or by_mark else DIFFERS, again)
        if kind is ACCOUNT:
            self.done.safety = MARKED if by_mark else NAMED if reply.result is Result.EXISTS else NONE

    def _account(self) -> bool:
        if not self._described(ACCOUNT, "make", "end"):
            return False
        part = {
            "name": self.identity,
            "display": "A trial of Sigillum",
            "active": True,
            **({"area": self.at} if self.at and self.tenant.profile.accounts_live_in else {}),
        }
        record = self._make(ACCOUNT, part, "an account")
        if record is not None:
            self.step(
                "find it by its name",
                lambda: (
                    ""
                    if (f := self.first(Query(ACCOUNT, "name", self.identity))) is not None and f.id == record.id
                    else "another one, or none, is found"
                ),
            )
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

    def _team(self) -> None:
        """A team of its own, which the account joins and leaves."""
        if not self._described(TEAM, "make", "end"):
            return
        section = self.tenant.things.section(TEAM)
        team = self._make(TEAM, {"name": f"{self.identity}-team"}, "a team")
        if team is None:
            return
        if section is None or "members" not in section.lists:
            self.row("team: members", NOT_DESCRIBED)
            return

        def entered(*, out: bool) -> str:
            reply = self.tenant.enter(Entry(TEAM, team.id, "members", self.account, out=out))
            if reply.result is not Result.DONE:
                return reply.detail or str(reply.result)
            back = self.tenant.read(TEAM, team.id)
            if back is None:
                return "it is not shown any more"
            shown = back.get("members")
            if isinstance(shown, NotShown):
                return shown.why
            return "" if (self.account in shown) is not out else f"its members are {plain(shown)} afterwards"

        if self.step("join the team, and read it back", lambda: entered(out=False)):
            self.step("leave the team, and read it back", lambda: entered(out=True))

    # --- rights ---------------------------------------------------------------------------------------------------------
    def _place(self) -> Record[Any] | None:
        """A narrow right at the place that was named."""
        if not self.at:
            self.row("grant, and what it allows", NOT_TRIED, "no place is named: `--at PLACE`, one that is marked for trials")
            return None
        place = self.first(Query(PLACE, "path", self.at))
        if place is None:
            raise SomebodyError(
                f"there is no place {self.at} at {self.tenant.address.name}", where="--at", mend="name one that is there"
            )
        if not self._described(GRANT, "make", "end"):
            return place
        roles = [r for r in self.tenant.facts([ROLES])[ROLES].records if widest(r) == "looks"]
        if not roles:
            self.row("grant", NOT_TRIED, "there is no role that only looks")
            return place
        role = roles[0]
        part = {
            "principal": self.account,
            "carrier": "account",
            "role": role.body.name,
            "role_id": role.id,
            "place": self.at,
            "place_id": place.id,
            "where": (),
            "reason": "a trial",
            "start": None,
            "until": None,
        }
        section, documents = self.tenant.things.section(GRANT), self.tenant.things.documents
        document = section.document if section is not None else None
        values = self.tenant.things.above(document.of, part) if document is not None else {}
        before = documents.read(document, values, "looking") if document is not None else None
        self._make(GRANT, part, f"a grant of {role.body.name} at {self.at}")
        if document is not None and before is not None:
            unguarded = documents.unguarded(document, values, before)
            self.row(
                "an old revision of its document is refused",
                NOT_TRIED if unguarded is None else DIFFERS if unguarded else WORKS,
                "its revision did not change"
                if unguarded is None
                else "it was taken: whoever writes at the same time may be overwritten"
                if unguarded
                else "",
            )
        return place

    # --- credentials ------------------------------------------------------------------------------------------------------
    def _credentials(self, place: Record[Any] | None) -> None:
        if not self._described(CREDENTIAL, "make", "end"):
            return
        for kind in self.dialect.ways_in.identity:
            key = make_key(algorithm) if kind == "key-pair" and (algorithm := self._algorithm()) else None
            if kind == "key-pair" and key is None:
                self.row("a key pair", NOT_TRIED, "the dialect names no algorithm that is made here")
                continue
            password = Secret(secrets.token_urlsafe(24)) if kind == "password" else None
            part = {
                "principal": self.account,
                "carrier": "account",
                "type": kind,
                "name": TRIAL,
                "public_key": public_half(key) if key is not None else None,
                "limits": (),
                "until": self._until(),
                "active": True,
                **({"password": password} if password is not None else {}),
            }
            made = self._make(CREDENTIAL, part, f"a credential ({kind})")
            if made is None:
                continue
            if key is not None:
                self._sign_in(
                    kind, made, Proof(self.account, key=key, algorithm=str(self._algorithm()), credential=made.id), place
                )
            elif (secret := password or self._fetched(made.id)) is not None:
                token = kind == "api-token"
                self._sign_in(
                    kind,
                    made,
                    Proof(
                        self.account,
                        token=secret if token else None,
                        secret=None if token else secret,
                        account=self.identity if kind == "password" else "",
                        credential=made.id,
                    ),
                    place,
                )

    def _algorithm(self) -> str:
        """By which an assertion of the identity is signed, where such keys are made here."""
        ways = self.dialect.ways_in.identity.get("key-pair", [])
        said = next((way.signs.algorithm for way in ways if way.signs is not None), "")
        return "Ed25519" if said == "EdDSA" else said

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

    def _sign_in(self, kind: str, made: Record[Any], proof: Proof, place: Record[Any] | None) -> None:
        found: list[SignedIn] = []
        if not self.step(f"sign in with it ({kind})", lambda: found.append(self.tenant.sign_in(proof)) or ""):  # type: ignore[func-returns-value]
            return
        for name, operation in self.tenant.profile.operations.items():
            if place is None or operation.class_ != "looks":
                self.row(f"try {name}", NOT_TRIED, "no place is named" if place is None else "it does more than look")
                continue
            wanted = expected(self.tenant, self.account, self.at, name)
            trial, agrees = agreeing(self.tenant, found[0], operation, self.at, wanted)
            said = {True: "allowed", False: "refused", None: "not known"}[wanted]
            why = trial.reason if agrees else f"{trial.reason}, and by its roles it is {said} ({self.tenant.speaker.last})"
            self.row(f"try {name} at {self.at}", WORKS if agrees else DIFFERS, why)
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

    # --- a store ----------------------------------------------------------------------------------------------------------
    def _store(self) -> None:
        """One secret in two generations: kept, read, written anew, destroyed."""
        if self.dialect.store is None:
            return
        if not self.at:
            self.row("keep a secret", NOT_TRIED, "no place is named")
            return
        store = self.tenant.store(f"{self.at}/{self.identity}")
        assert store is not None

        def keep(name: str, content: str) -> str:
            store.put(name, content)
            return "" if store.get(name) == content else "another text is read"

        def destroy() -> str:
            for name in ("trial.1", "trial"):
                store.remove(name)
            return "it is still read" if store.get("trial") is not None or store.get("trial.1") is not None else ""

        for what, name, content in (
            ("keep a secret", "trial.1", "a trial"),
            ("write what consumers read", "trial", "a trial"),
            ("write it anew", "trial", "another trial"),
        ):
            self.step(f"{what}, and read it back", lambda n=name, c=content: keep(n, c))  # type: ignore[misc]
        self.step("destroy it, and read that it is gone", destroy)

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
