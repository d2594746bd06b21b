"""The facet *membership*: the teams that an identity is in, and the members that a team has."""

from __future__ import annotations

from collections.abc import Iterable

from sigillum.core.charter.charter import Charter, MemberWant
from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.provides import Granted, ItsPrincipal, Ready
from sigillum.core.facets.seen import Seen
from sigillum.core.facets.standing import adopt, end_extra, found, principal, somebody, unknown
from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.changes import Entry
from sigillum.core.kinds.identities import ACCOUNT, TEAM, Team
from sigillum.core.kinds.kind import Query, Record, members
from sigillum.core.records.history import Generation, State
from sigillum.core.records.steps import Adopt, Ask, Await, Step, StepKind, Usual
from sigillum.core.values.marks import Id, Mark, StepId

NAME = "membership"


def waits_for(charter: Charter) -> Iterable[str]:
    """Teams go before those who join them, members before their team."""
    return (m.name for m in (*charter.member_of, *charter.members))


def in_team(seen: Seen, team: str) -> Mark:
    return seen.mark(NAME, ("team", team))


def with_member(seen: Seen, member: str) -> Mark:
    return seen.mark(NAME, ("member", member))


def compare(seen: Seen, draft: Draft) -> None:
    """Join what is wanted, and leave what only we joined."""
    for want in seen.charter.member_of:
        _join(seen, draft, want)
    for want in seen.charter.members:
        _take_in(seen, draft, want)
    _not_wanted(seen, draft)
    if seen.charter.is_team and not seen.away:
        _strangers(seen, draft)
    _joined_by_others(seen, draft)


def _strangers(seen: Seen, draft: Draft) -> None:
    """Members of our team that no charter here asks for: somebody else put them in, and what the team may they may."""
    who = principal(seen, draft)
    team = seen.ask(Query(TEAM, "id", who.id)).first if who is not None and isinstance(who.id, str) else None
    if team is None or seen.history.find(TEAM, seen.tenant) is None:
        return
    wanted = {hit.id for w in seen.charter.members for hit in [somebody(seen, w.name)[0]] if hit is not None}
    ours = {g.value for g in seen.history.of(NAME, seen.tenant)}
    for member in team.body.members:
        if member in wanted | ours or seen.books.joins(seen.tenant, member, seen.charter.identity.name):
            continue
        known = next((r for kind in (ACCOUNT, TEAM) for r in seen.ask(Query(kind, "id", member)).records), None)
        name = str(known.value("name")) if known is not None else member
        _extra(seen, draft, "member", member, team.id, member, f"{name} is in {seen.charter.identity.name}")


def _joined_by_others(seen: Seen, draft: Draft) -> None:
    """Teams that the identity is in, and no charter asks for: what such a team may it may."""
    who = principal(seen, draft)
    if who is None or not isinstance(who.id, str):
        return
    wanted, mine = {w.name for w in seen.charter.member_of}, seen.charter.identity.name
    ours = {g.id for g in seen.history.of(NAME, seen.tenant) if g.live}
    for team in seen.ask(Query(TEAM, "member", who.id)).records:
        name = team.body.name
        if name in wanted or team.id in ours or team.body.everyone or seen.books.takes_in(seen.tenant, team.id, mine):
            continue
        _extra(seen, draft, "team", team.id, team.id, who.id, f"{seen.charter.identity.name} is in {name}")


def _extra(seen: Seen, draft: Draft, of: str, key: str, team: str, member: str, what: str) -> None:
    draft.note(f"{of}-extra", f"extra: {what}, and no charter asks for it")
    action = Entry(TEAM, team, "members", member, out=True)
    end_extra(seen, draft, seen.mark(NAME, ("extra", key)), action, f"extra membership: {what}", "leave")


def _join(seen: Seen, draft: Draft, want: MemberWant) -> None:
    fact, who = seen.ask(Query(TEAM, "name", want.name)), principal(seen, draft)
    about = f"membership of {seen.charter.identity.name} in {want.name}"
    if not fact.known:
        unknown(seen, draft, fact, f"the team {want.name}")
    elif fact.first is None and seen.books.has_charter(want.name):
        _later(draft, in_team(seen, want.name), want.name, about)
    elif fact.first is None:
        draft.wrong(
            "team-unknown",
            f"{seen.tenant} has no team {want.name!r}",
            "enact the team's own charter first (`identity: {kind: team}`), or mend the name",
            want.position,
        )
    elif who is not None:
        _one(seen, draft, in_team(seen, want.name), fact.first, fact.first.id, who.id, about)


def _take_in(seen: Seen, draft: Draft, want: MemberWant) -> None:
    hit, fact, said = somebody(seen, want.name)
    about, who = f"membership of {want.name} in {seen.charter.identity.name}", principal(seen, draft)
    team = next(
        (t for t in seen.ask(Query(TEAM, "name", seen.charter.identity.name)).records if who is not None and t.id == who.id),
        None,
    )
    if hit is not None and who is not None:
        _one(seen, draft, with_member(seen, want.name), team, who.id, hit.id, about)
    elif hit is None and not fact.known:
        unknown(seen, draft, fact, f"the account {want.name}")
    elif hit is None and seen.books.has_charter(want.name):
        _later(draft, with_member(seen, want.name), want.name, about)
    elif hit is None:
        draft.wrong(
            "member-unknown",
            f"{seen.tenant} has no account or team {want.name!r}",
            said or "enact its own charter first, or mend the name",
            want.position,
        )


