"""The steps of a trial: each a line, whatever was made in it written down, so that all of it ends."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Mapping
from datetime import UTC, datetime, timedelta
from typing import Any, Protocol, runtime_checkable

from sigillum.core.charter.credential_kinds import CREDENTIAL_KINDS
from sigillum.core.kinds.changes import Change, End, Make, plain
from sigillum.core.kinds.identities import ACCOUNT
from sigillum.core.kinds.kind import Kind, Query, Record, compared
from sigillum.core.kinds.signing import CREDENTIAL
from sigillum.core.values.canonical import external_id
from sigillum.core.values.errors import RefusedError, SigillumError
from sigillum.core.values.times import whole_second, within_grain
from sigillum.tenants.port import Reply, Result, Tenant

from .trial_rows import DIFFERS, MARKED, NAMED, NONE, NOT_DESCRIBED, WORKS, Row, Tried

LIFE = timedelta(hours=1)


@runtime_checkable
class Tellable(Protocol):
    """A driver that is told what it can do: nothing that it does not describe is tried."""

    last: str  # the request that was sent last

    def describes(self, kind: Kind[Any], way: str) -> bool:
        """Does it say how such a thing is made, changed (a field), joined or ended?"""
        ...

    def unguarded(self, part: Mapping[str, Any]) -> Callable[[], bool | None] | None:
        """Of a grant that is an entry of a document: what tells, once it is made, whether an old revision is taken."""
        ...


class Steps:
    """What was tried with one identity, and what it made."""

    def __init__(self, tenant: Tenant, identity: str, show: Callable[[Row], None]) -> None:
        self.tenant, self.identity, self.show = tenant, identity, show
        self.done = Tried(tenant.address.name, identity)
        self.made: list[tuple[Kind[Any], str]] = []
        self.told = tenant if isinstance(tenant, Tellable) else None

    @property
    def last(self) -> str:
        """The request that was sent last, where the driver tells it."""
        return f" ({self.told.last})" if self.told is not None else ""

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
            differs = f"{problem.what}{self.last}"
        self.row(what, DIFFERS if differs else WORKS, differs)
        return not differs

    def can(self, kind: Kind[Any], way: str) -> bool:
        if self.told is not None:
            return self.told.describes(kind, way)
        carried = self.tenant.profile.carried(kind)
        return carried is not None and (way in ("make", "end") or way in carried)

    def described(self, kind: Kind[Any], *ways: str) -> bool:
        lacking = [w for w in ways if not self.can(kind, w)]
        if lacking:
            self.row(f"{kind.name}: {', '.join(lacking)}", NOT_DESCRIBED)
        return not lacking

    def make(self, kind: Kind[Any], part: dict[str, Any], what: str) -> Record[Any] | None:
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
        self.twice(kind, part, mark, found[0], what)
        return found[0]

    def twice(self, kind: Kind[Any], part: dict[str, Any], mark: str, made: Record[Any], what: str) -> None:
        """Whether ours is found again after a lost answer: by the mark, or by its name alone."""
        typed = kind is CREDENTIAL and CREDENTIAL_KINDS[part["type"]].typed
        replaced = typed and self.tenant.profile.replaces  # it is part of something else, and bears no mark
        marked = kind.name not in self.tenant.profile.unmarked and not replaced
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

    @property
    def account(self) -> str:
        return next(i for k, i in self.made if k is ACCOUNT)

    def changed(self, name: str, value: Any) -> str:
        before = self.tenant.read(ACCOUNT, self.account)
        reply = self.tenant.change(Change(ACCOUNT, self.account, {name: value}, before.version if before else ""))
        back = self.tenant.read(ACCOUNT, self.account)
        if reply.result is not Result.DONE or back is None:
            return reply.detail or str(reply.result)
        return "" if ACCOUNT.same(name, back.value(name), value) else f"{name} is {back.value(name)!r} afterwards"

    def carried(self, kind: Kind[Any]) -> frozenset[str]:
        return self.tenant.profile.carried(kind) or frozenset()

    def until(self, grain: int) -> datetime:
        """An end that the tenant can have."""
        clock, now = self.tenant.clock, datetime.now(UTC)
        return within_grain(
            whole_second(now + clock.shift if clock is not None else now) + LIFE + timedelta(seconds=grain - 1), grain
        )

    def ended(self, kind: Kind[Any], identity: str) -> str:
        reply: Reply = self.tenant.end(End(kind, identity))
        if reply.result is not Result.DONE:
            return reply.detail or str(reply.result)
        if not reply.seen:
            return ""  # its answer is all there is
        if self.tenant.read(kind, identity) is not None:
            return "it is still shown"
        again = self.tenant.end(End(kind, identity))
        return "" if again.result in (Result.MISSING, Result.DONE) else f"ending it again: {again.detail or again.result}"
