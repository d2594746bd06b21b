"""One wanted grant with what it refers to, as far as the tenant shows it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sigillum.core.charter.charter import SELF, GrantWant
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.provides import OwnRole
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import principal, somebody, unknown
from sigillum.core.kinds.access import GRANT, HERE, PLACE, ROLE, Grant, widest
from sigillum.core.kinds.kind import Fact, Query, Record
from sigillum.core.values.marks import Id, Mark
from sigillum.core.values.text import did_you_mean, lines

from .windows import instant

NAME = "grant"


NOBODY: Fact[Grant] = Fact()


def mark_of(seen: Seen, want: GrantWant) -> Mark:
    return seen.mark(NAME, *want.key)


class WantedGrant:
    """One wanted grant with what it refers to, as far as the tenant shows it."""

    def __init__(self, seen: Seen, draft: Draft, want: GrantWant) -> None:
        self.seen, self.draft, self.want, self.mark = seen, draft, want, mark_of(seen, want)
        self.over = ""  # where one has one role at a place: the one that it takes the place of
        self.own = draft.one(OwnRole, seen.tenant, lambda r: r.role.says(name=want.role))
        self.wished = any(r.name == want.role for r in seen.charter.roles)
        self.role_fact = seen.ask(Query(ROLE, "name", want.role))
        self.role = self.own.role if self.own is not None else None if self.wished else self.role_fact.first
        self.place = seen.ask(Query(PLACE, "path", want.at)) if want.at != SELF else Fact()
        for path in lines([want.at]) if want.at != SELF else ():
            seen.ask(Query(PLACE, "path", path))
        self.holder, self.holder_fact, self.said = somebody(seen, want.to) if want.to else (None, Fact(), "")
        self.theirs = seen.ask(Query(GRANT, "principal", self.holder.id)) if self.holder is not None else NOBODY

    @property
    def carrier(self) -> Id:
        """Who holds it."""
        if self.holder is not None:
            return self.holder.id
        who = principal(self.seen, self.draft)
        assert who is not None
        return who.id

    @property
    def spot(self) -> str:
        """The place as a tenant shows it: a path, or a principal as the place."""
        who = principal(self.seen, self.draft)
        assert who is not None
        return self.want.at if self.want.at != SELF else f"@{who.id if isinstance(who.id, str) else f'({who.id.step})'}"

    @property
    def reach(self) -> str:
        """Where it counts, where that differs from what is usual there."""
        usual = self.seen.profile.grants_reach
        return "" if self.want.reach == usual else self.want.reach

    @property
    def permitted(self) -> tuple[tuple[str, str], ...]:
        """What its role allows there: a permission of other kinds of place means nothing, unless it counts below, too."""
        assert self.role is not None
        place, operations = self.place.first, self.seen.profile.operations
        if place is None or (self.want.reach or self.seen.profile.grants_reach) != HERE:
            return self.role.body.permissions
        rules = ((p, operations.get(p[0])) for p in self.role.body.permissions)
        return tuple(p for p, rule in rules if rule is None or rule.means(str(place.value("type"))))

    def resolvable(self) -> bool:
        """Do role and place exist? Adds the mistakes where they do not."""
        seen, draft, want, good = self.seen, self.draft, self.want, True
        if self.reach and not seen.profile.reach_chosen:
            draft.wrong(
                "grant-reach",
                f"{want.words()}: how far a grant reaches cannot be chosen at {seen.tenant}",
                "leave `reach` out",
                want.position,
            )
            good = False
        if not self.role_fact.known or not self.place.known:
            hidden: Fact[Any] = self.place if self.role_fact.known else self.role_fact
            unknown(seen, draft, hidden, f"the role {want.role} or the place {want.at}")
            return False
        if self.role is None and self.wished:
            return False  # what is wrong with a role of its own is told where it is made
        if self.role is None:
            known = [r.body.name for r in seen.ask(Query(ROLE, "all")).records]
            draft.wrong(
                "role-unknown", f"{seen.tenant} has no role {want.role!r}", did_you_mean(want.role, known), want.position
            )
            good = False
        elif not want.because and {c for _, c in self.role.body.permissions} & seen.rules.because:
            draft.wrong(
                "because-missing",
                f"the role {want.role} {widest(self.role).replace('-', ' ')} and no reason is given",
                "add `because: ...` to the grant (a house rule asks for it)",
                want.position,
            )
            good = False
        if want.at != SELF and self.place.first is None:
            self._no_place()
            good = False
        if want.to and self.holder is None:
            if not self.holder_fact.known:
                unknown(seen, draft, self.holder_fact, f"the account {want.to}")
                return False
            draft.wrong(
                "principal-unknown",
                f"{seen.tenant} has no account or team {want.to!r}",
                self.said or "write its name as the tenant has it",
                want.position,
            )
            good = False
        return good

    def _no_place(self) -> None:
        seen, want = self.seen, self.want
        root, _, rest = want.at.partition("/")
        siblings = [p.body.path for p in seen.ask(Query(PLACE, "under", want.at.rpartition("/")[0])).records]
        if rest and not seen.ask(Query(PLACE, "path", root)).records:
            self.draft.wrong(
                "place-not-in-tree",
                f"{want.at!r} does not lie in the tree of {seen.tenant}",
                "begin with one of the tenant's own roots",
                want.position,
            )
        else:
            self.draft.wrong(
                "place-unknown", f"{seen.tenant} has no place {want.at!r}", did_you_mean(want.at, siblings), want.position
            )

    def another(self, record: Record[Grant]) -> bool:
        """Is it shown under our id, and a right to something else by now? Somebody raised or lowered it."""
        return record.denies(role=self.want.role, place=self.spot, reach=self.reach)

    def moved(self, record: Record[Grant], terms: Mapping[str, Any]) -> bool:
        """Does it show another window or label rule than it was made with?"""
        window = {"start": instant(terms, "from"), "until": instant(terms, "until")}
        return record.denies(**window, where=self.want.where)

    def alike(self, record: Record[Grant]) -> bool:
        who, body = principal(self.seen, self.draft), record.body
        carriers = (self.carrier, who.id if who is not None and not self.want.to else None)
        return (
            body.role == self.want.role
            and body.place == self.spot
            and body.reach == self.reach
            and GRANT.same("where", body.where, self.want.where)
            and body.principal in carriers
        )
