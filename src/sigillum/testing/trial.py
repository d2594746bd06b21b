"""Trying a tenant through its driver: everything done once with an identity of its own, read back, compared, and ended.

`dialect try` does it for a description at the real service, and the kit for whoever writes a driver: the checks are the same.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from typing import Any

from sigillum.core.kinds.access import BELOW, GRANT, PLACE, widest
from sigillum.core.kinds.changes import End, Entry, Make, plain
from sigillum.core.kinds.identities import ACCOUNT, TEAM
from sigillum.core.kinds.kind import NotShown, Query, Record
from sigillum.core.values.canonical import external_id
from sigillum.core.values.errors import RefusedError, SomebodyError, UnreachableError
from sigillum.tenants.port import Result, Tenant

from .trial_credentials import TRIAL, Credentials
from .trial_permissions import ROLES
from .trial_rows import DIFFERS, NOT_TRIED, WORKS, Row, Tried
from .trial_steps import Steps

__all__ = ("TRIAL", "DriverTrial")


class DriverTrial:
    """One run: what it made, so that all of it ends, whatever happens between. `account`: what one of a name is made of; `at`:
    the places at which rights are tried.
    """

    def __init__(
        self,
        tenant: Tenant,
        identity: str,
        at: Sequence[str],
        show: Callable[[Row], None] = lambda row: None,
        account: Callable[[str], Mapping[str, Any]] | None = None,
    ) -> None:
        self.steps, self.at, self.part = Steps(tenant, identity, show), at, account or self._part

    @property
    def done(self) -> Tried:
        """What came of it."""
        return self.steps.done

    def _part(self, name: str) -> Mapping[str, Any]:
        return {"name": name, "display": "A trial of Sigillum", "active": True}

    def clear(self, name: str) -> None:
        """What an interrupted run left."""
        left = self.steps.first(Query(ACCOUNT, "name", name))
        if left is not None:
            self.steps.tenant.end(End(ACCOUNT, left.id))

    def run(self) -> None:
        try:
            self._absent()
            if self._account():
                self._change()
                self._team()
                places = [self._place(at) for at in self.at]
                if not places:
                    why = "no place is named: `--at PLACE`, one that is marked for trials"
                    self.steps.row("grant, and what it allows", NOT_TRIED, why)
                Credentials(self.steps).tried(places)
            self._store()
        except (RefusedError, UnreachableError) as problem:
            problem.where = f"{problem.where}, {self.steps.told.last}" if self.steps.told is not None else problem.where
            raise
        finally:
            self._end()

    # --- the identity ---------------------------------------------------------------------------------------------------

    def _absent(self) -> None:
        """What is not there is known not to be there."""

        def look() -> str:
            query: Query[Any] = Query(ACCOUNT, "name", f"{self.steps.identity}-none")
            fact = self.steps.tenant.facts([query])[query]
            return fact.unknown if not fact.known else "something is found" if fact.records else ""

        self.steps.step("look for an account that is not there", look)

    def _account(self) -> bool:
        if not self.steps.described(ACCOUNT, "make", "end"):
            return False
        area = {"area": self.at[0]} if self.at and self.steps.tenant.profile.accounts_live_in else {}
        part = {**self.part(self.steps.identity), **area}
        record = self.steps.make(ACCOUNT, part, "an account")
        if record is not None:
            self.steps.step(
                "find it by its name",
                lambda: (
                    ""
                    if (f := self.steps.first(Query(ACCOUNT, "name", self.steps.identity))) is not None and f.id == record.id
                    else "another one, or none, is found"
                ),
            )
        if record is not None:
            self.steps.step("refuse its name to somebody else", lambda: self._taken(part))
        return record is not None

    def _taken(self, part: dict[str, Any]) -> str:
        """A name that is in use is refused, whatever mark comes with it."""
        mark = self.steps.tenant.profile.marked(external_id("trial", secrets.token_hex(8), {}, 1))
        reply = self.steps.tenant.make(Make(ACCOUNT, part), mark)
        if reply.result is Result.DONE and reply.record is not None and reply.record.id != self.steps.account:
            self.steps.made.append((ACCOUNT, reply.record.id))
            return "another one of that name was made"
        return "" if reply.result is Result.EXISTS else reply.detail or str(reply.result)

    def _change(self) -> None:
        if self.steps.described(ACCOUNT, "display"):
            self.steps.step("change display of it, and read it back", lambda: self.steps.changed("display", "Another name"))
        if self.steps.described(ACCOUNT, "active"):
            for value in (False, True):
                about = f"switch it {'on again' if value else 'off'}, and read it back"
                self.steps.step(about, partial(self.steps.changed, "active", value))

    def _team(self) -> None:
        """A team of its own, which the account joins and leaves."""
        if not self.steps.described(TEAM, "make", "end"):
            return
        team = self.steps.make(TEAM, {"name": f"{self.steps.identity}-team"}, "a team")
        if team is None:
            return
        if not self.steps.described(TEAM, "members"):
            return

        def entered(*, out: bool) -> str:
            reply = self.steps.tenant.enter(Entry(TEAM, team.id, "members", self.steps.account, out=out))
            if reply.result is not Result.DONE:
                return reply.detail or str(reply.result)
            back = self.steps.tenant.read(TEAM, team.id)
            if back is None:
                return "it is not shown any more"
            shown = back.get("members")
            if isinstance(shown, NotShown):
                return shown.why
            return "" if (self.steps.account in shown) is not out else f"its members are {plain(shown)} afterwards"

        if self.steps.step("join the team, and read it back", lambda: entered(out=False)):
            self.steps.step("leave the team, and read it back", lambda: entered(out=True))

    # --- rights ---------------------------------------------------------------------------------------------------------
    def _place(self, at: str) -> Record[Any]:
        """A narrow right at a place that was named; the same once more for what is below, where that can be chosen."""
        place = self.steps.first(Query(PLACE, "path", at))
        if place is None:
            raise SomebodyError(
                f"there is no place {at} at {self.steps.tenant.address.name}", where="--at", mend="name one that is there"
            )
        if not self.steps.described(GRANT, "make", "end"):
            return place
        roles = [r for r in self.steps.tenant.facts([ROLES])[ROLES].records if widest(r) == "looks"]
        if not roles:
            self.steps.row("grant", NOT_TRIED, "there is no role that only looks")
            return place
        role = roles[0]
        part = {
            "principal": self.steps.account,
            "carrier": "account",
            "role": role.body.name,
            "role_id": role.id,
            "place": at,
            "place_id": place.id,
            "where": (),
            "reason": "a trial",
            "start": None,
            "until": self.steps.until(self.steps.tenant.profile.grant_grain) if "until" in self.steps.carried(GRANT) else None,
        }
        check = self.steps.told.unguarded(part) if self.steps.told is not None else None
        self.steps.make(GRANT, part, f"a grant of {role.body.name} at {at}")
        if self.steps.tenant.profile.reach_chosen:
            self.steps.make(GRANT, {**part, "reach": BELOW}, f"a grant of {role.body.name} for what is below {at}")
        if check is not None:
            unguarded = check()
            self.steps.row(
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

    # --- a store ----------------------------------------------------------------------------------------------------------
    def _store(self) -> None:
        """One secret in two generations: kept, read, written anew, destroyed."""
        if not self.steps.tenant.profile.store:
            return
        if not self.at:
            self.steps.row("keep a secret", NOT_TRIED, "no place is named")
            return
        store = self.steps.tenant.store(f"{self.at[0]}/{self.steps.identity}")
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
            self.steps.step(f"{what}, and read it back", partial(keep, name, content))
        self.steps.step("destroy it, and read that it is gone", destroy)

    # --- the end ----------------------------------------------------------------------------------------------------------

    def _end(self) -> None:
        """All that was made, the account last."""
        for kind, identity in reversed(self.steps.made):
            ending = partial(self.steps.ended, kind, identity)
            if not self.steps.step(f"end the {kind.name}, and read that it is gone", ending):
                self.steps.done.left.append(f"{kind.name} {identity}")