def _later(draft: Draft, mark: Mark, charter: str, about: str) -> None:
    """The other side has a charter here, and was not enacted yet."""
    draft.add(
        Step(
            StepId(mark, 1, "ask"),
            StepKind.ASK,
            f"that {charter} be enacted first: {about}",
            Ask(charter_first=charter),
            why=f"{charter} does not exist there yet",
        )
    )


def _one(seen: Seen, draft: Draft, mark: Mark, team: Record[Team] | None, team_id: Id, member: Id, about: str) -> None:
    generation = seen.history.latest(mark)
    within = team is not None and member in members(team, "members")
    number = 1 if generation is None else generation.number + (generation.state in (State.ENDED, State.MADE) and not within)
    if within:
        if generation is not None and generation.state is State.OPEN and team is not None:
            found(draft, mark, number, about, Adopt(TEAM, team.id, found=True, value=str(member)))
        elif (generation is None or not generation.live) and seen.choices.adopt and team is not None:
            adopt(draft, mark, number + (generation is not None), f"the {about}", Adopt(TEAM, team.id, value=str(member)))
        return
    if generation is not None and generation.state is State.MADE:
        if isinstance(team_id, str) and seen.arriving(generation.made_at):
            draft.add(
                Step(
                    StepId(mark, generation.number, "wait"),
                    StepKind.WAIT,
                    f"until the tenant shows {about}",
                    Await(TEAM, team_id, seen.arrival_seconds, "members", str(member)),
                    why="it was made, and look-ups do not show it yet",
                )
            )
            return
        draft.note("gone", f"{about} was made once and is no longer so")
    joined = draft.add(
        Step(
            StepId(mark, number, "join"),
            StepKind.MAKE,
            about,
            Entry(TEAM, team_id, "members", member),
            draft.by(seen.tenant, Ready),
            TEAM.power,
            Usual.ASKED,
        )
    )
    draft.provide(Granted(seen.tenant), joined)


def _not_wanted(seen: Seen, draft: Draft) -> None:
    who, charter = principal(seen, draft), seen.charter
    if who is None or not isinstance(who.id, str):
        return
    wanted = {in_team(seen, w.name) for w in charter.member_of} | {with_member(seen, w.name) for w in charter.members}
    for generation in seen.history.of(NAME, seen.tenant):
        if generation.mark in wanted or not generation.live:
            continue
        name, team, member = generation.mark.get("team"), generation.id, generation.value
        if not team and name:  # begun, and the answer was not caught
            hit = next((t for t in seen.ask(Query(TEAM, "member", who.id)).records if t.says(name=name)), None)
            team, member = (hit.id, who.id) if hit is not None else ("", "")
        if team:
            _leave(seen, draft, generation, team, member)


def _leave(seen: Seen, draft: Draft, generation: Generation, team: str, member: str) -> None:
    draft.add(
        Step(
            StepId(generation.mark, generation.number, "leave"),
            StepKind.END,
            about_of(generation.mark, seen.charter.identity.name),
            Entry(TEAM, team, "members", member, out=True),
            power=TEAM.power,
            why="the charter no longer asks for it",
        )
    )


def about_of(mark: Mark, identity: str) -> str:
    member, team = mark.get("member"), mark.get("team")
    return f"membership of {member} in {identity}" if member else f"membership of {identity} in {team}"


def last(seen: Seen, draft: Draft) -> None:
    """An account that can do nothing yet is shown as such: nothing is granted to it, here or elsewhere, by any facet."""
    charter = seen.charter
    may = charter.grants or charter.member_of or charter.permissions or charter.delegation is not None
    if seen.away or may or charter.is_team or seen.whole.elsewhere:
        return
    who = principal(seen, draft)
    if who is not None and isinstance(who.id, str):
        grants, teams = seen.ask(Query(GRANT, "principal", who.id)), seen.ask(Query(TEAM, "member", who.id))
        if not grants.known or not teams.known or grants.records or teams.records:
            return
    tokens = [c.name for c in charter.credentials]
    powerless = f"; {', '.join(tokens)} would be powerless: it gives what its account has, and never more" if tokens else ""
    draft.note(
        "can-nothing",
        f"{charter.identity.name} can do nothing yet: no role is granted to it, and it is in no team{powerless}",
        warning=bool(tokens),
    )


def words(mark: Mark) -> str:
    return f"membership of {mark.get('member')}" if mark.get("member") else f"membership in {mark.get('team')}"


FACET = Facet(
    NAME,
    compare,
    gives=frozenset((Granted,)),
    takes=frozenset((ItsPrincipal, Ready)),
    last=last,
    waits_for=waits_for,
    words=words,
)
